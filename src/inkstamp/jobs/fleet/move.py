"""Move a ledger and all private files from HOME into the shared database, or back; nothing is removed before all is
verified.

1. The files are copied one by one; what is there already, with the same contents, is not copied again.
2. The rows of all tables are copied in one transaction, into tables that are empty.
3. Every row and every file is read back and compared.
4. Only then is the ledger of before put aside, under another name, and private files in HOME are removed that no
   server here is given.

Killed at any step, it is run again: what was copied is compared and goes on.
"""

import os
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import Any

from msgspec import Struct

from inkstamp.errors import LedgerTrouble, UsageError
from inkstamp.files import file_trouble, private_folder, read_bytes, remove_tree, sync_folder, write_bytes
from inkstamp.home import Home
from inkstamp.jobs.fleet.context import FleetContext
from inkstamp.jobs.fleet.upkeep import expect_shared
from inkstamp.ledger.interface import Database, Here
from inkstamp.ledger.rows import strings
from inkstamp.ledger.run_summary import is_running
from inkstamp.ledger.schema import LEDGER_TABLES, NUMBERED_TABLES
from inkstamp.ledger.sealed_files import ACCOUNTS, SealedFiles, digest_of
from inkstamp.ledger.sqlite import SqliteDatabase
from inkstamp.locks import Lock, Locks, Scope
from inkstamp.progress import Progress

_ALIVE_SECONDS = 600
_PRIVATE = ("accounts", "orders", "requests")
"""Folders of HOME whose files nothing on this machine is given."""
_READABLE = 0o004


class Moved(Struct, frozen=True):
    """What was moved."""

    rows: int
    files: int
    copied: int
    """Of the files: those that were not there yet."""
    put_aside: str
    """Where the ledger lies that counts no longer; empty for one in a database, which stays as it is."""


def move_into_database(context: FleetContext) -> Moved:
    """Move HOME's ledger and private files into the shared ledger.

    Raises:
        UsageError: There is no ledger in HOME, a run is at work, or the shared ledger has another one in it.
        LedgerTrouble: Something is not as it was written; nothing of HOME was changed.

    """
    shared, home = expect_shared(context), context.home
    if not home.ledger.exists():
        raise UsageError("there is no ledger in HOME to be moved", where=str(home.ledger),
                         advice="nothing has to be done: the shared one is used")  # fmt: skip
    with _alone(home), ExitStack() as stack:
        source = SqliteDatabase(home.ledger)
        stack.callback(source.close)
        owners = _owners(source)
        files = list(_files_of(home, owners))
        copied = _store(context.progress, shared.stored, files)
        rows = _copy_rows(source, shared.database, shared.here)
        _verify_files(context.progress, shared.stored, files)
        aside = home.ledger.with_name(f"ledger.db.moved-{context.clock.now():%Y%m%dT%H%M%SZ}")
        stack.close()
        for each in sorted(home.folder.glob("ledger.db*")):
            if each.name in {"ledger.db", "ledger.db-wal", "ledger.db-shm"}:
                with file_trouble("rename", each):
                    each.rename(aside.with_name(each.name.replace("ledger.db", aside.name)))
        sync_folder(home.folder)
        for folder in _PRIVATE:
            remove_tree(home.folder / folder)
    context.ledger.note("moved", f"the ledger of {shared.machine} was moved into the shared one")
    return Moved(rows, len(files), copied, str(aside))


