"""Change one group of servers to an edition, or everything back as it was.

    1. test the configuration as it stands              4. test the configuration
    2. work out the edits                               5. reload
    3. save what stands there, record, then write       6. shake hands and compare
                                                        7. record that it is done

`preparing` does the first two. Any failure from 3 to 6 leads to: files and link back byte for byte, reload, an error
that says what happened. A run that was killed in between is found by its record, and `recover` does the same for it.
"""

import functools
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import TYPE_CHECKING, Any

from cryptography import x509

from inkstamp.clock import stamp
from inkstamp.config.model import Certificate
from inkstamp.errors import InkStampError, ReachTrouble, ServerTrouble
from inkstamp.files import remove_tree
from inkstamp.findings import Finding, good, note
from inkstamp.jobs import way_back
from inkstamp.jobs.earlier import undo_folder
from inkstamp.jobs.preparing import Group, chain_of, handed
from inkstamp.ledger.records import EditionRecord, InstallRecord, InstallState
from inkstamp.pki.keys import describe
from inkstamp.servers.interface import Endpoint, ServerKind, Taker
from inkstamp.view.handshake import Served, shake_hands

if TYPE_CHECKING:
    from inkstamp.jobs.workplace import Workplace

_LOOK_SECONDS = 15.0
"""A reload takes effect within moments; a server that still serves the old certificate after this did not reload."""
_LOOK_PAUSE = 0.05
_AT_ONCE = 8
"""Names looked at in the same moment."""
_MOST_KEPT = 5
"""Installs of a certificate on a group of servers that can be undone, one after the other."""


def bring_back_cut_off(workplace: "Workplace", name: str, entry: Certificate, away: dict[str, ReachTrouble]) -> None:
    """Bring back first what a cut-off install left on a machine that can be reached again.

    Machines that still cannot be are put into `away`.
    """
    for record in workplace.ledger.installs.begun(name):
        if len(record.servers) == 1 and record.servers[0] in entry.install:
            try:
                _put_back(workplace, record, None)
            except ReachTrouble as error:
                away[record.servers[0]] = error


def carry_through(
    workplace: "Workplace",
    name: str,
    entry: Certificate,
    edition: EditionRecord | None,
    group: Group,
    *,
    token: str = "",
) -> list[Finding]:
    """Make a group's changes, switch to the edition and see that it is served, or put all back (steps 3 to 7).

    Args:
        workplace: The run's surroundings; the caller holds certificate and servers.
        name: The certificate.
        entry: As configured.
        edition: None when there is to be none any more.
        group: Servers and changes.
        token: The same for all groups of one install; empty when an earlier install is undone by this.

    """
    number = edition.number if edition is not None else None
    parent = undo_folder(workplace, name)
    before = _present(workplace, name, group)
    held = {each.name: each.holds(name) for each in _takers(workplace, group.servers)}
    had = [each for each in group.servers if workplace.ledger.installs.standing(name, each) is not None]
    folder = way_back.keep_next(parent, group.changes, servers=group.servers, copied=group.copied, before=before,
                           edition=number, token=token, done=False, held=held, had=had)  # fmt: skip
    record = workplace.ledger.installs.begin(name, number or 0, group.servers)
    try:
        way_back.make(workplace, group.changes)
        if not group.copied:
            workplace.shelf.switch(name, number)
        _hand_over(workplace, name, group, edition)
        findings = _take_effect(workplace, group, edition, going_back=not token)
    except InkStampError as error:
        _put_back(workplace, record, error)
        raise
    where = ", ".join(group.servers)
    if not token:
        text = f"back to edition {number} on {where}" if number else f"no edition on {where} any more"
        workplace.ledger.installs.end(record, InstallState.WENT_BACK, "went back", text)
        remove_tree(folder)
    else:
        workplace.ledger.installs.end(record, InstallState.DONE, "installed", f"edition {number} on {where}")
        way_back.remark(folder, done=True)
        way_back.prune(parent, _MOST_KEPT * len(entry.install))
    return findings


def _present(workplace: "Workplace", name: str, group: Group) -> int | None:
    """Return the number of the edition that a group has now; None for none."""
    if not group.copied:
        return workplace.shelf.current(name)
    return workplace.ledger.installs.standing(name, group.servers[0])


