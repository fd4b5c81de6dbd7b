"""Put back what an install changed: after a failure, or when a run was killed in between."""

from collections.abc import Sequence
from datetime import datetime
from pathlib import Path
from typing import Any

from msgspec import Struct

from inkstamp.bulkhead import apart
from inkstamp.config.model import Certificate
from inkstamp.deadline import at_least
from inkstamp.errors import InkStampError, ReachTrouble, ServerTrouble
from inkstamp.files import remove_tree
from inkstamp.findings import bad, note
from inkstamp.home import Home
from inkstamp.jobs.deployment.context import DeploymentContext
from inkstamp.jobs.deployment.plan import handed
from inkstamp.ledger.records import InstallRecord, InstallState
from inkstamp.servers import backup
from inkstamp.servers.interface import Taker
from inkstamp.servers.run_state import start_again

_SECONDS = 900.0
"""For putting back, however little time is left for what went before it."""


class _Brought(Struct, frozen=True):
    """An install whose files are back."""

    record: InstallRecord
    error: InkStampError | None
    """What it failed with; None for one that was cut off."""
    folder: Path
    """What was kept of before."""
    refused: Sequence[str]
    """What those said that are handed editions."""
    up: Sequence[str]
    """The servers that ran before it."""


def bring_back_cut_off(
    context: DeploymentContext, name: str, entry: Certificate, away: dict[str, ReachTrouble]
) -> None:
    """Bring back first what a cut-off install left on a machine that can be reached again.

    Machines that still cannot be are put into `away`.
    """
    for record in context.ledger.installs.begun(name):
        if len(record.servers) == 1 and record.servers[0] in entry.install:
            for found, error in restore(context, [record]):
                if not isinstance(error, ReachTrouble):
                    raise error
                away[found.servers[0]] = error


def tidy(context: DeploymentContext, name: str) -> None:
    """Bring what is kept into line with the ledger, when a run was killed between the two."""
    installs = context.ledger.installs.of(name)
    for folder in backup.kept_folders(context.home.undo(name)):
        manifest = backup.kept(folder) or {}
        last = installs.get(next(iter(manifest.get("servers", ())), ""))
        if manifest.get("done") or (last is not None and last.state is InstallState.BEGUN):
            continue
        if last is not None and last.state is InstallState.DONE and manifest.get("edition") == last.edition:
            backup.remark(folder, done=True)
        else:
            remove_tree(folder)


def recover(context: DeploymentContext, records: Sequence[InstallRecord]) -> None:
    """Put back what installs that were killed had changed; a machine that is unreachable is left for the next run.

    The caller holds certificates and servers.
    """
    installs, cut_off = context.ledger.installs, []
    for record in records:
        newest = installs.of(record.certificate)
        if any(newest[server].id != record.id for server in record.servers):
            # The servers were changed since, by a run that had put this one's files back.
            installs.end(record, InstallState.PUT_BACK, "rolled back", f"edition {record.edition}: superseded")
        elif not record.servers:
            # On the shelf only nothing was saved, since there is nothing to go back to.
            installs.end(record, InstallState.PUT_BACK, "rolled back", f"edition {record.edition}: interrupted")
        else:
            context.progress.step(record.certificate, "rolling back an interrupted install")
            cut_off.append(record)
    for record, error in restore(context, cut_off):
        context.progress.found(record.certificate, note("installed", ", ".join(record.servers), error.what))


def put_back(context: DeploymentContext, failed: Sequence[tuple[InstallRecord, InkStampError]]) -> list[InkStampError]:
    """Bring back files and links of installs that failed, and reload the servers, once.

    What cannot be put back now, as on a machine that is unreachable, stays for the next run. One never keeps the others
    from being put back.

    Returns:
        For each its error, in the same order, with what came of putting it back.

    """
    with at_least(_SECONDS):
        return [each for each in _put_back(context, failed) if each is not None]


def restore(context: DeploymentContext, cut_off: Sequence[InstallRecord]) -> list[tuple[InstallRecord, InkStampError]]:
    """Do the same for installs that were cut off; returned are those that cannot be put back now, and why."""
    with at_least(_SECONDS):
        left = _put_back(context, [(record, None) for record in cut_off])
    return [(record, error) for record, error in zip(cut_off, left, strict=True) if error is not None]


