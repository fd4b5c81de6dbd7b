"""The ledger's database: opened, versioned, read and written in transactions.

SQLite through the standard library: loading it takes milliseconds, which a command that a timer runs every hour,
mostly to find nothing due, is measured by. See docs/architecture.md.
"""

import os
import sqlite3
import threading
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from inkstamp.clock import LATEST, clamped
from inkstamp.errors import LedgerDamaged, LedgerTrouble
from inkstamp.ledger.schema import MIGRATIONS, TABLES, VERSION
from inkstamp.printable import printable

_BUSY_SECONDS = 30.0
REBUILD = "rebuild it from the shelf: inkstamp status --rebuild"
"""What to do about a ledger that is gone or damaged."""

Parameters = Mapping[str, Any]
_LATEST = int(LATEST.timestamp())


def from_moment(moment: datetime) -> int:
    """Write a moment as the tables hold it: whole seconds since 1970 in UTC, within what can be read back."""
    return int(clamped(moment).timestamp())


def to_moment(seconds: int) -> datetime:
    """Read a moment from a table; aware, UTC. One beyond what can be reckoned with is the last that can.

    Raises:
        ValueError: It is no number.

    """
    if not isinstance(seconds, int | float) or seconds != seconds:  # noqa: PLR0124  NaN is what differs from itself
        raise ValueError("a moment in the ledger is no number")
    return datetime.fromtimestamp(min(max(seconds, 0), _LATEST), UTC)


def damaged(said: str, where: str = "ledger") -> LedgerDamaged:
    """Return the error for a ledger that holds what was never written."""
    return LedgerDamaged(
        "the ledger is damaged",
        where=where,
        said=printable(said),
        advice=f"{REBUILD}; the damaged one is kept beside it",
    )


