"""Rows of the ledger's tables as records, and what one table cell holds."""

import functools
from collections.abc import Callable, Sequence
from datetime import UTC, datetime
from types import FunctionType
from typing import Any, TypeVar

import msgspec

from inkstamp.clock import LATEST, clamped
from inkstamp.errors import LedgerDamaged, UsageError
from inkstamp.ledger.interface import Row
from inkstamp.ledger.records import EditionRecord, InstallRecord, InstallState, OrderRecord, OrderState
from inkstamp.printable import one_line, printable

REBUILD = "rebuild it from the shelf: inkstamp status --rebuild"
"""What to do about a ledger that is gone or damaged."""
_HEXADECIMAL = "hex:"
"""Before a path that is stored by its bytes; no absolute path begins so."""
_LATEST = int(LATEST.timestamp())

strings = msgspec.json.Decoder(tuple[str, ...])
numbers = msgspec.json.Decoder(tuple[int, ...])
_SHOWN = 100
_C = TypeVar("_C", bound=type[Any])


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


def no_text(error: UnicodeEncodeError) -> UsageError:
    """Return the error for a text that no ledger can hold, such as a name that was typed in another encoding."""
    return UsageError(
        f"“{one_line(error.object, _SHOWN)}” is not valid UTF-8", where="the command line",
        advice="type it again; check that the terminal's encoding is UTF-8 (locale(1))",
    )  # fmt: skip


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
        except (ValueError, OverflowError, msgspec.MsgspecError) as error:
            raise damaged(str(error)) from error

    return telling


def as_list(values: Sequence[str] | Sequence[int]) -> str:
    """Return what `strings` or `numbers` reads back."""
    return msgspec.json.encode(values).decode()


def as_stored(path: str) -> str:
    """Return a path as a table can hold it: its bytes in hexadecimal, where it has some that are no UTF-8."""
    try:
        path.encode("utf-8")
    except UnicodeEncodeError:
        return _HEXADECIMAL + path.encode("utf-8", "surrogateescape").hex()
    return path


def as_path(stored: str | bytes) -> str:
    """Return what `as_stored` was given; releases before wrote bytes."""
    if isinstance(stored, str) and stored.startswith(_HEXADECIMAL):
        stored = bytes.fromhex(stored.removeprefix(_HEXADECIMAL))
    return stored.decode("utf-8", "surrogateescape") if isinstance(stored, bytes) else stored


def as_order(row: Row) -> OrderRecord:
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


def as_edition(row: Row) -> EditionRecord:
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


def edition_row(edition: EditionRecord) -> dict[str, str | int]:
    """Write an edition as `as_edition` reads it."""
    return {
        "certificate": edition.certificate,
        "number": edition.number,
        "names": as_list(edition.names),
        "issuer": edition.issuer,
        "root": edition.root,
        "serial": edition.serial,
        "sha256": edition.sha256,
        "not_before": from_moment(edition.not_before),
        "not_after": from_moment(edition.not_after),
        "authority": edition.authority,
        "key_kind": edition.key,
    }


def as_install(row: Row) -> InstallRecord:
    """Read a row of `install`."""
    return InstallRecord(
        id=row["id"],
        certificate=row["certificate"],
        edition=row["edition"],
        servers=strings.decode(row["servers"]),
        state=InstallState(row["state"]),
        at=to_moment(row["at"]),
    )