def tidy(workplace: "Workplace", name: str) -> None:
    """Bring what is kept into line with the ledger, when a run was killed between the two."""
    installs = workplace.ledger.installs.of(name)
    for folder in way_back.kept_folders(undo_folder(workplace, name)):
        manifest = way_back.kept(folder) or {}
        last = installs.get(next(iter(manifest.get("servers", ())), ""))
        if manifest.get("done") or (last is not None and last.state is InstallState.BEGUN):
            continue
        if last is not None and last.state is InstallState.DONE and manifest.get("edition") == last.edition:
            way_back.remark(folder, done=True)
        else:
            remove_tree(folder)


def recover(workplace: "Workplace", record: InstallRecord) -> None:
    """Put back what an install that was killed had changed; a machine that is away is left for the next run."""
    newest = workplace.ledger.installs.of(record.certificate)
    if any(newest[server].id != record.id for server in record.servers):
        # The servers were changed since, by a run that had put this one's files back.
        workplace.ledger.installs.end(
            record, InstallState.PUT_BACK, "put back", f"edition {record.edition}: superseded"
        )
        return
    if not record.servers:
        # On the shelf alone nothing was saved, since there is nothing to go back to.
        workplace.ledger.installs.end(record, InstallState.PUT_BACK, "put back", f"edition {record.edition}: cut short")
        return
    workplace.progress.step(record.certificate, "puts back what an interrupted install left")
    try:
        _put_back(workplace, record, None)
    except ReachTrouble as error:
        workplace.progress.found(record.certificate, note("installed", ", ".join(record.servers), error.what))


def _takers(workplace: "Workplace", servers: Sequence[str]) -> list[Taker]:
    return [server for each in servers if isinstance(server := workplace.server(each), Taker)]


def _hand_over(workplace: "Workplace", name: str, group: Group, edition: EditionRecord | None) -> None:
    for each in _takers(workplace, group.servers):
        if edition is not None:
            each.take(group.names[each.name], handed(workplace, edition))
        else:
            each.give_back(name, "", None)


def _give_back(workplace: "Workplace", record: InstallRecord, manifest: dict[str, Any]) -> list[str]:
    """Have those that are handed editions serve what they had; returns what they refused of that.

    ReachTrouble when one is away, as of a machine whose files cannot be brought back.
    """
    number = manifest["before"]
    before = workplace.ledger.edition(record.certificate, number) if number else None
    trouble = []
    for each in _takers(workplace, record.servers):
        try:
            each.give_back(record.certificate, manifest["held"].get(each.name, ""),
                           handed(workplace, before) if before is not None else None)  # fmt: skip
        except ServerTrouble as failed:
            trouble.append(f"{each.name} may still have the new one: {failed.said or failed.what}")
    return trouble


def _take_effect(
    workplace: "Workplace", group: Group, edition: EditionRecord | None, *, going_back: bool
) -> list[Finding]:
    """Test, reload, look (steps 4 to 6); a site that had no TLS before is not looked at when going back to that."""
    findings = []
    wanted = chain_of(workplace, edition) if edition is not None else ()
    for server_name, names in group.names.items():
        server = workplace.installable(server_name)
        way_back.take_effect(server)
        looked = [each for each in names if not going_back or server.tls_endpoints(each) != []]
        if edition is not None and looked:
            with ThreadPoolExecutor(max_workers=min(len(looked), _AT_ONCE)) as pool:
                look = functools.partial(_look, workplace, server, edition, wanted)
                findings += list(pool.map(look, looked))
    return findings


