"""Go back one install: the edition before, and the servers' configuration as it was."""

from typing import TYPE_CHECKING

from msgspec import Struct

from inkstamp.clock import stamp
from inkstamp.errors import UsageError
from inkstamp.findings import Finding, note, warn
from inkstamp.jobs.deployment.rollout import take_back
from inkstamp.jobs.deployment.undo_log import edition_before, group_back, undoable
from inkstamp.jobs.lifecycle.context import LifecycleContext
from inkstamp.jobs.lifecycle.provisioning import settle
from inkstamp.jobs.status.editions import refuse_revoked
from inkstamp.ledger.records import EditionRecord
from inkstamp.servers import backup

if TYPE_CHECKING:
    from inkstamp.clock import Clock


class Undone(Struct, frozen=True, kw_only=True):
    """What was undone, or would be."""

    certificate: str
    servers: tuple[str, ...]
    edition: int | None
    """The edition that the servers have afterwards; None for none."""
    differences: tuple[str, ...]
    """Unified diffs of configuration files."""
    findings: tuple[Finding, ...]
    done: bool


def undo(context: LifecycleContext, name: str, *, preview: bool) -> Undone:
    """Take the last install of a certificate back; what others changed in the files since then stays.

    Raises:
        UsageError: There is none to undo.
        EditionUnfit: The edition before is revoked; nothing was changed.
        ServerTrouble: A server refuses, or does not serve the edition before; everything is as it was then.

    """
    entry = context.certificates.entry(name)
    with context.locks.certificate(name):
        settle(context, name)
        with context.locks.servers(entry.install):
            folders = undoable(context.home, name)
            if not folders:
                raise UsageError(
                    f"there is no install of “{name}” to undo",
                    advice=f"see `inkstamp history {name}` for what happened to it",
                )
            groups = [group_back(context, name, entry, folder) for folder in folders]
            had_one = any(names for group in groups for names in group.names.values())
            before = edition_before(context, name, folders[0]) if had_one else None
            if before is not None:
                refuse_revoked(context.ledger, before)
            findings = _about(context.clock, name, before)
            if not preview:
                findings += take_back(context, name, entry, folders, groups)
    return Undone(
        certificate=name,
        servers=tuple(server for group in groups for server in group.servers),
        edition=before.number if before is not None else None,
        differences=backup.differences(change for group in groups for change in group.changes),
        findings=tuple(findings),
        done=not preview,
    )


def _about(clock: "Clock", name: str, edition: EditionRecord | None) -> list[Finding]:
    if edition is None:
        return [
            note("edition", name, "no edition was on these servers before: the sites get their previous configuration")
        ]
    if clock.now() > edition.not_after:
        return [warn("edition", name, f"edition {edition.number} expired {stamp(edition.not_after)}")]
    return []
