"""The ledger's database: opened, versioned, read and written in transactions.

SQLite through the standard library: loading it takes milliseconds, which a command that a timer runs every hour,
mostly to find nothing due, is measured by. See docs/architecture.md.
"""

import os
import sqlite3
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from inkstamp.errors import LedgerDamaged, LedgerTrouble
from inkstamp.ledger.interface import Values, insert_into
from inkstamp.ledger.rows import damaged, no_text
from inkstamp.ledger.schema import MIGRATIONS, TABLES, VERSION

_BUSY_SECONDS = 30.0


class SqliteDatabase:
    """A `Database` in one file of HOME."""

    is_shared = False
    marks_changes = False

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
                self.insert("ledger", version=VERSION)

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
        self.copy_to(partial)
        partial.replace(copy)

    def copy_to(self, file: Path) -> None:
        """Write the whole database into another file of mode 0600, in the place of one that is there.

        It is read by a connection of its own: one that is writing, as inside `writing`, cannot be copied from.
        """
        with self._trouble():
            file.unlink(missing_ok=True)
            os.close(os.open(file, os.O_RDWR | os.O_CREAT | os.O_EXCL, 0o600))
            source, target = sqlite3.connect(self._file, timeout=_BUSY_SECONDS), sqlite3.connect(file)
            try:
                source.backup(target)
            finally:
                source.close()
                target.close()

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
        except UnicodeEncodeError as error:
            raise no_text(error) from error
        except OSError as error:
            raise LedgerTrouble(
                "the ledger cannot be opened",
                where=str(self._file),
                said=error.strerror or str(error),
                advice="check the rights there",
            ) from error

    @contextmanager
    def writing(self) -> Iterator[None]:
        """Make what is read and executed inside one durable transaction; it is undone when the block raises."""
        with self._transaction("BEGIN IMMEDIATE"):
            yield

    @contextmanager
    def snapshot(self) -> Iterator[None]:
        """Have all questions inside see one state, whatever others write meanwhile; nothing is written inside."""
        with self._lock:
            if self._connection.in_transaction:  # a question inside sees what the others there see
                yield
                return
            with self._transaction("BEGIN"):
                yield

    @contextmanager
    def _transaction(self, begin: str) -> Iterator[None]:
        with self._lock, self._trouble():
            self._connection.execute(begin)
            try:
                yield
            except BaseException:
                if self._connection.in_transaction:  # a full disk has ended it already
                    self._connection.execute("ROLLBACK")
                raise
            self._connection.execute("COMMIT")

    def execute(self, statement: str, values: Values | None = None) -> int:
        """Run a statement inside `writing`; returns how many rows it changed."""
        return self._connection.execute(statement, values or {}).rowcount

    def insert(self, table: str, **values: Any) -> None:
        """Add a row, inside `writing`."""
        self._connection.execute(insert_into(table, values), values)

    def insert_numbered(self, table: str, **values: Any) -> int:
        """Add a row to a table that numbers its rows in `id`, inside `writing`; returns the number."""
        return self._connection.execute(insert_into(table, values), values).lastrowid or 0

    def upsert(self, table: str, key: Values, **values: Any) -> None:
        """Add a row, or set `values` in the one that has the same `key`, inside `writing`."""
        settings = ", ".join(f"{name} = excluded.{name}" for name in values)
        whole = {**key, **values}
        self._connection.execute(
            f"{insert_into(table, whole)} ON CONFLICT ({', '.join(key)}) DO UPDATE SET {settings}", whole
        )

    def rows(self, query: str, values: Values | None = None) -> list[sqlite3.Row]:
        """Return all rows that a question finds."""
        with self._lock, self._trouble():
            return self._connection.execute(query, values or {}).fetchall()

    def row(self, query: str, values: Values | None = None) -> sqlite3.Row | None:
        """Return the first row that a question finds."""
        with self._lock, self._trouble():
            found: sqlite3.Row | None = self._connection.execute(query, values or {}).fetchone()
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


def trouble_of(file: Path) -> str:
    """Look through a ledger's whole file; returns what is wrong with it, empty for nothing.

    Raises:
        LedgerTrouble: Nothing is known to be wrong with it, and it cannot be opened: rights, or a newer release.

    """
    try:
        database = SqliteDatabase(file)
    except LedgerDamaged as error:
        return error.said
    try:
        return database.fault()
    except LedgerTrouble as error:
        return error.said
    finally:
        database.close()
