"""What was heard of the newest edition of each certificate since it was issued: from its CA and from its servers."""

from collections.abc import Sequence
from datetime import datetime
from typing import TypedDict

import msgspec

from inkstamp.ledger.interface import NOWHERE, Database, Here, Row, among
from inkstamp.ledger.records import EditionRecord
from inkstamp.ledger.roster import mark_changed
from inkstamp.ledger.rows import from_moment, telling_damage, to_moment
from inkstamp.policy.load_levelling import day_of
from inkstamp.policy.renewal_time import Window


class Observation(msgspec.Struct, frozen=True):
    """What was heard of one edition, and when to ask again; all empty for one that nobody was asked about.

    All moments are aware, UTC; None for a moment to ask again means that nobody was asked yet.
    """

    certificate: str
    edition: int
    window: Window | None = None
    """When its CA wants it to be renewed (RFC 9773)."""
    ask_again: datetime | None = None
    """When to ask the CA for its window."""
    revoked: datetime | None = None
    """When the CA revoked it."""
    revoked_why: str = ""
    status_again: datetime | None = None
    """When to ask whether it is revoked."""
    astray: str = ""
    """Where something else than this edition was served at the last look, in words; empty for nowhere."""
    look_again: datetime | None = None
    """When to look at its servers."""
    planned: datetime | None = None
    """From when it is to be renewed, as was decided when it was issued; None where nothing was."""
    records: str = ""
    """How the validation records are that stay in DNS, a line each; empty for not looked at."""
    records_trouble: str = ""
    """What a person has to do about them, as a sentence; empty for nothing."""
    records_again: datetime | None = None
    """When to look at them."""


class Heard(TypedDict, total=False):
    """What was heard in one go: some of the fields of an observation."""

    window: Window | None
    ask_again: datetime
    revoked: datetime
    revoked_why: str
    status_again: datetime
    astray: str
    look_again: datetime
    records: str
    records_trouble: str
    records_again: datetime


_SEEN_HERE = frozenset({"astray", "look_again"})
"""What each machine sees for itself, of the servers on it."""
_COLUMNS = ("certificate", "edition", "window_start", "window_end", "explanation", "ask_again", "revoked",
            "revoked_why", "status_again", "astray", "look_again", "planned", "records",
            "records_trouble", "records_again")  # fmt: skip


def _of_row(row: Row) -> Observation | None:
    """Return a row's observation, None where it holds what was never written: then all are asked anew."""
    texts = (row["certificate"], row["explanation"], row["revoked_why"], row["astray"], row["records"],
             row["records_trouble"])  # fmt: skip
    numbers = (row["edition"], row["window_start"], row["window_end"], row["ask_again"], row["revoked"],
               row["status_again"], row["look_again"], row["planned"], row["records_again"])  # fmt: skip
    if not (all(type(each) is str for each in texts) and all(type(each) is int for each in numbers)):
        return None
    window = None
    if row["window_end"]:
        window = Window(to_moment(row["window_start"]), to_moment(row["window_end"]), row["explanation"])
    return Observation(
        row["certificate"],
        row["edition"],
        window,
        _moment(row["ask_again"]),
        _moment(row["revoked"]),
        row["revoked_why"],
        _moment(row["status_again"]),
        row["astray"],
        _moment(row["look_again"]),
        _moment(row["planned"]),
        row["records"],
        row["records_trouble"],
        _moment(row["records_again"]),
    )


def _moment(stored: int) -> datetime | None:
    return to_moment(stored) if stored else None


def _stored(moment: datetime | None) -> int:
    return from_moment(moment) if moment is not None else 0


def _as_row(observation: Observation) -> dict[str, int | str]:
    """Return what the table holds of an observation, but for its certificate."""
    window = observation.window
    return {
        "edition": observation.edition,
        "window_start": _stored(window.start if window else None),
        "window_end": _stored(window.end if window else None),
        "explanation": window.explanation if window else "",
        "ask_again": _stored(observation.ask_again),
        "revoked": _stored(observation.revoked),
        "revoked_why": observation.revoked_why,
        "status_again": _stored(observation.status_again),
        "astray": observation.astray,
        "look_again": _stored(observation.look_again),
        "planned": _stored(observation.planned),
        "records": observation.records,
        "records_trouble": observation.records_trouble,
        "records_again": _stored(observation.records_again),
    }


