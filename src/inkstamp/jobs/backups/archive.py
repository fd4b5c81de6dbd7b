"""The archive of a backup: a tar file (pax, POSIX.1-2001) with gzip, whose last member says what counts.

Files that change while it is written are in it more than once; the list at its end has the digest of each that
belongs to it.
"""

import gzip
import hashlib
import io
import os
import posixpath
import stat
import tarfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from datetime import datetime
from pathlib import Path, PurePosixPath
from typing import BinaryIO

import msgspec

from inkstamp.decoding import from_json
from inkstamp.errors import FileTooLarge, FileTrouble
from inkstamp.files import file_trouble, make_private
from inkstamp.printable import one_line

FORMAT = 1
_LIST = "contents.json"
_MOST_FILES = 20_000_000
_MOST_LIST = 2_147_483_648
LARGEST = 17_179_869_184
"""Bytes of one file; ledgers are the largest."""
_MOST_UNPACKED = 137_438_953_472
"""Bytes of all files together: gzip makes a thousand of one."""
_PIECE = 1_048_576
_LONGEST_HEADER = 1_048_576
"""Bytes of all headers of a member, with what is read ahead; ours have some KiB, and a pax header may say 8 GiB."""


class Contents(msgspec.Struct, frozen=True, kw_only=True):
    """What is in a backup."""

    format: int
    made: datetime
    """Aware, UTC."""
    version: str
    """Of Ink Stamp."""
    host: str
    """Name of the machine that it was made on."""
    home: str
    """The data directory, absolute."""
    configured_home: str
    """The data directory as the configuration has it, perhaps relative to its folder; empty where it has none."""
    config: str
    """The configuration file, absolute."""
    ledger: bool
    """Whether the ledger is in it; one in a database is not."""
    files: dict[str, str]
    """Path in the archive, and SHA-256 of the contents; for a symbolic link `-> ` and where it points."""


