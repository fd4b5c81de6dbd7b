"""What was heard of the newest edition of each certificate since it was issued: from its CA and from its servers."""

import sqlite3
from collections.abc import Mapping, Sequence
from datetime import datetime

import msgspec

from inkstamp.ledger.records import EditionRecord
from inkstamp.ledger.rows import telling_damage
from inkstamp.ledger.sqlite import Database, from_moment, to_moment
from inkstamp.policy.renewal_time import Window


class Tidings(msgspec.Struct, frozen=True, gc=False):
    """What was heard of one edition, and when to ask again; all empty for one that nobody was asked about."""

    certificate: str
    edition: int
    window_start: int = 0
    """Seconds since 1970, as all moments here; 0 for none."""
    window_end: int = 0
    explanation: str = ""
    ask_again: int = 0
    """When to ask the CA for its window."""
    revoked: int = 0
    """When the CA revoked it."""
    revoked_why: str = ""
    status_again: int = 0
    """When to ask whether it is revoked."""
    astray: str = ""
    """Where something else than this edition was served at the last look, in words; empty for nowhere."""
    look_again: int = 0
    """When to look at its servers."""

    @property
    def window(self) -> Window | None:
        """The CA's window."""
        if not self.window_end:
            return None
        return Window(to_moment(self.window_start), to_moment(self.window_end), self.explanation)


def _of_row(row: sqlite3.Row) -> Tidings | None:
    """Return a row's tidings, None where it holds what was never written: then all are asked anew."""
    heard = Tidings(*row)
    texts = (heard.certificate, heard.explanation, heard.revoked_why, heard.astray)
    numbers = (heard.edition, heard.window_start, heard.window_end, heard.ask_again, heard.revoked, heard.status_again,
               heard.look_again)  # fmt: skip
    sound = all(type(each) is str for each in texts) and all(type(each) is int for each in numbers)
    return heard if sound else None


def heard_of_window(window: Window | None, ask_again: datetime) -> dict[str, object]:
    """Return what the CA said of when to renew, None for nothing, as `TidingsBook.add` takes it."""
    start, end = (from_moment(window.start), from_moment(window.end)) if window else (0, 0)
    return {
        "window_start": start,
        "window_end": end,
        "explanation": window.explanation if window else "",
        "ask_again": from_moment(ask_again),
    }


@telling_damage
class TidingsBook:
    """The pages with tidings, one for each certificate; a newer edition begins a new page."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def all(self, only: str = "") -> dict[str, Tidings]:
        """Return what is known, of all certificates or of just one."""
        where = " WHERE certificate = :name" if only else ""
        columns = ", ".join(Tidings.__struct_fields__)
        rows = self._database.rows(f"SELECT {columns} FROM tidings{where}", {"name": only})  # noqa: S608
        return {row[0]: heard for row in rows if (heard := _of_row(row)) is not None}

    def of(self, edition: EditionRecord) -> Tidings:
        """Return what is known of an edition."""
        known = self.all(edition.certificate).get(edition.certificate)
        return of_edition(known, edition)

    def add(self, heard: Sequence[tuple[EditionRecord, Mapping[str, object]]]) -> None:
        """Write down what was heard of editions, by its names here; the rest stays as it was."""
        if not heard:
            return
        with self._database.writing():
            for edition, news in heard:
                grown = msgspec.structs.asdict(msgspec.structs.replace(self.of(edition), **news))
                self._database.put("tidings", {"certificate": grown.pop("certificate")}, **grown)


def of_edition(known: Tidings | None, edition: EditionRecord) -> Tidings:
    """Return what is known of an edition when `known` is the certificate's page; empty when that is of another one."""
    if known is not None and known.edition == edition.number:
        return known
    return Tidings(certificate=edition.certificate, edition=edition.number)
