"""What the ledger's books ask of a database; a database of another kind has to do this and no more.

The books are plain SQL with named parameters (`:name`), and no word of it is one product's own. Moments are whole
seconds since 1970 in UTC, lists are JSON: both are written and read by `rows.py` alone.
"""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager
from typing import Any, Protocol

from msgspec import Struct

Values = Mapping[str, Any]
"""Parameters of a statement by name."""
MOST_TOGETHER = 500
"""Names asked about in one question: databases bound the parameters of a statement."""


class Here(Struct, frozen=True):
    """The machine that we are on, where several share the ledger: what is on it alone is written down with its name."""

    machine: str = ""
    """Its name; empty where the ledger is its own."""
    has: Callable[[str], bool] = lambda _server: False
    """Tells whether a server is on this machine."""

    orders: bool = True
    """Whether it orders certificates; what fails on one that only installs is its own."""

    def owner(self, servers: Sequence[str]) -> str:
        """Return the machine that changes of these servers are about; empty for those that all machines reach."""
        return self.machine if any(self.has(each) for each in servers) else ""


NOWHERE = Here()
"""The ledger is this machine's own."""


class Row(Protocol):
    """A row that a question found: a mapping from its columns."""

    def __getitem__(self, column: str, /) -> Any: ...
    def keys(self) -> Iterable[str]: ...


class Database(Protocol):
    """One open ledger, safe to share between threads; `is_shared` where other machines have it too.

    Every method raises LedgerTrouble when the database cannot be used, LedgerDamaged when what it holds was never
    written.
    """

    @property
    def is_shared(self) -> bool: ...

    @property
    def marks_changes(self) -> bool:
        """Whether changes about certificates are numbered, for other machines to look at."""
        ...

    def writing(self) -> AbstractContextManager[None]:
        """Make what is read and executed inside one durable transaction; it is undone when the block raises.

        What is read inside stays as it was read until the end: nobody else writes meanwhile.
        """
        ...

    def snapshot(self) -> AbstractContextManager[None]:
        """Have all questions inside see one state, whatever others write meanwhile; nothing is written inside."""
        ...

    def execute(self, statement: str, values: Values | None = None) -> int:
        """Run a statement inside `writing`; returns how many rows it changed, which a compare-and-set goes by."""
        ...

    def insert(self, table: str, **values: Any) -> None:
        """Add a row, inside `writing`."""
        ...

    def insert_numbered(self, table: str, **values: Any) -> int:
        """Add a row to a table that numbers its rows in `id`, inside `writing`; returns the number."""
        ...

    def upsert(self, table: str, key: Values, **values: Any) -> None:
        """Add a row, or set `values` in the one that has the same `key`, inside `writing`."""
        ...

    def rows(self, query: str, values: Values | None = None) -> Sequence[Row]:
        """Return all rows that a question finds."""
        ...

    def row(self, query: str, values: Values | None = None) -> Row | None:
        """Return the first row that a question finds."""
        ...

    def close(self) -> None:
        """Close it."""
        ...


def insert_into(table: str, values: Values) -> str:
    """Return the statement that adds a row with these columns, each a parameter of its name."""
    marks = ", ".join(f":{name}" for name in values)
    return f"INSERT INTO {table} ({', '.join(values)}) VALUES ({marks})"  # noqa: S608  names from our own code


def among(column: str, names: Sequence[str] | None) -> Iterator[tuple[str, dict[str, Any]]]:
    """Yield conditions and their parameters that together find the rows of some names, or of all for None."""
    if names is None:
        yield "1 = 1", {}
        return
    for begin in range(0, len(names), MOST_TOGETHER):
        some = {f"n{at}": name for at, name in enumerate(names[begin : begin + MOST_TOGETHER])}
        yield f"{column} IN ({', '.join(f':{mark}' for mark in some)})", some