class Database:
    """One open database file, safe to share between threads; what uses it adds the questions."""

    def __init__(self, file: Path) -> None:
        self._file = file
        self._lock = threading.RLock()
        with self._trouble():
            os.close(os.open(file, os.O_RDWR | os.O_CREAT, 0o600))
            # Transactions are begun and ended by name below; threads take turns by the lock.
            self._connection = sqlite3.connect(
                file, timeout=_BUSY_SECONDS, isolation_level=None, check_same_thread=False
            )
            try:
                self._prepare()
            except BaseException:
                self._connection.close()
                raise

    def _prepare(self) -> None:
        self._connection.row_factory = sqlite3.Row
        # Readers do not wait for a writer, and a commit is on the disk when it returns.
        self._connection.execute("PRAGMA journal_mode=WAL")
        self._connection.execute("PRAGMA synchronous=FULL")
        self._check_version()

    def _check_version(self) -> None:
        row = None
        if "ledger" in self._tables():
            row = self._connection.execute("SELECT version FROM ledger").fetchone()
        if row is None:
            self._create()
        elif row["version"] in MIGRATIONS:
            self._migrate()
        elif not isinstance(row["version"], int) or row["version"] < 1:
            raise damaged("its version is no number", str(self._file))
        elif row["version"] != VERSION:
            raise LedgerTrouble(
                f"the ledger is of version {row['version']}, this program writes version {VERSION}",
                where=str(self._file),
                advice="use the release of Ink Stamp that wrote it, or a newer one",
            )

    def _create(self) -> None:
        """Make the tables, unless another process has made them in this moment."""
        with self.writing():
            known = self._tables()
            if "ledger" not in known:
                if known:
                    raise damaged("its table of versions is gone", str(self._file))
                self._script(TABLES)
                self._connection.execute("INSERT INTO ledger (version) VALUES (:version)", {"version": VERSION})

    def _tables(self) -> set[str]:
        return {row["name"] for row in self._connection.execute("SELECT name FROM sqlite_master")}

    def _migrate(self) -> None:
        """Bring a ledger of an older release up to this one, whole or not at all."""
        self._keep_copy()
        with self.writing():
            version = self._connection.execute("SELECT version FROM ledger").fetchone()["version"]
            while version in MIGRATIONS:
                self._script(MIGRATIONS[version])
                version += 1
            self._connection.execute("UPDATE ledger SET version = :version", {"version": version})

    def _keep_copy(self) -> None:
        """Keep the ledger as it is beside it, so that the older release can be gone back to."""
        version = self._connection.execute("SELECT version FROM ledger").fetchone()["version"]
        copy = self._file.with_name(f"{self._file.name}.version-{version}")
        partial = copy.with_name(f"{copy.name}.part")
        partial.unlink(missing_ok=True)
        os.close(os.open(partial, os.O_RDWR | os.O_CREAT | os.O_EXCL, 0o600))
        target = sqlite3.connect(partial)
        try:
            self._connection.backup(target)
        finally:
            target.close()
        partial.replace(copy)

    def _script(self, statements: str) -> None:
        for statement in filter(str.strip, statements.split(";")):
            self._connection.execute(statement)

    @contextmanager
    def _trouble(self) -> Iterator[None]:
        try:
            yield
        except sqlite3.Error as error:
            # What an operation met (full disk, rights, another process) is an OperationalError with a code of its own.
            # That a table or a column is not there, or a text is none, is the file's fault: our questions do not vary.
            met = isinstance(error, sqlite3.OperationalError | sqlite3.IntegrityError)
            if not met or getattr(error, "sqlite_errorcode", sqlite3.SQLITE_ERROR) == sqlite3.SQLITE_ERROR:
                raise damaged(str(error), str(self._file)) from error
            raise LedgerTrouble(
                "the ledger cannot be used",
                where=str(self._file),
                said=str(error),
                advice="check free space and rights there; nothing that was recorded is lost",
            ) from error
        except UnicodeDecodeError as error:
            raise damaged(str(error), str(self._file)) from error
        except OSError as error:
            raise LedgerTrouble(
                "the ledger cannot be opened",
                where=str(self._file),
                said=error.strerror or str(error),
                advice="check the rights there",
            ) from error

    @contextmanager
    def writing(self) -> Iterator[None]:
        """Make what is executed inside one durable transaction; it is undone when the block raises."""
        with self._lock, self._trouble():
            self._connection.execute("BEGIN IMMEDIATE")
            try:
                yield
            except BaseException:
                if self._connection.in_transaction:  # a full disk has ended it already
                    self._connection.execute("ROLLBACK")
                raise
            self._connection.execute("COMMIT")

    def execute(self, statement: str, parameters: Parameters | None = None) -> None:
        """Run a statement that returns nothing, inside `writing`."""
        self._connection.execute(statement, parameters or {})

    def change(self, statement: str, parameters: Parameters) -> int:
        """Run an UPDATE or DELETE inside `writing`; returns how many rows it was about."""
        return self._connection.execute(statement, parameters).rowcount

    def insert(self, table: str, **values: Any) -> int:
        """Add a row, inside `writing`; returns its number."""
        columns = ", ".join(values)
        marks = ", ".join(f":{name}" for name in values)
        statement = f"INSERT INTO {table} ({columns}) VALUES ({marks})"  # noqa: S608  names from our own code
        return self._connection.execute(statement, values).lastrowid or 0

    def put(self, table: str, key: Mapping[str, Any], **values: Any) -> None:
        """Add a row in the place of the one that has the same `key`, if there is one; inside `writing`."""
        same = " AND ".join(f"{name} = :{name}" for name in key)
        self.execute(f"DELETE FROM {table} WHERE {same}", key)  # noqa: S608  names from our own code
        self.insert(table, **key, **values)

    def rows(self, query: str, parameters: Parameters | None = None) -> list[sqlite3.Row]:
        """Return all rows that a query finds."""
        with self._lock, self._trouble():
            return self._connection.execute(query, parameters or {}).fetchall()

    def row(self, query: str, parameters: Parameters | None = None) -> sqlite3.Row | None:
        """Return the first row that a query finds."""
        with self._lock, self._trouble():
            found: sqlite3.Row | None = self._connection.execute(query, parameters or {}).fetchone()
            return found

    def fault(self) -> str:
        """Look through the whole file; returns what is wrong with it, empty for nothing."""
        row = self.row("PRAGMA quick_check(1)")
        said = str(row[0]) if row is not None else "no answer"
        return "" if said == "ok" else said

    def close(self) -> None:
        """Close the file."""
        with self._lock, self._trouble():
            self._connection.close()