def move_back(context: FleetContext) -> Moved:
    """Move the shared ledger and all files into HOME of this machine; the database stays as it is.

    Raises:
        UsageError: There is a ledger in HOME already, or another machine is still at work with the shared one.
        LedgerTrouble: Something is not as it was written.

    """
    shared, home = expect_shared(context), context.home
    if home.ledger.exists():
        raise UsageError("there is a ledger in HOME already", where=str(home.ledger), advice="move it away first")
    machines = context.ledger.machines
    others = [each.name for each in machines.all() if each.name != shared.machine and each.silent < _ALIVE_SECONDS
              ] if machines is not None else []  # fmt: skip
    if others:
        raise UsageError(f"other machines are at work with the shared ledger: {', '.join(others)}",
                         advice="stop `inkstamp` there, and run this again after ten minutes")  # fmt: skip
    with _alone(home):
        files = copied = 0
        for row in shared.stored.each():
            files += 1
            copied += _bring(shared.stored, home, row)
        fresh = home.ledger.with_suffix(".db.new")
        for each in home.folder.glob(f"{fresh.name}*"):
            each.unlink(missing_ok=True)
        target = SqliteDatabase(fresh)
        try:
            rows = _copy_rows(shared.database, target, shared.here, back=True)
        finally:
            target.close()
        with file_trouble("rename", fresh):
            fresh.rename(home.ledger)
            sync_folder(home.folder)
        with shared.database.writing():
            shared.database.execute("DELETE FROM moved_here WHERE machine = :m", {"m": shared.machine})
    return Moved(rows, files, copied, "")


def _alone(home: Home) -> ExitStack:
    """Keep other moves of this HOME away, and refuse while a run is at work in it."""
    stack = ExitStack()
    home.made()
    stack.enter_context(Locks(home.locks).hold(Lock("ledger", "the move of the ledger", Scope.MACHINE)))
    if is_running(home):
        stack.close()
        raise UsageError("`inkstamp renew` is at work in this data directory", where=str(home),
                         advice="wait for it to end, then run the same command again")  # fmt: skip
    return stack


# Files


class _HomeFile(Struct, frozen=True):
    owner: str
    path: str
    file: Path

    def read(self) -> tuple[int, bytes]:
        with file_trouble("read", self.file):
            mode = 0o644 if self.file.stat().st_mode & _READABLE else 0o600
        return mode, read_bytes(self.file)


def _owners(source: Database) -> dict[int, str]:
    """Return whose each order is."""
    return {row["id"]: row["certificate"] for row in source.rows("SELECT id, certificate FROM ca_order")}


def _files_of(home: Home, orders: Mapping[int, str]) -> Iterator[_HomeFile]:
    """Yield the files that machines share, with whose they are."""
    for folder in _folders(home.folder / "accounts"), _folders(home.folder / "requests"):
        for file in folder:
            owner = ACCOUNTS if file.parent.name == "accounts" else file.stem
            yield _HomeFile(owner, str(file.relative_to(home.folder)), file)
    for each in _folders(home.folder / "orders"):
        if each.name.isdigit() and int(each.name) in orders:
            for file in _folders(each):
                yield _HomeFile(orders[int(each.name)], str(file.relative_to(home.folder)), file)
    yield from _editions_of(home)


def _editions_of(home: Home) -> Iterator[_HomeFile]:
    """Yield the files of all editions on the shelf; UsageError for a certificate whose folder has another name."""
    for certificate in _folders(home.shelf):
        if certificate.is_symlink():
            raise UsageError(
                f"“{certificate.name}” was renamed, and its editions lie in a folder of another name",
                where=str(certificate),
                advice=f"have it installed under its name: inkstamp stamp {certificate.name} --reissue; then"
                " remove that link",
            )
        for edition in _folders(certificate):
            if edition.name.isdigit() and not edition.is_symlink():
                for file in _folders(edition):
                    yield _HomeFile(certificate.name, str(file.relative_to(home.folder)), file)


def _folders(folder: Path) -> list[Path]:
    return [folder / each for each in sorted(os.listdir(folder)) if not each.startswith(".")] if folder.is_dir() else []


def _store(progress: Progress, stored: SealedFiles, files: Sequence[_HomeFile]) -> int:
    """Store what is not stored yet; returns how many files that were."""
    known: dict[str, dict[str, str]] = {}
    copied = 0
    for number, each in enumerate(files, 1):
        progress.counts("files stored", number, len(files))
        if each.owner not in known:
            known[each.owner] = {file.path: file.digest for file in stored.of(each.owner)}
        mode, data = each.read()
        if known[each.owner].get(each.path) != digest_of(data):
            stored.put(each.owner, [(each.path, mode, data)])
            copied += 1
    return copied


