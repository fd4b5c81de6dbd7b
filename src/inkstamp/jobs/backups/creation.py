"""Make a backup of the data directory and the configuration, while runs may be at work."""

import os
import platform
import stat
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import BinaryIO

import msgspec
from msgspec import Struct

from inkstamp import __version__
from inkstamp.config.toml_file import LIMIT, home_as_written
from inkstamp.errors import FileTrouble, UsageError
from inkstamp.files import expect_replaceable, file_trouble, partial_of, private_folder, read_bytes, sync_folder
from inkstamp.findings import Finding, ok, warn
from inkstamp.home import Home
from inkstamp.jobs.backups import archive, encryption
from inkstamp.jobs.backups.archive import ArchiveWriter, Contents
from inkstamp.jobs.backups.context import BackupContext
from inkstamp.jobs.backups.encryption import Protection
from inkstamp.ledger.sqlite import SqliteDatabase
from inkstamp.wording import counted

_OF_THE_MOMENT = frozenset({"locks", "cache", "restoring"})
"""Folders of HOME that hold nothing that lasts."""
_PARTIAL = ".part"
_LARGEST_NAMED = 16_777_216
"""Bytes of a file that the configuration names."""
_COPY = "ledger.db.backup.part"


class BackedUp(Struct, frozen=True):
    """What a backup came to."""

    file: str
    bytes: int
    contents: Contents
    findings: tuple[Finding, ...]


def back_up(context: BackupContext, target: Path, protection: Protection, *, replace: bool) -> BackedUp:
    """Write a backup of all that is needed to go on elsewhere; runs that are at work go on meanwhile.

    Files are read twice: once while others write, then, with the ledger locked, those that have changed since. So what
    is in the backup is what a run would find that was killed in that moment, and kills are survived.

    Args:
        context: The parts of the run.
        target: The file; it is written beside its place and renamed, mode 0600.
        protection: Who can read it.
        replace: Whether it may take the place of an older one.

    Raises:
        UsageError: There is such a file, it would be in the data directory, there is nothing to back up, or it is not
            said who may read it.
        FileTrouble: It cannot be written, or something of ours cannot be read.
        LedgerTrouble: The ledger cannot be read.

    """
    encryption.expect_usable(protection)
    if target.is_relative_to(context.home.folder):
        raise UsageError(f"{target} is in the data directory, and would be in the next backup", where=str(target),
                         advice="name a file elsewhere")  # fmt: skip
    if target.exists() and not replace:
        raise UsageError(f"{target} is there already", where=str(target), advice="name another file, or add --replace")
    has_config = context.configuration.path.is_file()
    if not has_config and not context.has_ledger():
        raise UsageError(
            "there is nothing to back up yet: neither configuration nor ledger",
            where=str(context.configuration.path),
            advice="begin with: inkstamp authority add",
        )
    elsewhere: list[str] = []
    with tempfile.TemporaryFile(dir=private_folder(context.home.folder)) as plain:  # it has no name: nothing is left
        writer = ArchiveWriter(plain)
        contents = writer.end(_gather(context, writer, elsewhere))
        plain.seek(0)
        size = _write(target, plain, protection)
    if contents.ledger:
        context.ledger.note("backed up", f"{counted(len(contents.files), 'file')}, into {target}")
    return BackedUp(str(target), size, contents, tuple(_told(context, contents, target, elsewhere)))


def _gather(context: BackupContext, writer: ArchiveWriter, elsewhere: list[str]) -> Contents:
    """Read all files into the archive; returns the head of its list."""
    for path, name in _named_by_configuration(context, elsewhere):
        writer.add(path, name)
    has_ledger = context.shared is None and context.has_ledger()
    context.progress.step("backup", f"reads {context.home}")
    for path, name in _in_home(context.home):
        writer.add(path, name)
    if has_ledger:
        _with_ledger(context, writer)
    config = context.configuration.path
    return Contents(
        format=archive.FORMAT,
        made=context.clock.now(),
        version=__version__,
        host=platform.node(),
        home=str(context.home),
        configured_home=home_as_written(read_bytes(config, limit=LIMIT)) if config.is_file() else "",
        config=str(config),
        ledger=has_ledger,
        files={},
    )


