"""Rows of the ledger's tables as records."""

import functools
import sqlite3
from collections.abc import Callable, Sequence
from types import FunctionType
from typing import Any, TypeVar

import msgspec

from inkstamp.ledger.records import EditionRecord, InstallRecord, InstallState, OrderRecord, OrderState
from inkstamp.ledger.sqlite import damaged, to_moment

strings = msgspec.json.Decoder(tuple[str, ...])
numbers = msgspec.json.Decoder(tuple[int, ...])
_C = TypeVar("_C", bound=type[Any])


def telling_damage(book: _C) -> _C:
    """Have all public methods of a book tell what they cannot read as damage to the ledger, and how to fix it."""
    for name, method in list(vars(book).items()):
        if not name.startswith("_") and isinstance(method, FunctionType):
            setattr(book, name, _telling(method))
    return book


def _telling(method: Callable[..., Any]) -> Callable[..., Any]:
    @functools.wraps(method)
    def telling(*arguments: Any, **options: Any) -> Any:
        try:
            return method(*arguments, **options)
        except UnicodeEncodeError:  # a text of ours that no table can hold: that is no damage
            raise
        except (ValueError, OverflowError, msgspec.MsgspecError, sqlite3.Error) as error:
            raise damaged(str(error)) from error

    return telling


def as_list(values: Sequence[str] | Sequence[int]) -> str:
    """Return what `strings` or `numbers` reads back."""
    return msgspec.json.encode(values).decode()


def as_stored(path: str) -> str | bytes:
    """Return a path as a table can hold it: bytes, where it has some that are no UTF-8."""
    try:
        path.encode("utf-8")
    except UnicodeEncodeError:
        return path.encode("utf-8", "surrogateescape")
    return path


def as_path(stored: str | bytes) -> str:
    """Return what `as_stored` was given."""
    return stored.decode("utf-8", "surrogateescape") if isinstance(stored, bytes) else stored


def as_order(row: sqlite3.Row) -> OrderRecord:
    """Read a row of `ca_order`."""
    return OrderRecord(
        id=row["id"],
        certificate=row["certificate"],
        authority=row["authority"],
        names=strings.decode(row["names"]),
        state=OrderState(row["state"]),
        url=row["url"],
        edition=row["edition"],
        opened=to_moment(row["opened"]),
        changed=to_moment(row["changed"]),
    )


def as_edition(row: sqlite3.Row) -> EditionRecord:
    """Read a row of `edition`."""
    return EditionRecord(
        certificate=row["certificate"],
        number=row["number"],
        names=strings.decode(row["names"]),
        issuer=row["issuer"],
        root=row["root"],
        serial=row["serial"],
        sha256=row["sha256"],
        not_before=to_moment(row["not_before"]),
        not_after=to_moment(row["not_after"]),
        authority=row["authority"],
        key=row["key_kind"],
    )


def as_install(row: sqlite3.Row) -> InstallRecord:
    """Read a row of `install`."""
    return InstallRecord(
        id=row["id"],
        certificate=row["certificate"],
        edition=row["edition"],
        servers=strings.decode(row["servers"]),
        state=InstallState(row["state"]),
        at=to_moment(row["at"]),
    )
