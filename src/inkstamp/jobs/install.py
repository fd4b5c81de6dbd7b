"""Put an edition on its servers, or everything back as it was.

    1. test the configuration as it stands              4. test the configuration
    2. work out the edits                               5. reload
    3. save what stands there, record, then write       6. shake hands and compare
                                                        7. record that it is done

Any failure from 3 to 6 leads to: files and link back byte for byte, reload, an error that says what happened.
A run that was killed in between is found by its record, and `recover` does the same for it.
"""

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from cryptography.hazmat.primitives import hashes

from inkstamp.clock import stamp
from inkstamp.config.model import Certificate
from inkstamp.errors import InkStampError, ServerTrouble
from inkstamp.files import remove_tree
from inkstamp.findings import Finding, good
from inkstamp.jobs import way_back
from inkstamp.ledger.records import EditionRecord, InstallRecord, InstallState
from inkstamp.servers.interface import EditionPaths, ServerKind
from inkstamp.view.handshake import Served, shake_hands

if TYPE_CHECKING:
    from inkstamp.jobs.workplace import Workplace

_LOOK_SECONDS = 15.0
"""A reload takes effect within moments; a server that still serves the old certificate after this did not reload."""
_LOOK_PAUSE = 0.05
_MOST_KEPT = 5
"""Installs of a certificate that can be undone, one after the other."""


def install(workplace: "Workplace", name: str, entry: Certificate, edition: EditionRecord) -> list[Finding]:
    """Put `edition` on the servers of certificate `name`; the caller holds the certificate.

    Returns a finding for each endpoint that was seen to serve it.

    Raises:
        ServerTrouble: A server's configuration was broken before, or refuses ours, or does not take effect.
        FileTrouble: A file cannot be written.

    """
    if not entry.install:  # the shelf alone: there is one step, and nothing to go back to
        workplace.shelf.switch(name, edition.number)
        record = workplace.ledger.begin_install(name, edition.number, ())
        workplace.ledger.end_install(record, InstallState.DONE, "shelved", f"edition {edition.number}")
        return []
    with workplace.hold_servers(entry.install):
        changes = prepare(workplace, name, entry)
        return carry_through(workplace, name, entry, edition, changes)


def carry_through(
    workplace: "Workplace",
    name: str,
    entry: Certificate,
    edition: EditionRecord | None,
    changes: Sequence[way_back.Change],
    *,
    back: bool = False,
) -> list[Finding]:
    """Make the changes, switch to the edition and see that it is served, or put everything back (steps 3 to 7).

    Args:
        workplace: The run's surroundings; the caller holds certificate and servers.
        name: The certificate.
        entry: As configured.
        edition: None when there is to be none any more.
        changes: The edits of the servers' files.
        back: Whether an earlier install is undone by this.

    """
    number = edition.number if edition is not None else None
    parent = _undo_folder(workplace, name)
    folder = way_back.fresh_folder(parent)
    way_back.keep(folder, changes, current=workplace.shelf.current(name), edition=number, done=False)
    record = workplace.ledger.begin_install(name, number or 0, entry.install)
    try:
        way_back.make(workplace, changes)
        workplace.shelf.switch(name, number)
        findings = _take_effect(workplace, entry, edition)
    except InkStampError as error:
        _put_back(workplace, record, error)
        raise
    where = ", ".join(entry.install)
    if back:
        text = f"back to edition {number} on {where}" if number else f"no edition on {where} any more"
        workplace.ledger.end_install(record, InstallState.WENT_BACK, "went back", text)
        remove_tree(folder)
    else:
        workplace.ledger.end_install(record, InstallState.DONE, "installed", f"edition {number} on {where}")
        way_back.remark(folder, done=True)
        way_back.prune(parent, _MOST_KEPT)
    return findings


def tidy(workplace: "Workplace", name: str) -> None:
    """Bring what is kept into line with the ledger, when a run was killed between the two; nothing is under way."""
    parent = _undo_folder(workplace, name)
    last = workplace.ledger.newest_install(name)
    for folder in way_back.kept_folders(parent):
        manifest = way_back.kept(folder) or {}
        if manifest.get("done"):
            continue
        if last is not None and last.state is InstallState.DONE and manifest.get("edition") == last.edition:
            way_back.remark(folder, done=True)
        else:
            remove_tree(folder)