def _with_ledger(context: BackupContext, writer: ArchiveWriter) -> None:
    """Add the ledger and, while nobody can write it, what has changed in HOME since it was read."""
    database = SqliteDatabase(context.home.ledger)
    copy = context.home.folder / _COPY
    try:
        with database.writing():
            names = {"home/ledger.db"}
            for path, name in _in_home(context.home):
                names.add(name)
                writer.add(path, name)
            names |= {name for _, name in _named_by_configuration(context, [])}
            writer.keep_only(names)
            database.copy_to(copy)
        writer.add(copy, "home/ledger.db")
    finally:
        copy.unlink(missing_ok=True)
        database.close()


def _in_home(home: Home) -> Iterator[tuple[Path, str]]:
    """Yield what lasts of HOME but the ledger, and what it is called in the archive; folders before what is in them."""
    waiting = [(home.folder, "home")]
    while waiting:
        folder, inside = waiting.pop()
        yield folder, inside
        for each in _entries(folder):
            if folder == home.folder and (each.name in _OF_THE_MOMENT or each.name.startswith(home.ledger.name)):
                continue
            name = f"{inside}/{each.name}"
            if each.is_dir(follow_symlinks=False):
                waiting.append((Path(each.path), name))
            elif not each.name.endswith(_PARTIAL):
                yield Path(each.path), name


def _entries(folder: Path) -> "list[os.DirEntry[str]]":
    try:
        with os.scandir(folder) as found:
            return sorted(found, key=lambda each: each.name)
    except FileNotFoundError:  # removed since it was listed
        return []
    except OSError as error:
        raise FileTrouble(
            f"cannot read {folder}",
            where=str(folder),
            said=error.strerror or str(error),
            advice="run the command as the user whom the data directory belongs to",
        ) from error


def _named_by_configuration(context: BackupContext, elsewhere: list[str]) -> Iterator[tuple[Path, str]]:
    """Yield the configuration and the files beside it that it names; secrets that lie elsewhere go into a list."""
    file = context.configuration.path
    if not file.is_file():
        return
    folder = file.parent
    yield file, f"config/{file.name}"
    done = {file}
    for key, text in _texts(context.configuration.whole, ""):
        path = Path(os.path.normpath(text)) if text.startswith("/") else None
        if path is None or path in done or not _is_file_to_keep(path):
            continue
        done.add(path)
        if path.is_relative_to(folder) and not path.is_relative_to(context.home.folder):
            yield path, f"config/{path.relative_to(folder).as_posix()}"
        elif key.endswith("_file") and not path.is_relative_to(context.home.folder):
            elsewhere.append(str(path))


def _is_file_to_keep(path: Path) -> bool:
    """Tell whether a file is there that a backup can take; one in a folder that this user may not enter is not."""
    try:
        found = os.stat(path)
    except OSError:
        return False
    return stat.S_ISREG(found.st_mode) and found.st_size <= _LARGEST_NAMED


def _texts(value: object, key: str) -> Iterator[tuple[str, str]]:
    """Yield all texts in a configuration, each with its key."""
    if isinstance(value, str):
        yield key, value
    elif isinstance(value, msgspec.Struct):
        for field in value.__struct_fields__:
            yield from _texts(getattr(value, field), field)
    elif isinstance(value, dict):
        for each in value.values():
            yield from _texts(each, key)
    elif isinstance(value, list | tuple):
        for each in value:
            yield from _texts(each, key)


def _write(target: Path, plain: BinaryIO, protection: Protection) -> int:
    """Write the file, atomically and durably; returns its size."""
    expect_replaceable(target)
    beside = partial_of(target)
    with file_trouble("write", target):
        beside.unlink(missing_ok=True)
        handle = os.open(beside, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600)
        try:
            with os.fdopen(handle, "wb") as out:
                encryption.encrypt(plain, out, protection)
                out.flush()
                os.fsync(out.fileno())
                size = os.fstat(out.fileno()).st_size
            os.replace(beside, target)
        except BaseException:
            beside.unlink(missing_ok=True)
            raise
        sync_folder(target.parent)
    return size


def _told(context: BackupContext, contents: Contents, target: Path, elsewhere: list[str]) -> Iterator[Finding]:
    yield ok(
        "backup", str(target), f"has {counted(len(contents.files), 'file')} of {context.home} and the configuration"
    )
    if context.shared is not None:
        yield warn("ledger", "the database", "is not in it: the ledger is shared",
                   "back the database up with its own programs, such as pg_dump (docs/fleet.md)")  # fmt: skip
    for each in sorted(set(elsewhere)):
        yield warn("file", each, "is not in it: it does not lie beside the configuration", "back it up by other means")