def _put_back(
    context: DeploymentContext, records: Sequence[tuple[InstallRecord, InkStampError | None]]
) -> list[InkStampError | None]:
    """Return for each its error, amended; for one that was cut off why it cannot be put back now, None when it can."""
    results: list[InkStampError | None] = [error for _, error in records]
    brought: dict[int, _Brought] = {}
    for at, (record, error) in enumerate(records):
        folder = _kept_for(context.home, record)
        if folder is None:  # killed before anything was saved, and so before anything was changed
            text = f"edition {record.edition}: interrupted"
            context.ledger.installs.end(record, InstallState.PUT_BACK, "rolled back", text)
            continue
        try:
            with apart():
                refused = _bring_back(context, record, folder)
        except InkStampError as trouble:
            # It stays begun in the ledger, and the next run tries again; the others are put back all the same.
            results[at] = trouble if error is None else _with_what_stays(error, record, trouble)
        else:
            brought[at] = _Brought(record, error, folder, refused, (backup.kept(folder) or {}).get("up", ()))
    touched = dict.fromkeys(name for each in brought.values() for name in each.record.servers)
    after = backup.reload_all(context.servers, touched)
    stopped = _started_again(context, list(brought.values()))
    for at, each in brought.items():
        told = "; ".join(stopped[name] for name in each.up if stopped[name])
        results[at] = _end(context, each, told, after)
    return results


def _with_what_stays(error: InkStampError, record: InstallRecord, trouble: InkStampError) -> InkStampError:
    where = ", ".join(record.servers)
    later = f"what was changed on {where} is restored as soon as it can be reached"
    if not isinstance(trouble, ReachTrouble):
        later = f"what was changed on {where} could not all be restored; the next run tries again: {trouble.what}"
    return error.amended(advice="; ".join(filter(None, [later, error.advice])))


def _end(context: DeploymentContext, brought: _Brought, stopped: str, after: Sequence[str]) -> InkStampError | None:
    """Record that one is back, and say so: in its error, which tells that servers stood still in the first place."""
    record, error = brought.record, brought.error
    why = error.what if error else "the previous run was interrupted"
    context.ledger.installs.end(record, InstallState.PUT_BACK, "rolled back", f"edition {record.edition}: {why}")
    remove_tree(brought.folder)
    if error is None:
        if stopped:
            context.progress.found(record.certificate, bad("installed", ", ".join(record.servers), stopped))
        return None
    said = ", ".join(["all files are restored", *brought.refused, *after])
    again = f"then run `inkstamp stamp {record.certificate}`"
    again += f"; edition {record.edition} is kept and needs no new order"
    advice = "; ".join(filter(None, [said, error.advice or "correct that", again]))
    return error.amended(what="; ".join(filter(None, [error.what, stopped])), advice=advice)


def _started_again(context: DeploymentContext, brought: Sequence[_Brought]) -> dict[str, str]:
    """Start those servers again that were up before and are not now; returns what is to be told, by server."""
    since: dict[str, datetime] = {}
    for each in brought:
        for server in each.up:
            since[server] = min(each.record.at, since.get(server, each.record.at))
    return {server: start_again(context.servers.get(server), context.clock, at) for server, at in since.items()}


def _bring_back(context: DeploymentContext, record: InstallRecord, folder: Path) -> list[str]:
    """Bring files and link back; returns what those refuse that are handed editions."""
    manifest = backup.bring_back(context.servers, folder, context.shelf.seal(record.certificate))
    trouble = _give_back(context, record, manifest)
    if not manifest["copied"]:
        context.local_copy.switch(record.certificate, manifest["before"])
    return trouble


def _kept_for(home: Home, record: InstallRecord) -> Path | None:
    """Return the folder with what stood on a record's servers before it."""
    for folder in reversed(backup.kept_folders(home.undo(record.certificate))):
        manifest = backup.kept(folder) or {}
        if not manifest.get("done") and tuple(manifest["servers"]) == record.servers:
            return folder
    return None


def takers(context: DeploymentContext, servers: Sequence[str]) -> list[Taker]:
    """Return those of some servers that are handed editions."""
    return [server for each in servers if isinstance(server := context.servers.get(each), Taker)]


def _give_back(context: DeploymentContext, record: InstallRecord, manifest: dict[str, Any]) -> list[str]:
    """Have those that are handed editions serve what they had; returns what they refused of that.

    ReachTrouble when one is unreachable, as of a machine whose files cannot be brought back.
    """
    number = manifest["before"]
    before = context.ledger.edition(record.certificate, number) if number else None
    trouble = []
    for each in takers(context, record.servers):
        try:
            each.give_back(record.certificate, manifest["held"].get(each.name, ""),
                           handed(context, before) if before is not None else None)  # fmt: skip
        except ServerTrouble as failed:
            trouble.append(f"{each.name} may still have the new certificate: {failed.said or failed.what}")
    return trouble
