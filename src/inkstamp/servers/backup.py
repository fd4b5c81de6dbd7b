"""Configuration files of servers: kept as they were, changed, and brought back byte for byte."""

import difflib
import json
import os
import threading
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from msgspec import Struct
from msgspec.structs import replace

from inkstamp.bulkhead import apart
from inkstamp.errors import FileTrouble, InkStampError, ServerTrouble
from inkstamp.files import private_folder, read_bytes, remove_tree, write_bytes
from inkstamp.reach.interface import Host, Rights
from inkstamp.servers.base import TextServer
from inkstamp.servers.interface import FileChange
from inkstamp.servers.reload import reload, take_effect, test_before

if TYPE_CHECKING:
    from inkstamp.key_files import Seal
    from inkstamp.servers.pool import ServerPool

_MANIFEST = "manifest.json"
AFTER = ".after"
"""Ends the names of the files that hold what was to be written."""


class Change(Struct, frozen=True):
    """A file of a configured server, before and after."""

    server: str
    file: FileChange


_KEEPING = threading.Lock()


def _fresh_folder(parent: Path) -> Path:
    """Return a folder below `parent` that is not there yet; the newest one sorts last."""
    names = [each.name for each in parent.iterdir()] if parent.is_dir() else []
    return parent / f"{max((int(each) for each in names if each.isdigit()), default=0) + 1:04d}"


def kept_folders(parent: Path) -> list[Path]:
    """Return the folders below `parent` that `keep` finished, the oldest first."""
    found = parent.iterdir() if parent.is_dir() else ()
    return sorted(each for each in found if each.name.isdigit() and (each / _MANIFEST).is_file())


def prune(parent: Path, most: int) -> None:
    """Remove the oldest of what is kept below `parent`, and what a killed run left half written.

    What leads back to the time before any edition is not removed.
    """
    with _KEEPING:  # what another thread is writing is no half-written leftover
        known = kept_folders(parent)
        kept = [*known[-most:], *(each for each in known[:-most] if is_first(each))] if most else []
        for each in parent.iterdir() if parent.is_dir() else ():
            if each not in kept:
                remove_tree(each)


def is_first(folder: Path) -> bool:
    """Tell whether a kept folder is of the first install of its servers: they had no edition before."""
    return not (kept(folder) or {}).get("before", True)


def keep_next(parent: Path, changes: Sequence[Change], seal: "Seal | None" = None, **more: Any) -> Path:
    """Keep as `keep` does, in a fresh folder below `parent`, and return it; threads may do so at the same time."""
    with _KEEPING:
        folder = _fresh_folder(parent)
        private_folder(parent)
        keep(folder, changes, seal, **more)
    return folder


def keep(folder: Path, changes: Sequence[Change], seal: "Seal | None" = None, **more: Any) -> None:
    """Keep the bytes of all files to be changed, and what else must be known to go back.

    Args:
        folder: Where they are kept.
        changes: What is changed.
        seal: Encrypts what is kept of copies, where the key in them is encrypted elsewhere.
        more: What else must be known.

    """
    remove_tree(folder)
    private_folder(folder.parent)
    private_folder(folder)
    listing = []
    for number, change in enumerate(changes):
        sealed = seal is not None and change.file.rights is not None
        for end, data in (("", change.file.before), (AFTER, change.file.after)):
            if data is not None:  # a file that was not there, or is to be no more, is not here either
                write_bytes(folder / f"{number}{end}", seal.close(data) if seal and sealed else data, mode=0o600)
        rights = {key: _written(getattr(change.file, key)) for key in ("rights", "rights_before")}
        marks = {"own_folder": change.file.own_folder, "sealed": sealed, "shared": change.file.shared}
        listing.append({"server": change.server, "path": change.file.path, "saved": str(number), **rights, **marks})
    write_bytes(folder / _MANIFEST, json.dumps({**more, "files": listing}, indent=1).encode(), mode=0o600)


def remark(folder: Path, **more: Any) -> None:
    """Change what is kept beside the files."""
    manifest = {**(kept(folder) or {}), **more}
    write_bytes(folder / _MANIFEST, json.dumps(manifest, indent=1).encode(), mode=0o600)


def kept(folder: Path) -> dict[str, Any] | None:
    """Return what `keep` wrote; None when there is nothing."""
    file = folder / _MANIFEST
    return _read_manifest(file) if file.exists() else None