def _look(
    workplace: "Workplace", server: ServerKind, edition: EditionRecord, wanted: tuple[x509.Certificate, ...], name: str
) -> Finding:
    """Shake hands with every endpoint of `name` until each serves the edition with its intermediates."""
    endpoints = server.tls_endpoints(name)
    if endpoints is None:
        seen = f"edition {edition.number} is on {server.name}; nobody has looked whether it is served"
        return note(
            "installed", name, seen, f'say where it serves TLS: look = ["host:port"] under [server.{server.name}]'
        )
    if not endpoints:
        raise ServerTrouble(f"server “{server.name}” has no address that serves {name} with TLS", where=server.name)
    deadline = workplace.clock.monotonic() + _LOOK_SECONDS
    asked = name.replace("*", "any", 1)  # what a visitor of a wildcard asks for
    for each in endpoints:
        while True:
            served = served_as(each, asked, wanted[0])
            if set(wanted) <= set(served.chain) and served.chain[0] == wanted[0]:
                break
            if workplace.clock.monotonic() > deadline:
                raise _not_taken(server, name, each, served, wanted)
            workplace.clock.sleep(_LOOK_PAUSE)
    places = ", ".join(map(str, endpoints))
    return good("installed", name, f"{server.name} serves edition {edition.number} at {places}")


def served_as(endpoint: Endpoint, name: str, wanted: x509.Certificate) -> Served:
    """Shake hands; where a certificate with another sort of key comes back, ask for one with the wanted sort."""
    served = shake_hands(endpoint.address, endpoint.port, name, upgrade=endpoint.upgrade)
    algorithm = describe(wanted.public_key()).partition("-")[0]
    if not served.chain or describe(served.chain[0].public_key()).startswith(f"{algorithm}-"):
        return served
    again = shake_hands(endpoint.address, endpoint.port, name, upgrade=endpoint.upgrade, algorithm=algorithm)
    return again if again.chain else served


def _not_taken(
    server: ServerKind, name: str, endpoint: Endpoint, served: Served, wanted: tuple[x509.Certificate, ...]
) -> ServerTrouble:
    if served.chain and served.chain[0] == wanted[0]:
        return ServerTrouble(
            f"server “{server.name}” serves the new certificate for {name} without its intermediates",
            where=str(endpoint),
            said=f"{len(served.chain)} of {len(wanted)} certificates",
            advice="have it read a file with the issuers as well",
        )
    return ServerTrouble(
        f"server “{server.name}” does not serve the new certificate for {name} after its reload",
        where=str(endpoint),
        said=_seen(served),
        advice="see the server's own error log; it may have kept its old configuration",
    )


def _seen(served: Served) -> str:
    if not served.chain:
        return served.trouble
    leaf = served.chain[0]
    return f"it serves serial {leaf.serial_number:x}, valid until {stamp(leaf.not_valid_after_utc)}"


def _put_back(workplace: "Workplace", record: InstallRecord, error: InkStampError | None) -> None:
    """Bring back files and link, and reload the servers; what went wrong is added to `error`'s advice.

    A machine that is away cannot be put back now: with `error` that is added to it, otherwise ReachTrouble.
    """
    folder = _kept_for(workplace, record)
    if folder is None:  # killed before anything was saved, and so before anything was changed
        workplace.ledger.installs.end(record, InstallState.PUT_BACK, "put back", f"edition {record.edition}: cut short")
        return
    try:
        manifest = way_back.bring_back(workplace, folder)
        trouble = _give_back(workplace, record, manifest)
    except ReachTrouble:
        if error is None:
            raise
        later = f"what was changed on {', '.join(record.servers)} is put back as soon as it can be reached"
        error.advice = "; ".join(filter(None, [later, error.advice]))
        return
    if not manifest["copied"]:
        workplace.shelf.switch(record.certificate, manifest["before"])
    trouble += way_back.reload_all(workplace, record.servers)
    why = error.what if error else "the run before was cut short"
    workplace.ledger.installs.end(record, InstallState.PUT_BACK, "put back", f"edition {record.edition}: {why}")
    remove_tree(folder)
    if error is not None:
        said = ["all files are back as they were", *trouble]
        again = (
            f"then run `inkstamp stamp {record.certificate}`; edition {record.edition} is kept and needs no new order"
        )
        error.advice = "; ".join(filter(None, [", ".join(said), error.advice or "mend that", again]))


def _kept_for(workplace: "Workplace", record: InstallRecord) -> Path | None:
    """Return the folder with what stood on a record's servers before it."""
    for folder in reversed(way_back.kept_folders(undo_folder(workplace, record.certificate))):
        manifest = way_back.kept(folder) or {}
        if not manifest.get("done") and tuple(manifest["servers"]) == record.servers:
            return folder
    return None
