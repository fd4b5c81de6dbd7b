"""The ledger in PostgreSQL, which any number of machines share; see docs/fleet.md.

psycopg takes longer to load than all that a timer's run does with nothing due, so this module is imported only where
the configuration names such a database.

What `writing` promises, that nobody else writes meanwhile, is one advisory lock of the transaction: it ends with the
transaction, and so with the connection, whatever pooler is in between. Nothing here outlives a transaction on the
server's side: no prepared statement, no setting of a session, no lock of one.
"""

import functools
import os
import re
import socket
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from datetime import timedelta
from typing import Any, TypeVar

import psycopg
from psycopg.conninfo import conninfo_to_dict, make_conninfo
from psycopg.rows import DictRow, dict_row

from inkstamp.clock import SystemClock
from inkstamp.errors import ConfigurationError, LedgerTrouble
from inkstamp.ledger.fences import Fences
from inkstamp.ledger.interface import Values, insert_into
from inkstamp.ledger.postgresql_schema import TURN, schema_trouble
from inkstamp.ledger.rows import damaged, no_text
from inkstamp.printable import printable

_CONNECT_SECONDS = 10
"""Seconds in which each host of the URL has to take a connection, where the URL does not say otherwise."""
_AWAY_SECONDS = 30.0
"""Seconds to try again for when the database has gone away: a restart or a failover takes so long."""
_STATEMENT_SECONDS = 90.0
"""Seconds after which a statement that was not answered is given up, with its connection: longer than all limits that
the server is given, so that this is for a server or a network that does not answer at all."""
_LIMITS = "SET LOCAL lock_timeout = '30s'; SET LOCAL statement_timeout = '60s'"
_OF_A_WRITER = "SET LOCAL idle_in_transaction_session_timeout = '10s'"
"""A process that was stopped in the middle of its turn must not stop all others."""
_ENDED = psycopg.errors.IdleInTransactionSessionTimeout
"""The server has ended the connection of a process that was stopped for too long."""
_PAUSE = 0.25
_SAME_TIME = timedelta(seconds=2)
_T = TypeVar("_T")


@dataclass(frozen=True, slots=True)
class DatabaseAddress:
    """Where the database is, and who we are there."""

    url: str
    """A connection URI or string of libpq, without a password."""
    password: str = field(default="", repr=False)

    def __post_init__(self) -> None:
        try:
            parts = conninfo_to_dict(self.url)
        except (psycopg.ProgrammingError, UnicodeError) as error:
            raise ConfigurationError(
                "the database's URL cannot be read", where="[ledger] database", said=printable(str(error)),
                advice='write it as libpq has it, e.g. "postgresql://inkstamp@db-a.example/inkstamp"',
            ) from error  # fmt: skip
        if {"password", "sslpassword"} & parts.keys():
            raise ConfigurationError(
                "the database's URL holds a password", where="[ledger] database",
                advice="write the password into a file with mode 0600 and name it in `password_file`",
            )  # fmt: skip

    def __str__(self) -> str:
        """Return what people are told: hosts and database."""
        parts = conninfo_to_dict(self.url)
        known = {name: str(parts.get(name, "")) for name in ("host", "port", "dbname", "service")}
        if known["service"] and not known["host"]:
            return printable(f"PostgreSQL service {known['service']}")
        port = f" port {known['port']}" if known["port"] else ""
        return printable(f"PostgreSQL database {known['dbname'] or 'of that user'} at {known['host'] or 'local'}{port}")

    def conninfo(self) -> str:
        """Return the connection string with what is missing of our limits; without the password."""
        given = conninfo_to_dict(self.url)
        ours = {"connect_timeout": _CONNECT_SECONDS, "application_name": "inkstamp", "keepalives_idle": 10,
                "keepalives_interval": 5, "keepalives_count": 3, "tcp_user_timeout": 30_000}  # fmt: skip
        lacking: dict[str, Any] = {name: value for name, value in ours.items() if name not in given}
        return make_conninfo(self.url, **lacking)


def connect(address: DatabaseAddress) -> psycopg.Connection[Any]:
    """Connect, with each statement a transaction of its own; psycopg's own errors."""
    password: dict[str, Any] = {"password": address.password} if address.password else {}
    return psycopg.connect(
        address.conninfo(), autocommit=True, row_factory=dict_row, prepare_threshold=None, **password
    )