def _read_manifest(file: Path) -> dict[str, Any]:
    try:
        found = json.loads(read_bytes(file))
    except (ValueError, RecursionError) as error:
        raise FileTrouble(
            f"{file} is damaged", where=str(file), said=str(error), advice="the saved files are beside it, by number"
        ) from error
    if not isinstance(found, dict) or not isinstance(found.get("files"), list):
        raise FileTrouble(f"{file} is damaged", where=str(file), advice="the saved files are beside it, by number")
    return found


def reversed_changes(
    servers: "ServerPool", folder: Path, seal: "Seal | None" = None, *, nearest: bool = False
) -> list[Change]:
    """Return the kept files that would change if the edits made to them were taken out; later edits of others stay.

    With `nearest`, of several places that look like an edit the one that is nearest to where it was made is taken: an
    install may have copied the lines since. `seal` opens what is encrypted.

    Raises:
        ServerTrouble: What was put into a file cannot be told apart any more.
        ConfigurationError, FileTrouble: What is kept is encrypted, and cannot be opened.

    """
    kept_files = [_Kept(folder, each, seal) for each in (kept(folder) or {})["files"]]
    found = [Change(each.server, _reversed(each, _read(servers, each), nearest=nearest)) for each in kept_files]
    return [each for each in found if each.file.before != each.file.after]


def first_state(
    servers: "ServerPool", folders: Sequence[Path], seal: "Seal | None" = None, *, nearest: bool = False
) -> list[Change]:
    """Return what takes the edits of several kept folders out, the newest first; later edits of others stay.

    `nearest` is as of `reversed_changes`.

    Raises:
        ServerTrouble: What was put into a file cannot be told apart any more.

    """
    found: dict[tuple[str, str], Change] = {}
    for folder in reversed(folders):
        for each in (_Kept(folder, entry, seal) for entry in (kept(folder) or {})["files"]):
            place = each.server, each.path
            known = found.get(place)
            now = known.file.after if known else _read(servers, each)
            change = _reversed(each, now, nearest=nearest)
            before = known.file.before if known else now
            found[place] = Change(each.server, replace(change, before=before))
    return [each for each in found.values() if each.file.before != each.file.after]


def _written(rights: Rights | None) -> list[Any] | None:
    return [rights.mode, rights.owner, rights.group] if rights is not None else None


class _Kept(Struct, frozen=True):
    """A file as it is kept in a folder."""

    folder: Path
    entry: Mapping[str, Any]
    """Of the manifest."""
    seal: "Seal | None"

    @property
    def server(self) -> str:
        return str(self.entry["server"])

    @property
    def path(self) -> str:
        return str(self.entry["path"])

    def saved(self, end: str = "") -> bytes | None:
        """Return the bytes before the change, or what it wrote (AFTER); None where there was no file."""
        file = self.folder / f"{self.entry['saved']}{end}"
        if not file.exists():
            return None
        data = read_bytes(file)
        if not self.entry.get("sealed"):
            return data
        if self.seal is None:
            raise FileTrouble(
                f"{file} is encrypted, and no passphrase is configured for its certificate", where=str(file),
                advice="add the line key_passphrase_file = … that was there when it was made",
            )  # fmt: skip
        return self.seal.open(data, str(file))

    def back(self, now: bytes | None, then: bytes | None) -> FileChange:
        """Return the change from `now` back to what it was."""
        had, has = self.entry["rights_before"], self.entry["rights"]
        rights = Rights(*(had or has)) if has else None
        before = Rights(*has) if has else None
        return FileChange(self.path, now, then, rights, before, own_folder=self.entry["own_folder"],
                          shared=self.entry.get("shared", False))  # fmt: skip


def _read(servers: "ServerPool", each: _Kept) -> bytes | None:
    return servers.get(each.server).host.read_if_there(each.path)