class ArchiveWriter:
    """Adds files to an archive, and tells at its end which of them count."""

    def __init__(self, target: BinaryIO) -> None:
        self._gzip = gzip.GzipFile(fileobj=target, mode="wb", compresslevel=6, mtime=0)
        self._tar = tarfile.open(fileobj=self._gzip, mode="w", format=tarfile.PAX_FORMAT)  # noqa: SIM115  closed by `end`
        self._files: dict[str, str] = {}
        self._seen: dict[str, tuple[int, int, int]] = {}
        """What was known of each file as it was added: when it was changed, its size, its inode."""

    def add(self, path: Path, name: str) -> None:
        """Add a file or a symbolic link, unless it is in the archive as it is; one that has gone is left out."""
        try:
            found = os.lstat(path)
            state = (found.st_mtime_ns, found.st_size, found.st_ino)
            if self._seen.get(name) == state:
                return
            if stat.S_ISLNK(found.st_mode):
                self._add_link(os.readlink(path), name)
            elif stat.S_ISREG(found.st_mode):
                self._add_file(path, name)
            elif stat.S_ISDIR(found.st_mode):
                self._tar.addfile(self._tar.gettarinfo(path, name))
        except FileNotFoundError:
            return
        _forget_members(self._tar)
        self._seen[name] = state

    def keep_only(self, names: set[str]) -> None:
        """Have those count that are there still."""
        for gone in self._files.keys() - names:
            del self._files[gone]

    def end(self, contents: Contents) -> Contents:
        """Write the list, and end the archive."""
        whole = msgspec.structs.replace(contents, files=dict(sorted(self._files.items())))
        data = msgspec.json.encode(whole)
        member = tarfile.TarInfo(_LIST)
        member.size, member.mode = len(data), 0o600
        self._tar.addfile(member, io.BytesIO(data))
        self._tar.close()
        self._gzip.close()
        return whole

    def _add_link(self, target: str, name: str) -> None:
        member = tarfile.TarInfo(name)
        member.type, member.linkname = tarfile.SYMTYPE, target
        self._tar.addfile(member)
        self._files[name] = f"-> {target}"

    def _add_file(self, path: Path, name: str) -> None:
        handle = os.open(path, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
        with os.fdopen(handle, "rb") as source:
            member = self._tar.gettarinfo(arcname=name, fileobj=source)
            if not member.isreg():
                return
            reader = _Digesting(source, member.size)
            self._tar.addfile(member, reader)
            self._files[name] = reader.digest.hexdigest()


class _Digesting:
    """Reads a file of a given size, digesting it; one that has become shorter meanwhile ends with zero bytes.

    It is read again then, under the ledger's lock.
    """

    def __init__(self, source: BinaryIO, size: int) -> None:
        self._source, self._left = source, size
        self.digest = hashlib.sha256()

    def read(self, size: int = -1, /) -> bytes:
        """Return the next bytes, as many as are asked for or are left."""
        wanted = min(size, self._left) if size >= 0 else self._left
        data = self._source.read(wanted).ljust(wanted, b"\0")
        self._left -= wanted
        self.digest.update(data)
        return data


def unpack(source: BinaryIO, into: Path, where: str) -> Contents:
    """Write what an archive holds into a new folder, which nobody else looks into; returns what is in it.

    Nothing is written outside of `into`, whatever the archive says: only plain files, and links that point to
    something within it; what its list does not have, or has with another digest, is no backup of ours.

    Raises:
        FileTrouble: It is no backup, is damaged, or cannot be written.

    """
    links: dict[str, str] = {}
    contents: Contents | None = None
    with _opened(source, where) as (tar, members):
        for member in members:
            if member.name == _LIST:
                contents = _contents_of(_read(tar, member, _MOST_LIST), where)
            elif member.issym():
                links[_inside(member.name, where)] = member.linkname
            elif member.isreg():
                _write(tar, member, into / _inside(member.name, where))
            elif member.isdir():
                _make_folder(member, into / _inside(member.name, where))
            else:
                raise _no_backup(where, f"{one_line(member.name, 100)} is neither a file nor a link")
    if contents is None:
        raise _no_backup(where, "it ends before its list of contents")
    _settle(into, links, contents, where)
    return contents


def _settle(into: Path, links: dict[str, str], contents: Contents, where: str) -> None:
    """Remove what does not count, make links, and compare digests."""
    for name, expected in contents.files.items():
        path = into / _inside(name, where)
        if expected.startswith("-> "):
            target = links.get(name, "")
            within = posixpath.normpath(posixpath.join(posixpath.dirname(name), target))
            if f"-> {target}" != expected or target.startswith("/") or within.split("/")[0] != name.split("/")[0]:
                raise _no_backup(where, f"{one_line(name, 100)} is a link that leads elsewhere")
        elif not path.is_file() or _digest_of(path) != expected:
            raise _no_backup(where, f"{one_line(name, 100)} is not as it was when the backup was made")
    for path in list(_files_below(into)):
        if not contents.files.get(path.relative_to(into).as_posix(), "-> ").isalnum():
            path.unlink()
    for name in [each for each, expected in contents.files.items() if expected.startswith("-> ")]:
        with file_trouble("make the link", into / name):
            make_private((into / name).parent)
            (into / name).symlink_to(links[name])


def read_list(source: BinaryIO, where: str) -> Contents:
    """Return what is in an archive, whose other members are passed over."""
    with _opened(source, where) as (tar, members):
        for member in members:
            if member.name == _LIST:
                return _contents_of(_read(tar, member, _MOST_LIST), where)
    raise _no_backup(where, "it ends before its list of contents")


class _Limited(io.BufferedIOBase):
    """A stream that gives no more than is allowed at a time: headers of a tar file have no bound of their own."""

    def __init__(self, source: io.BufferedIOBase, where: str) -> None:
        self._source, self._where = source, where
        self.left = _LONGEST_HEADER

    def read(self, size: int | None = -1, /) -> bytes:
        """Return the next bytes; FileTooLarge where that are more than is left."""
        data = self._source.read(size)
        self.left -= len(data)
        if self.left < 0:
            raise _more_than_any(self._where)
        return data


@contextmanager
def _opened(source: BinaryIO, where: str) -> Iterator[tuple[tarfile.TarFile, Iterator[tarfile.TarInfo]]]:
    """Open an archive as a stream, with an iterator of its members."""
    with _telling(where), gzip.GzipFile(fileobj=source) as plain:
        limited = _Limited(plain, where)
        with tarfile.open(fileobj=limited, mode="r|") as tar:
            yield tar, _bounded(tar, limited, where)


def _bounded(tar: tarfile.TarFile, limited: _Limited, where: str) -> Iterator[tarfile.TarInfo]:
    """Yield the members of an archive; FileTooLarge where they are more, or larger, than those of any backup."""
    total = count = 0
    while member := tar.next():
        _forget_members(tar)
        total, count = total + member.size, count + 1
        if count > _MOST_FILES or not 0 <= member.size <= LARGEST or total > _MOST_UNPACKED:
            raise _more_than_any(where)
        limited.left = member.size + _LONGEST_HEADER
        yield member


def _forget_members(tar: tarfile.TarFile) -> None:
    """Have `tar` not keep each member for those who would go back to it: of a million files that is a gigabyte."""
    tar.members = []  # type: ignore[attr-defined]  # an attribute that the types of the library leave out


def _more_than_any(where: str) -> FileTooLarge:
    return FileTooLarge(f"{where} holds more than any backup", where=where, advice="check the path")


@contextmanager
def _telling(where: str) -> Iterator[None]:
    """Turn what tarfile and zlib raise into FileTrouble: also of what is no number, and of headers within headers."""
    try:
        yield
    except (tarfile.TarError, zlib.error, EOFError, gzip.BadGzipFile, ValueError, RecursionError) as error:
        raise _no_backup(where, one_line(str(error), 200)) from error


def _contents_of(data: bytes, where: str) -> Contents:
    try:
        found = from_json(data, Contents)
    except msgspec.MsgspecError as error:
        raise _no_backup(where, one_line(str(error), 200)) from error
    if found.format != FORMAT or found.made.tzinfo is None:
        raise _no_backup(where, f"its format is {found.format}, and this release reads {FORMAT}")
    return found


def _no_backup(where: str, said: str) -> FileTrouble:
    return FileTrouble(
        f"{where} is not a backup that can be restored", where=where, said=said,
        advice="take another backup; nothing was changed",
    )  # fmt: skip


def _inside(name: str, where: str) -> str:
    """Return a member's path; FileTrouble for one that leads out of the folder it is written into."""
    pure = PurePosixPath(name)
    if pure.is_absolute() or not pure.parts or ".." in pure.parts or not name.isprintable() or len(name) > 4096:
        raise _no_backup(where, f"{one_line(name, 100)} is no path in a backup")
    return pure.as_posix()


def _read(tar: tarfile.TarFile, member: tarfile.TarInfo, most: int) -> bytes:
    source = tar.extractfile(member)
    if source is None or member.size > most:
        raise FileTooLarge(f"{one_line(member.name, 100)} is too large", where=_LIST)
    return source.read()


def _write(tar: tarfile.TarFile, member: tarfile.TarInfo, path: Path) -> None:
    source = tar.extractfile(member)
    with file_trouble("write", path):
        make_private(path.parent)
        with suppress(FileNotFoundError):
            path.unlink()
        handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600)
        with os.fdopen(handle, "wb") as out:
            while source is not None and (data := source.read(_PIECE)):
                out.write(data)
            _set_rights(out.fileno(), member)
            out.flush()
            os.fsync(out.fileno())


def _make_folder(member: tarfile.TarInfo, path: Path) -> None:
    with file_trouble("create the folder", path):
        make_private(path)
        handle = os.open(path, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW)
        try:
            _set_rights(handle, member)
        finally:
            os.close(handle)


def _set_rights(handle: int, member: tarfile.TarInfo) -> None:
    """Set the mode as it was, but for what a private file never has; a group that could read keeps that, by name."""
    mode = member.mode & 0o750 | 0o600
    if mode & 0o070:
        import grp  # noqa: PLC0415  for keys that a group may read

        try:
            os.fchown(handle, -1, grp.getgrnam(member.gname).gr_gid)
        except (KeyError, PermissionError):  # no such group here: `key_group` is told by `check`
            mode &= 0o700
    os.fchmod(handle, mode)


def _digest_of(path: Path) -> str:
    with path.open("rb") as source:
        return hashlib.file_digest(source, "sha256").hexdigest()


def _files_below(folder: Path) -> Iterator[Path]:
    for here, _folders, files in os.walk(folder):
        yield from (Path(here, each) for each in files)
