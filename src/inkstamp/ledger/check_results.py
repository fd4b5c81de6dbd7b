"""What `check` saw at each name the last time."""

from collections.abc import Iterable, Mapping
from datetime import datetime

import msgspec

from inkstamp.clock import Clock
from inkstamp.decoding import from_json
from inkstamp.ledger.interface import NOWHERE, Database, Here, among
from inkstamp.ledger.rows import from_moment, telling_damage, to_moment


class CheckResult(msgspec.Struct, frozen=True, kw_only=True):
    """What was seen, as far as a later look is compared with it."""

    verdict: str
    addresses: dict[str, str]
    """By address, the SHA-256 of the leaf that it served; empty where it served none."""
    findings: tuple[tuple[str, str, str, str], ...]
    """Severity, topic, subject and what was seen, of all that is not good."""


@telling_damage
class CheckResults:
    """The ledger's pages on what `check` saw: of each name the last whole look, and the last quick one."""

    def __init__(self, database: Database, clock: Clock, here: Here = NOWHERE) -> None:
        """Open the pages; a machine that only installs has none of its own, and may not write into the others'."""
        self._database = database
        self._clock = clock
        self._here = here

    def last(self, names: Iterable[str], *, quick: bool) -> dict[str, tuple[datetime, CheckResult]]:
        """Return when names were looked at last (aware, UTC) and what was seen; those that never were are left out.

        `quick` means looks that stopped after the first handshake.
        """
        found = {}
        for where, some in among("name", list(names)):
            query = f"SELECT name, at, seen FROM look WHERE quick = :quick AND {where}"  # noqa: S608
            for row in self._database.rows(query, {**some, "quick": int(quick)}):
                found[row["name"]] = to_moment(row["at"]), from_json(row["seen"], CheckResult)
        return found

    def keep(self, looks: Mapping[str, CheckResult], *, quick: bool) -> None:
        """Write down what was seen now, in the place of what was seen before by the same sort of look."""
        if not self._here.orders:
            return
        now = from_moment(self._clock.now())
        with self._database.writing():
            for name, look in looks.items():
                seen = msgspec.json.encode(look).decode()
                self._database.upsert("look", {"name": name, "quick": int(quick)}, at=now, seen=seen)
