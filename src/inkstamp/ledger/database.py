"""The ledger's database: opened, versioned, read and written in transactions."""

import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from sqlalchemy import Connection, Engine, create_engine, insert, select
from sqlalchemy import event as engine_event
from sqlalchemy.engine.interfaces import DBAPIConnection
from sqlalchemy.exc import DBAPIError, OperationalError

from inkstamp.errors import LedgerTrouble
from inkstamp.ledger import schema

_BUSY_SECONDS = 30


def _open_engine(file: Path) -> Engine:
    engine = create_engine(f"sqlite:///{file}", connect_args={"timeout": _BUSY_SECONDS, "check_same_thread": False})

    @engine_event.listens_for(engine, "connect")
    def _prepare(connection: DBAPIConnection, _record: object) -> None:
        cursor = connection.cursor()
        # Readers do not wait for a writer, and a commit is on the disk when it returns.
        cursor.execute("PRAGMA journal_mode=WAL")
        cursor.execute("PRAGMA synchronous=FULL")
        cursor.close()

    return engine


class Database:
    """One open database file, safe to share between threads; what uses it adds the questions."""

    def __init__(self, file: Path) -> None:
        self._file = file
        self._engine = _open_engine(file)
        self._writing = threading.RLock()
        with self._trouble():
            if not file.exists():
                file.touch(mode=0o600)
            self._check_version()

    def _check_version(self) -> None:
        try:
            with self._engine.connect() as connection:
                version = connection.execute(select(schema.ledger.c.version)).scalar()
        except OperationalError:
            version = None
        if version is None:
            with self._write() as connection:
                schema.metadata.create_all(connection)
                if connection.execute(select(schema.ledger.c.version)).scalar() is None:
                    connection.execute(insert(schema.ledger).values(version=schema.VERSION))
        elif version != schema.VERSION:
            raise LedgerTrouble(
                f"the ledger is of version {version}, this program writes version {schema.VERSION}",
                where=str(self._file),
                advice="use the release of Ink Stamp that wrote it, or a newer one",
            )

    @contextmanager
    def _trouble(self) -> Iterator[None]:
        try:
            yield
        except DBAPIError as error:
            raise LedgerTrouble(
                "the ledger cannot be used",
                where=str(self._file),
                said=str(error.orig),
                advice="check free space and rights there; nothing that was recorded is lost",
            ) from error
        except OSError as error:
            raise LedgerTrouble(
                "the ledger cannot be opened",
                where=str(self._file),
                said=error.strerror or str(error),
                advice="check the rights there",
            ) from error

    @contextmanager
    def _write(self) -> Iterator[Connection]:
        with self._writing, self._trouble(), self._engine.begin() as connection:
            yield connection

    @contextmanager
    def _read(self) -> Iterator[Connection]:
        with self._trouble(), self._engine.connect() as connection:
            yield connection

    def close(self) -> None:
        """Close all connections."""
        self._engine.dispose()