class PostgresqlDatabase:
    """A `Database` on a PostgreSQL server: one connection, made again when it was lost; threads take turns.

    A question outside of a transaction, and the beginning of one, is asked again for half a minute when the connection
    is lost. What is lost in the middle of a transaction is undone by the server, and is LedgerTrouble here.
    """

    is_shared = True

    def __init__(
        self, address: DatabaseAddress, fences: Fences | None = None, *, made: bool = True, marks: bool = True
    ) -> None:
        """Connect.

        Args:
            address: Where the database is.
            fences: The leases that this process holds: no transaction that writes goes on without them.
            marks: Whether what is written here is for other machines to look at.
            made: Whether the tables are there already and have to be of a version that this release can use.

        Raises:
            LedgerTrouble: The database cannot be reached, or holds no ledger, or one that this release cannot use.

        """
        self.address = address
        self.fences = fences or Fences()
        self.marks_changes = marks
        self.behind = timedelta()
        """By how much the database's clock is ahead of this machine's; what a network's delay explains is nothing."""
        self._lock = threading.RLock()
        self._connection: psycopg.Connection[DictRow] | None = None
        self._watch = ConnectionWatch()
        with self._lock, self._trouble():
            self._connect()
            try:
                if made:
                    self._expect_version()
            except BaseException:
                self.close()
                raise

    def _connect(self) -> psycopg.Connection[DictRow]:
        if self._connection is None or self._connection.closed:
            self._connection = connect(self.address)
        return self._connection

    def _expect_version(self) -> None:
        table = self._run("SELECT to_regclass('ledger') AS found").fetchone()
        row, clock = None, SystemClock()
        if table is not None and table["found"] is not None:
            asked = clock.now()
            row = self._run("SELECT version, oldest, clock_timestamp() AS now FROM ledger").fetchone()
            behind = row["now"] - asked - (clock.now() - asked) / 2 if row is not None else timedelta()
            self.behind = behind if abs(behind) > _SAME_TIME else timedelta()
        schema_trouble(row, str(self.address))

    @contextmanager
    def _trouble(self) -> Iterator[None]:
        where = str(self.address)
        try:
            yield
        except UnicodeEncodeError as error:
            raise no_text(error) from error
        except psycopg.errors.InsufficientPrivilege as error:
            raise LedgerTrouble(
                "the database refused this to our role", where=where, said=_said(error),
                advice="run it on a machine that orders; or, where this one is to, have the owner of the database grant"
                " inkstamp_worker to our role",
            ) from error  # fmt: skip
        except (psycopg.errors.UndefinedTable, psycopg.errors.UndefinedColumn) as error:
            raise damaged(_said(error), where) from error
        except (psycopg.OperationalError, psycopg.InterfaceError, _ENDED) as error:
            raise LedgerTrouble(
                "the database of the ledger cannot be used", where=where, said=_said(error),
                advice="see that it runs and can be reached from here, then run the command again: it goes on where"
                " this one stopped",
            ) from error  # fmt: skip
        except psycopg.Error as error:
            raise LedgerTrouble(
                "the ledger cannot be used", where=where, said=_said(error), advice="run the command again; if it"
                " persists, look into the database's log",
            ) from error  # fmt: skip

    def _run(self, statement: str, values: Values | None = None) -> psycopg.Cursor[DictRow]:
        """Ask within the whole-time bound; psycopg's own errors."""
        connection = self._connection
        if connection is None:
            raise psycopg.OperationalError("not connected")
        with self._watch.over(connection):
            if not values:
                return connection.execute(_translated(statement, bare=True).encode())
            return connection.execute(_translated(statement).encode(), values)

    def _patiently(self, ask: Callable[[], _T]) -> _T:
        """Ask, and once more on a new connection for as long as the old one is lost and none can be made."""
        deadline = time.monotonic() + _AWAY_SECONDS
        while True:
            try:
                self._connect()
                return ask()
            except (psycopg.OperationalError, psycopg.InterfaceError):
                lost = self._connection is None or self._connection.closed
                if not lost or time.monotonic() > deadline:
                    raise
                self._connection = None
                time.sleep(_PAUSE)

    @contextmanager
    def writing(self) -> Iterator[None]:
        """Make what is read and executed inside one durable transaction; it is undone when the block raises.

        A block inside of another belongs to that one's transaction.
        """
        with self._lock:
            if self._is_inside():
                yield
                return
            with self._transaction(self._begin_writing):
                yield

    def _begin_writing(self) -> None:
        """Take the turn of all writers, and see that our leases are still ours: they are taken in a turn as well."""
        held = self.fences.numbers()
        numbers = ", ".join(map(str, held))  # several statements in one go take no parameters
        ours = f"; SELECT fence FROM lease WHERE fence IN ({numbers})" if held else ""  # noqa: S608
        cursor = self._run(f"BEGIN; {_LIMITS}; {_OF_A_WRITER}; SELECT pg_advisory_xact_lock({TURN}){ours}")
        if held:
            while cursor.nextset():
                pass
            self.fences.expect_all(held, {row["fence"] for row in cursor.fetchall()})

    @contextmanager
    def snapshot(self) -> Iterator[None]:
        """Have all questions inside see one state, whatever others write meanwhile; nothing is written inside."""
        with self._lock:
            if self._is_inside():
                yield
                return
            begin = f"BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY; {_LIMITS}"
            with self._transaction(lambda: self._run(begin)):
                yield

    @contextmanager
    def _transaction(self, begin: Callable[[], object]) -> Iterator[None]:
        with self._lock, self._trouble():
            try:
                self._patiently(begin)
                yield
            except BaseException:
                self._undo()
                raise
            self._run("COMMIT")

    def _undo(self) -> None:
        connection = self._connection
        if connection is not None and self._is_inside():
            with suppress(psycopg.Error):  # a connection that is lost has been undone by the server
                self._run("ROLLBACK")

    def _is_inside(self) -> bool:
        connection = self._connection
        idle = psycopg.pq.TransactionStatus.IDLE
        return connection is not None and not connection.closed and connection.info.transaction_status != idle

    def execute(self, statement: str, values: Values | None = None) -> int:
        """Run a statement inside `writing`; returns how many rows it changed."""
        with self._trouble():
            return self._run(statement, values).rowcount

    def insert(self, table: str, **values: Any) -> None:
        """Add a row, inside `writing`."""
        with self._trouble():
            self._run(insert_into(table, values), values)

    def insert_numbered(self, table: str, **values: Any) -> int:
        """Add a row to a table that numbers its rows in `id`, inside `writing`; returns the number."""
        with self._trouble():
            row = self._run(f"{insert_into(table, values)} RETURNING id", values).fetchone()
            return int(row["id"]) if row is not None else 0

    def upsert(self, table: str, key: Values, **values: Any) -> None:
        """Add a row, or set `values` in the one that has the same `key`, inside `writing`."""
        settings = ", ".join(f"{name} = excluded.{name}" for name in values)
        whole = {**key, **values}
        with self._trouble():
            self._run(f"{insert_into(table, whole)} ON CONFLICT ({', '.join(key)}) DO UPDATE SET {settings}", whole)

    def rows(self, query: str, values: Values | None = None) -> list[DictRow]:
        """Return all rows that a question finds."""
        with self._lock, self._trouble():
            if self._is_inside():
                return self._run(query, values).fetchall()
            return self._patiently(lambda: self._run(query, values).fetchall())

    def row(self, query: str, values: Values | None = None) -> DictRow | None:
        """Return the first row that a question finds."""
        return next(iter(self.rows(query, values)), None)

    def close(self) -> None:
        """End the connection."""
        with self._lock, self._trouble():
            self._watch.end()
            if self._connection is not None:
                self._connection.close()


