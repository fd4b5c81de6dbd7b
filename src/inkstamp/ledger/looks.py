"""What `check` saw at each name the last time."""

from collections.abc import Iterable, Mapping
from datetime import datetime

import msgspec

from inkstamp.clock import Clock
from inkstamp.ledger.database import Database, from_moment, to_moment

_TOGETHER = 500
"""Names asked about in one question."""


class Look(msgspec.Struct, frozen=True, kw_only=True):
    """What was seen, as far as a later look is compared with it."""

    verdict: str
    addresses: dict[str, str]
    """By address, the SHA-256 of the leaf that it served; empty where it served none."""
    findings: tuple[tuple[str, str, str, str], ...]
    """Severity, topic, subject and what was seen, of all that is not good."""
    quick: bool
    """Whether it stopped after the first handshake, and so says nothing of what lies behind."""


class Looks:
    """The ledger's pages on what `check` saw; one a name, the last one."""

    def __init__(self, database: Database, clock: Clock) -> None:
        self._database = database
        self._clock = clock

    def last(self, names: Iterable[str]) -> dict[str, tuple[datetime, Look]]:
        """Return when names were looked at last (aware, UTC) and what was seen; those that never were are left out."""
        wanted = list(names)
        found = {}
        for begin in range(0, len(wanted), _TOGETHER):
            some = {f"n{number}": name for number, name in enumerate(wanted[begin : begin + _TOGETHER])}
            marks = ", ".join(f":{mark}" for mark in some)
            for row in self._database.rows(f"SELECT name, at, seen FROM look WHERE name IN ({marks})", some):  # noqa: S608
                found[row["name"]] = to_moment(row["at"]), msgspec.json.decode(row["seen"], type=Look)
        return found

    def keep(self, looks: Mapping[str, Look]) -> None:
        """Write down what was seen now, in the place of what was seen before."""
        now = from_moment(self._clock.now())
        with self._database.writing():
            for name, look in looks.items():
                self._database.execute("DELETE FROM look WHERE name = :name", {"name": name})
                self._database.insert("look", name=name, at=now, seen=msgspec.json.encode(look).decode())
