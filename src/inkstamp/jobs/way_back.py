"""Configuration files of servers: kept as they were, changed, and brought back byte for byte."""

import json
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

from inkstamp.errors import ServerTrouble
from inkstamp.files import private_folder, read_bytes, remove_tree, write_bytes
from inkstamp.reach.interface import Ran
from inkstamp.servers.interface import Configured, FileChange

if TYPE_CHECKING:
    from inkstamp.jobs.workplace import Workplace

_MANIFEST = "manifest.json"
AFTER = ".after"
"""Ends the names of the files that hold what was to be written."""


@dataclass(frozen=True, slots=True)
class Change:
    """A file of a configured server, before and after."""

    server: str
    file: FileChange


def keep(folder: Path, changes: Sequence[Change], **more: Any) -> None:
    """Keep the bytes of all files to be changed, and what else must be known to go back."""
    remove_tree(folder)
    private_folder(folder)
    listing = []
    for number, change in enumerate(changes):
        write_bytes(folder / str(number), change.file.before, mode=0o600)
        write_bytes(folder / f"{number}{AFTER}", change.file.after, mode=0o600)
        listing.append({"server": change.server, "path": change.file.path, "saved": str(number)})
    write_bytes(folder / _MANIFEST, json.dumps({**more, "files": listing}, indent=1).encode(), mode=0o600)


def remark(folder: Path, **more: Any) -> None:
    """Change what is kept beside the files."""
    manifest = {**(kept(folder) or {}), **more}
    write_bytes(folder / _MANIFEST, json.dumps(manifest, indent=1).encode(), mode=0o600)


def kept(folder: Path) -> dict[str, Any] | None:
    """Return what `keep` wrote; None when there is nothing."""
    file = folder / _MANIFEST
    found: dict[str, Any] | None = json.loads(read_bytes(file)) if file.exists() else None
    return found


def make(workplace: "Workplace", changes: Iterable[Change]) -> None:
    """Write the files as they are to be."""
    for change in changes:
        workplace.server(change.server).host.replace(change.file.path, change.file.after)


def bring_back(workplace: "Workplace", folder: Path) -> dict[str, Any]:
    """Write the files as they were; returns what else was kept."""
    manifest: dict[str, Any] = json.loads(read_bytes(folder / _MANIFEST))
    for each in manifest["files"]:
        workplace.server(each["server"]).host.replace(each["path"], read_bytes(folder / each["saved"]))
    return manifest


def expect_success(ran: Ran, otherwise: str, advice: str = "") -> None:
    """Raise ServerTrouble with the program's own words when it did not end well."""
    if ran.status != 0:
        raise ServerTrouble(otherwise, where=" ".join(ran.command), said=ran.output, advice=advice)


def test_before(server: Configured) -> None:
    """Read the configuration anew and have it tested, before anything is changed."""
    server.forget()
    broken = f"the configuration of server “{server.name}” is broken already"
    expect_success(server.test(), broken, "mend it first; nothing was changed")


def take_effect(server: Configured) -> None:
    """Have the changed configuration tested and taken."""
    server.forget()
    expect_success(server.test(), f"server “{server.name}” refuses the new configuration")
    reload(server)


def reload(server: Configured) -> None:
    """Have the server take its configuration anew."""
    expect_success(server.reload(), f"server “{server.name}” could not be reloaded", "see that it is running")


def reload_all(workplace: "Workplace", servers: Iterable[str]) -> list[str]:
    """Reload servers after their files are back; returns what went wrong with that, as sentences."""
    trouble = []
    for name in servers:
        server = workplace.configured(name)
        server.forget()
        try:
            reload(server)
        except ServerTrouble as failed:
            trouble.append(f"the reload after that failed too: {failed.said or failed.what}")
    return trouble