@telling_damage
class Observations:
    """The pages one for each certificate; a newer edition begins a new page."""

    def __init__(self, database: Database, here: Here = NOWHERE) -> None:
        """Open the pages; what is seen of servers on a machine is its own, where several share the ledger."""
        self._database = database
        self._machine = here.machine

    def all(self, only: Sequence[str] | None = None) -> dict[str, Observation]:
        """Return what is known, of all certificates or of some."""
        columns = ", ".join(_COLUMNS)
        found = [
            _of_row(row)
            for where, names in among("certificate", only)
            for row in self._database.rows(f"SELECT {columns} FROM tidings WHERE {where}", names)  # noqa: S608
        ]
        known = {each.certificate: each for each in found if each is not None}
        return self._as_seen_here(known, only) if self._machine else known

    def _as_seen_here(self, known: dict[str, Observation], only: Sequence[str] | None) -> dict[str, Observation]:
        """Return what is known with this machine's own looks at its servers in the place of others'."""
        rows = {
            row["certificate"]: row
            for where, names in among("certificate", only)
            for row in self._database.rows(
                f"SELECT * FROM machine_look WHERE machine = :machine AND {where}",  # noqa: S608  words of ours alone
                {**names, "machine": self._machine},
            )
        }
        seen = {name: msgspec.structs.replace(each, astray="", look_again=None) for name, each in known.items()}
        for name, row in rows.items():
            page = seen.get(name) or Observation(certificate=name, edition=row["edition"])
            if page.edition == row["edition"]:
                again = _moment(row["look_again"])
                seen[name] = msgspec.structs.replace(page, astray=row["astray"], look_again=again)
        return seen

    def of(self, edition: EditionRecord) -> Observation:
        """Return what is known of an edition."""
        known = self.all([edition.certificate]).get(edition.certificate)
        return of_edition(known, edition)

    def add(self, heard: Sequence[tuple[EditionRecord, Heard]]) -> None:
        """Write down what was heard of editions; the rest stays as it was."""
        if not heard:
            return
        with self._database.writing():
            for edition, news in heard:
                grown = msgspec.structs.replace(self.of(edition), **news)
                if self._machine and ("astray" in news or "look_again" in news):
                    self._keep_look(grown)
                    if not set(news) - _SEEN_HERE:
                        continue
                mark_changed(self._database, grown.certificate)
                self._database.upsert("tidings", {"certificate": grown.certificate}, **_as_row(grown))

    def _keep_look(self, seen: Observation) -> None:
        """Write down what this machine saw of its own servers, which is no other's concern."""
        key = {"machine": self._machine, "certificate": seen.certificate}
        self._database.upsert("machine_look", key, edition=seen.edition, astray=seen.astray,
                              look_again=_stored(seen.look_again))  # fmt: skip

    def planned_days(self, authority: str, first: int, last: int) -> dict[int, int]:
        """Return how many renewals are planned at an authority on each day (since 1970, UTC) of some."""
        rows = self._database.rows(
            "SELECT day, renewals FROM planned_day WHERE authority = :authority AND day BETWEEN :first AND :last",
            {"authority": authority, "first": first, "last": last},
        )
        return {row["day"]: row["renewals"] for row in rows}

    def plan(self, edition: EditionRecord, at: datetime) -> None:
        """Write down, inside a transaction, from when an edition, the newest one, is to be renewed.

        It takes the place of what was planned for the edition before.
        """
        known = self.all([edition.certificate]).get(edition.certificate)
        self._take_out(known)
        planned = msgspec.structs.replace(of_edition(known, edition), planned=at)
        mark_changed(self._database, edition.certificate)
        self._database.upsert("tidings", {"certificate": edition.certificate}, **_as_row(planned))
        self._count(edition.authority, at, 1)

    def _take_out(self, known: Observation | None) -> None:
        """Count the renewal no longer that was planned for a certificate's edition before."""
        if known is not None and known.planned is not None:
            row = self._database.row(
                "SELECT authority FROM edition WHERE certificate = :certificate AND number = :number",
                {"certificate": known.certificate, "number": known.edition},
            )
            if row is not None:
                self._count(row["authority"], known.planned, -1)

    def _count(self, authority: str, at: datetime, change: int) -> None:
        key = {"authority": authority, "day": day_of(at)}
        changed = self._database.execute(
            "UPDATE planned_day SET renewals = renewals + :change WHERE authority = :authority AND day = :day",
            {**key, "change": change},
        )
        if not changed:
            self._database.insert("planned_day", **key, renewals=max(change, 0))

    def forget(self, certificate: str) -> None:
        """Forget what is known of a certificate that is given up, inside a transaction."""
        self._take_out(self.all([certificate]).get(certificate))
        if self._machine:
            self._database.execute("DELETE FROM machine_look WHERE certificate = :name", {"name": certificate})
        self._database.execute("DELETE FROM tidings WHERE certificate = :name", {"name": certificate})


def of_edition(known: Observation | None, edition: EditionRecord) -> Observation:
    """Return what is known of an edition when `known` is the certificate's page; empty when that is of another one."""
    if known is not None and known.edition == edition.number:
        return known
    return Observation(certificate=edition.certificate, edition=edition.number)
