"""Go back one install: the edition before, and the servers' configuration as it was."""

from dataclasses import dataclass
from typing import TYPE_CHECKING

from inkstamp.clock import stamp
from inkstamp.errors import UsageError
from inkstamp.files import remove_tree
from inkstamp.findings import Finding, note, warn
from inkstamp.jobs import install, way_back
from inkstamp.jobs.stamp import settle
from inkstamp.ledger.records import EditionRecord

if TYPE_CHECKING:
    from inkstamp.jobs.workplace import Workplace


@dataclass(frozen=True, slots=True, kw_only=True)
class Undone:
    """What was undone, or would be."""

    certificate: str
    servers: tuple[str, ...]
    edition: int | None
    """The edition that the servers have afterwards; None for none."""
    differences: tuple[str, ...]
    """Unified diffs of configuration files."""
    findings: tuple[Finding, ...]
    done: bool


def undo(workplace: "Workplace", name: str, *, preview: bool) -> Undone:
    """Take the last install of a certificate back; what others changed in the files since then stays.

    Raises:
        UsageError: There is none to undo.
        ServerTrouble: A server refuses, or does not serve the edition before; everything is as it was then.

    """
    entry = workplace.certificate(name)
    with workplace.hold_certificate(name):
        settle(workplace, name)
        with workplace.hold_servers(entry.install):
            folder = install.undoable(workplace, name)
            manifest = way_back.kept(folder) if folder is not None else None
            if folder is None or manifest is None:
                raise UsageError(
                    f"there is no install of “{name}” to undo",
                    advice=f"see `inkstamp history {name}` for what happened to it",
                )
            changes = way_back.reversed_changes(workplace, folder)
            before = workplace.ledger.edition(name, manifest["current"]) if manifest["current"] else None
            findings = _about(workplace, name, before)
            if not preview:
                for server in entry.install:
                    way_back.test_before(workplace.configured(server))
                findings += install.carry_through(workplace, name, entry, before, changes, back=True)
                remove_tree(folder)
    return Undone(
        certificate=name,
        servers=entry.install,
        edition=before.number if before is not None else None,
        differences=way_back.differences(changes),
        findings=tuple(findings),
        done=not preview,
    )


def _about(workplace: "Workplace", name: str, edition: EditionRecord | None) -> list[Finding]:
    if edition is None:
        return [note("edition", name, "had none on these servers before: its names are served without it then")]
    if workplace.clock.now() > edition.not_after:
        return [warn("edition", name, f"edition {edition.number} expired {stamp(edition.not_after)}")]
    return []