def undoable(workplace: "Workplace", name: str) -> Path | None:
    """Return the folder with what the last install changed; None when there is none to undo."""
    known = way_back.kept_folders(_undo_folder(workplace, name))
    return known[-1] if known else None


def edition_paths(folder: str) -> EditionPaths:
    """Return the files of an edition's folder."""
    return EditionPaths(*(f"{folder}/{name}.pem" for name in ("served", "key", "leaf", "issuers")))


def prepare(workplace: "Workplace", name: str, entry: Certificate) -> list[way_back.Change]:
    """Test the servers as they stand and work out the edits, changing nothing (steps 1 and 2)."""
    changes = []
    files = edition_paths(str(workplace.shelf.current_folder(name)))
    for server_name in entry.install:
        server = workplace.installable(server_name)
        way_back.test_before(server)
        changes += [way_back.Change(server_name, each) for each in server.plan_install(entry.names, files)]
    return changes


def recover(workplace: "Workplace", name: str) -> None:
    """Put back what an install that was killed had changed."""
    record = workplace.ledger.newest_install(name)
    if record is not None and record.state is InstallState.BEGUN and not record.servers:
        # On the shelf alone nothing was saved, since there is nothing to go back to.
        workplace.ledger.end_install(record, InstallState.PUT_BACK, "put back", f"edition {record.edition}: cut short")
    elif record is not None and record.state is InstallState.BEGUN:
        workplace.progress.step(name, "puts back what an interrupted install left")
        _put_back(workplace, record, None)


def _undo_folder(workplace: "Workplace", name: str) -> Path:
    return workplace.home / "undo" / name


def _take_effect(workplace: "Workplace", entry: Certificate, edition: EditionRecord | None) -> list[Finding]:
    """Test, reload, look (steps 4 to 6)."""
    findings = []
    for server_name in entry.install:
        server = workplace.installable(server_name)
        way_back.take_effect(server)
        if edition is not None:
            findings += [_look(workplace, server, name, edition) for name in entry.names]
    return findings


def _look(workplace: "Workplace", server: ServerKind, name: str, edition: EditionRecord) -> Finding:
    """Shake hands with every endpoint of `name` until each serves the edition."""
    endpoints = server.tls_endpoints(name)
    if not endpoints:
        raise ServerTrouble(f"server “{server.name}” has no address that serves {name} with TLS", where=server.name)
    deadline = workplace.clock.monotonic() + _LOOK_SECONDS
    for address, port in endpoints:
        while True:
            served = shake_hands(address, port, name.replace("*", "any", 1))  # what a visitor of a wildcard asks for
            if served.chain and served.chain[0].fingerprint(hashes.SHA256()).hex() == edition.sha256:
                break
            if workplace.clock.monotonic() > deadline:
                raise ServerTrouble(
                    f"server “{server.name}” does not serve the new certificate for {name} after its reload",
                    where=f"{address}:{port}",
                    said=_seen(served),
                    advice="see the server's own error log; it may have kept its old configuration",
                )
            workplace.clock.sleep(_LOOK_PAUSE)
    places = ", ".join(f"{address}:{port}" for address, port in endpoints)
    return good("installed", name, f"{server.name} serves edition {edition.number} at {places}")


def _seen(served: Served) -> str:
    if not served.chain:
        return served.trouble
    leaf = served.chain[0]
    return f"it serves serial {leaf.serial_number:x}, valid until {stamp(leaf.not_valid_after_utc)}"


def _put_back(workplace: "Workplace", record: InstallRecord, error: InkStampError | None) -> None:
    """Bring back files and link, and reload the servers; what went wrong is added to `error`'s advice."""
    folder = way_back.kept_folders(_undo_folder(workplace, record.certificate))[-1]
    manifest = way_back.bring_back(workplace, folder)
    workplace.shelf.switch(record.certificate, manifest["current"])
    trouble = way_back.reload_all(workplace, record.servers)
    why = error.what if error else "the run before was cut short"
    workplace.ledger.end_install(record, InstallState.PUT_BACK, "put back", f"edition {record.edition}: {why}")
    remove_tree(folder)
    if error is not None:
        said = ["all files are back as they were", *trouble]
        again = (
            f"then run `inkstamp stamp {record.certificate}`; edition {record.edition} is kept and needs no new order"
        )
        error.advice = "; ".join(filter(None, [", ".join(said), error.advice or "mend that", again]))