class ConnectionWatch:
    """Cuts a connection whose server has not answered for too long; one thread, which is there from the first use."""

    def __init__(self) -> None:
        self._ended = threading.Event()
        self._thread: threading.Thread | None = None
        self._watched: tuple[float, int] | None = None
        """When the connection is cut, and its socket."""

    @contextmanager
    def over(self, connection: psycopg.Connection[Any]) -> Iterator[None]:
        """Cut the connection when the block has not ended in time; what waits on it raises OperationalError then."""
        if self._thread is None:
            self._thread = threading.Thread(target=self._look, name="ledger-watch", daemon=True)
            self._thread.start()
        self._watched = (time.monotonic() + _STATEMENT_SECONDS, connection.fileno())
        try:
            yield
        finally:
            self._watched = None

    def _look(self) -> None:
        while not self._ended.wait(1.0):
            watched = self._watched
            if watched is not None and time.monotonic() > watched[0]:
                with suppress(OSError), socket.socket(fileno=os.dup(watched[1])) as own:
                    own.shutdown(socket.SHUT_RDWR)

    def end(self) -> None:
        """Watch no longer."""
        self._ended.set()


@functools.lru_cache(maxsize=512)
def _translated(statement: str, *, bare: bool = False) -> str:
    """Return a statement of the books, whose parameters are `:name`, as psycopg takes it."""
    if bare:
        return statement
    return re.sub(r"(?<!:):([a-z]\w*)", r"%(\1)s", statement.replace("%", "%%"))


def _said(error: psycopg.Error) -> str:
    """Return the server's words, or the library's, in one line that a terminal can be given."""
    return printable(" ".join(str(error).split()) or type(error).__name__)