def _verify_files(progress: Progress, stored: SealedFiles, files: Sequence[_HomeFile]) -> None:
    for number, each in enumerate(files, 1):
        progress.counts("files verified", number, len(files))
        if stored.get(each.owner, each.path) != each.read()[1]:
            raise LedgerTrouble(f"{each.path} is not in the shared ledger as it is here", where=str(each.file),
                                advice="run the same command again; nothing was removed")  # fmt: skip


def _bring(stored: SealedFiles, home: Home, row: Any) -> bool:
    """Write a file of the shared ledger into HOME, and read it back; returns whether it was not there as it is."""
    file = home.folder / row["path"]
    if file.exists() and digest_of(read_bytes(file)) == row["digest"]:
        return False
    data = stored.get(row["owner"], row["path"])
    if data is None or digest_of(data) != row["digest"]:
        raise LedgerTrouble(f"{row['path']} in the shared ledger is not as it was written", where="the shared ledger",
                            advice="see what else is: inkstamp ledger verify")  # fmt: skip
    private_folder(file.parent)
    write_bytes(file, data, mode=row["mode"])
    return True


# Rows


def _copy_rows(source: Database, target: Database, here: Here, *, back: bool = False) -> int:
    """Copy all tables in one transaction and compare them; tables that hold just that are left as they are.

    Where a shared ledger says that this machine's was moved there, nothing is copied again.

    Raises:
        UsageError: There is something else in the target.

    """
    total = 0
    with source.snapshot(), target.writing():
        if target.is_shared and target.rows("SELECT 1 AS one FROM moved_here WHERE machine = :m", {"m": here.machine}):
            return 0  # a run of before was killed behind this; others may have written since
        for table in LEDGER_TABLES:
            rows = [_converted(table, row, here, back=back) for row in source.rows(f"SELECT * FROM {table}")]  # noqa: S608
            present = [dict(row) for row in target.rows(f"SELECT * FROM {table}")]  # noqa: S608  ours
            if not present:
                for row in rows:
                    target.insert(table, **row)
                present = [dict(row) for row in target.rows(f"SELECT * FROM {table}")]  # noqa: S608  ours
            if _as_set(present) != _as_set(rows):
                raise UsageError(
                    f"the table “{table}” there holds other entries already", where=str(getattr(target, "address", "")),
                    advice="move into an empty database: make another one, and name it in [ledger]",
                )  # fmt: skip
            total += len(rows)
        if target.is_shared:
            for table in NUMBERED_TABLES:
                target.rows(
                    f"SELECT setval(pg_get_serial_sequence('{table}', 'id'),"  # noqa: S608  names of ours
                    f" (SELECT coalesce(max(id), 0) + 1 FROM {table}), false)"
                )
            target.insert("moved_here", machine=here.machine)
    return total


def _converted(table: str, row: Any, here: Here, *, back: bool) -> dict[str, Any]:
    """Return a row as the other side has it: what is on one machine alone is written with its name there."""
    made = {name: row[name] for name in row.keys()}  # noqa: SIM118  a row is no mapping everywhere
    if "machine" in made:
        if back:
            made["machine"] = "" if made["machine"] == here.machine else made["machine"]
        elif table == "run":
            made["machine"] = here.machine
        elif table == "install":
            made["machine"] = here.owner(strings.decode(made["servers"]))
        elif table == "proof":
            made["machine"] = here.owner([made["server"]])
    if isinstance(made.get("root"), bytes):
        from inkstamp.ledger.rows import as_path, as_stored  # noqa: PLC0415  few ledgers have such a path

        made["root"] = as_stored(as_path(made["root"]))
    return made


def _as_set(rows: Sequence[Mapping[str, Any]]) -> list[tuple[Any, ...]]:
    return sorted((tuple(sorted(row.items(), key=lambda item: item[0])) for row in rows), key=repr)
