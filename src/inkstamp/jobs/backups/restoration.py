"""Restore a backup: whole and verified beside its place first, then put into it by renaming."""

import hashlib
import os
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO

from msgspec import Struct

from inkstamp.clock import Clock, stamp
from inkstamp.config.toml_file import LIMIT
from inkstamp.errors import LedgerDamaged, UsageError
from inkstamp.files import (
    file_trouble,
    held,
    open_file,
    private_folder,
    read_bytes,
    remove_tree,
    sync_folder,
    write_bytes,
)
from inkstamp.findings import Finding, note, ok, warn
from inkstamp.home import Home
from inkstamp.jobs.backups import archive, encryption
from inkstamp.jobs.backups.archive import Contents
from inkstamp.jobs.backups.encryption import HEADER, Opening
from inkstamp.ledger.sqlite import SqliteDatabase
from inkstamp.ledger.store import Ledger
from inkstamp.wording import counted

_IGNORED = frozenset({"locks", "cache"})
"""What a data directory may have that counts as empty."""


class Restored(Struct, frozen=True):
    """What restoring came to."""

    contents: Contents
    home: str
    config: str
    findings: tuple[Finding, ...]


def read_contents(file: Path, opening: Opening) -> Contents:
    """Return what is in a backup; nothing is changed."""
    with _plain(file, opening) as source:
        return archive.read_list(source, str(file))


def restore(file: Path, opening: Opening, config: Path, home: Path | None, clock: Clock, *, replace: bool) -> Restored:
    """Restore the data directory and the configuration from a backup.

    It is unpacked beside the data directory, every file is compared with its digest, and the ledger is looked through
    (one of an older release is migrated) before anything is put into its place. Killed in between, run it again.

    Args:
        file: The backup.
        opening: What it is decrypted with.
        config: Where the configuration goes; other files beside it go beside it.
        home: Where the data directory goes; None for where the restored configuration says, or where it was.
        clock: What tells the time.
        replace: Whether what is there is moved aside; otherwise there must be nothing, or the same configuration.

    Raises:
        UsageError: There is something already.
        Busy: A run is at work on what is there.
        FileTrouble: The backup cannot be read, decrypted or written; nothing was changed.
        LedgerTrouble: The ledger in it is damaged, or is of a newer release; nothing was changed.

    """
    with _plain(file, opening) as source:
        contents = archive.read_list(source, str(file))
        named = config.parent / contents.configured_home if contents.configured_home else Path(contents.home)
        place = home or named
        _expect_free(place, config, contents, replace=replace)
        private_folder(place.parent) if not place.parent.exists() else None
        staging = place.with_name(f".{place.name}.restoring")
        remove_tree(staging)
        with file_trouble("create the folder", staging):
            staging.mkdir(mode=0o700)
        try:
            source.seek(0)
            archive.unpack(source, staging, str(file))
            _settle_ledger(staging / "home", contents, clock, file)
            moved = _put(staging, place, contents, config, stamp(clock.now()))
        finally:
            remove_tree(staging)
    return Restored(contents, str(place), str(config), (*moved, *_told(contents, place, config, named)))


@contextmanager
def _plain(file: Path, opening: Opening) -> Iterator[BinaryIO]:
    """Give the archive in a backup, decrypted into a file without a name where that is needed."""
    with file_trouble("read", file), os.fdopen(open_file(file)[0], "rb") as source:
        head = source.read(len(HEADER))
        source.seek(0)
        if head != HEADER:
            yield source
            return
        with tempfile.TemporaryFile() as plain:
            encryption.decrypt(source, plain, opening, str(file))
            plain.seek(0)
            yield plain


def _expect_free(home: Path, config: Path, contents: Contents, *, replace: bool) -> None:
    """Make sure that nothing is there that would be lost, and that no run is at work on what is moved aside."""
    present = [str(home)] if _is_in_use(home) else []
    if _is_in_use(config) and _sha256(config) != contents.files.get(f"config/{Path(contents.config).name}"):
        present.append(str(config))
    if present and not replace:
        raise UsageError(
            f"there is something already: {' and '.join(present)}",
            where=present[0],
            advice="restore to another place with --home and --config, or add --replace, which moves that aside",
        )
    locks = home / "locks"
    for each in sorted(locks.iterdir()) if locks.is_dir() else ():
        with held(each, f"the data directory {home}"):
            pass


def _sha256(file: Path) -> str:
    return hashlib.sha256(read_bytes(file, limit=LIMIT)).hexdigest()


def _is_in_use(path: Path) -> bool:
    if path.is_dir():
        return any(each.name not in _IGNORED for each in path.iterdir())
    return path.exists()


def _settle_ledger(home: Path, contents: Contents, clock: Clock, file: Path) -> None:
    """Look through the ledger, which migrates an older one, and write down in it that it was restored."""
    if not contents.ledger:
        return
    database = SqliteDatabase(Home(home).ledger)
    try:
        fault = database.fault()
        if fault:
            raise LedgerDamaged("the ledger in the backup is damaged", where=str(file), said=fault,
                                advice="take another backup; nothing was changed")  # fmt: skip
        ledger = Ledger(database, clock)
        ledger.begin_run("restore")
        ledger.note("restored", f"from the backup of {stamp(contents.made)} on {contents.host}")
        ledger.end_run(0)
    finally:
        database.close()


def _put(staging: Path, home: Path, contents: Contents, config: Path, when: str) -> list[Finding]:
    """Move what is there aside, and what was unpacked into its place: the data directory last, in one step."""
    moved = _put_configuration(staging / "config", contents, config, when)
    remove_tree(staging / "config")  # a kill behind the renaming leaves an empty folder, and no secret in it
    if _is_in_use(home):
        moved.append(_move_aside(home, when))
    remove_tree(home)  # locks and caches
    with file_trouble("rename", home):
        (staging / "home").rename(home)
        sync_folder(home.parent)
    return moved


def _put_configuration(source: Path, contents: Contents, config: Path, when: str) -> list[Finding]:
    """Write the configuration and the files beside it; what stood there otherwise is moved aside."""
    moved = []
    for path in sorted(source.rglob("*")):
        inside = path.relative_to(source)
        target = config if inside.as_posix() == Path(contents.config).name else config.parent / inside
        if not path.is_file() or (_is_in_use(target) and _sha256(target) == _sha256(path)):
            continue
        if _is_in_use(target):
            moved.append(_move_aside(target, when))
        if not target.parent.exists():
            private_folder(target.parent)
        write_bytes(target, read_bytes(path, limit=LIMIT), like=path.stat())
    return moved


def _move_aside(path: Path, when: str) -> Finding:
    aside = path.with_name(f"{path.name}.before-{when}")
    with file_trouble("rename", path):
        path.rename(aside)
    return note("moved", str(path), f"what was there is {aside} now")


def _told(contents: Contents, home: Path, config: Path, named: Path) -> Iterator[Finding]:
    yield ok("backup", str(home), f"has {counted(len(contents.files), 'file')} of {contents.made:%Y-%m-%d %H:%M} UTC")
    if str(home) != str(named):
        yield warn("home", str(home), f"the configuration names another data directory, {named}",
                   f"write home = “{home}” into {config}, or set INKSTAMP_HOME")  # fmt: skip
    if str(home) != contents.home:
        yield warn("home", str(home), f"servers may name files in {contents.home}, where it was",
                   "see: inkstamp status; then: inkstamp install NAME")  # fmt: skip
    if not contents.ledger:
        yield warn("ledger", str(home), "is not in the backup", "restore its database with the database's own programs")