def _reversed(each: _Kept, now: bytes | None, *, nearest: bool) -> FileChange:
    path = each.path
    before, after = each.saved(), each.saved(AFTER)
    is_copy = each.entry["rights"] and not each.entry.get("shared")
    if is_copy or now in (before, after) or now is None or before is None or after is None:
        return each.back(now, before)
    old, new, present = (text.splitlines(keepends=True) for text in (before, after, now))
    matcher = difflib.SequenceMatcher(None, old, new, autojunk=False)
    for kind, old_from, old_to, new_from, new_to in reversed(matcher.get_opcodes()):
        if kind == "equal":
            continue
        made = new[new_from:new_to]
        found = [at for at in range(len(present) - len(made) + 1) if present[at : at + len(made)] == made]
        if nearest:
            found = sorted(found, key=lambda at: abs(at - new_from))[:1]
        if not made or len(found) != 1:
            whole = _taken_out(before, after, now)
            if whole is not None:
                return each.back(now, whole)
            raise ServerTrouble(
                f"{path} was changed since, and the added lines cannot be identified",
                where=path,
                said=b"".join(made).decode("utf-8", "replace"),
                advice="remove these lines by hand, then run the command again",
            )
        present[found[0] : found[0] + len(made)] = old[old_from:old_to]
    return each.back(now, b"".join(present))


def _taken_out(before: bytes, after: bytes, now: bytes) -> bytes | None:
    """Take one change out of a text that was changed in the same lines since; None where it cannot be told apart."""
    begin = _alike(before, after)
    end = _alike(before[begin:][::-1], after[begin:][::-1])
    made, was = after[begin : len(after) - end], before[begin : len(before) - end]
    return now.replace(made, was) if made and now.count(made) == 1 else None


def _alike(first: bytes, second: bytes) -> int:
    """Return how many bytes two texts have in common at their beginning."""
    return len(os.path.commonprefix([first, second]))  # noqa: RUF071  these are no paths


def differences(changes: Iterable[Change]) -> tuple[str, ...]:
    """Return a unified diff for each file."""
    return tuple(
        "".join(
            difflib.unified_diff(
                (each.file.before or b"").decode("utf-8", "replace").splitlines(keepends=True),
                (each.file.after or b"").decode("utf-8", "replace").splitlines(keepends=True),
                each.file.path,
                each.file.path,
                n=2,
            )
        )
        for each in changes
        if each.file.rights is None  # copies of an edition hold its key, which is shown nowhere
    )


def copies(changes: Iterable[Change]) -> tuple[str, ...]:
    """Return the copies of an edition's files that are written, each with who may read it."""
    return tuple(
        f"{each.file.path} on {each.server} ({each.file.rights if each.file.after is not None else 'removed'})"
        for each in changes
        if each.file.rights
    )


def make(servers: "ServerPool", changes: Iterable[Change]) -> None:
    """Write the files as they are to be."""
    for change in changes:
        _write(servers.get(change.server).host, change.file)


def bring_back(servers: "ServerPool", folder: Path, seal: "Seal | None" = None) -> dict[str, Any]:
    """Write the files as they were, for which `seal` opens what is encrypted; returns what else was kept."""
    manifest = _read_manifest(folder / _MANIFEST)
    for each in [_Kept(folder, entry, seal) for entry in manifest["files"]]:
        _write(servers.get(each.server).host, each.back(None, each.saved()))
    return manifest


def _write(host: Host, change: FileChange) -> None:
    if change.after is None:
        host.remove(change.path)
        if change.own_folder:
            host.drop_folder(change.path.rpartition("/")[0])
    elif change.rights is not None:
        host.put(change.path, change.after, change.rights)
    else:
        host.replace(change.path, change.after)


def take_out(servers: "ServerPool", changes: Sequence[Change]) -> None:
    """Write changes that take earlier edits out, and have the servers take that.

    Raises:
        ServerTrouble: A server's configuration is broken already, or it refuses the change; all files are as they were.

    """
    names = dict.fromkeys(each.server for each in changes)
    for name in names:
        test_before(servers.reloadable(name))
    make(servers, changes)
    try:
        for name in names:
            take_effect(servers.reloadable(name))
    except ServerTrouble as error:
        make(servers, [Change(each.server, FileChange(each.file.path, each.file.after, each.file.before))
                       for each in changes])  # fmt: skip
        reload_all(servers, names)
        raise error.amended(advice=f"all files are restored; {error.advice}") from error.__cause__


def reload_all(pool: "ServerPool", servers: Iterable[str]) -> list[str]:
    """Reload servers after their files are back; returns what went wrong with that, as sentences.

    A run that was killed may have had them take what is gone now.
    """
    trouble = []
    for name in servers:
        try:
            with apart():
                server = pool.reloadable(name)
                server.forget()
                if isinstance(server, TextServer):
                    server.doubt()
                reload(server)
        except InkStampError as failed:
            trouble.append(f"the reload after that failed too: {failed.said or failed.what}")
    return trouble
