"""How many certificates all machines together order of an authority at a time, and for how long it asked for none.

Each lease that counts says which authority it counts for, and is taken only while fewer than `at_once` of them are
held: in one statement, inside the turn of all writers, so that two machines never take the last place. The authority's
wish to be left alone (Retry-After, RFC 9110 section 10.2.3) is a lease that nobody holds and nobody renews.
"""

import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field

from inkstamp.deadline import time_left
from inkstamp.errors import StillWaiting
from inkstamp.ledger.interface import Database
from inkstamp.locks import Quota

_WAIT_SECONDS = 3600.0
"""How long a place is waited for, where all that an authority has are taken by other machines."""
_FIRST_PAUSE, _LONGEST_PAUSE = 0.1, 1.0
_LONGEST_REST = 4 * 3600.0
"""Seconds; then an authority that asks for more is tried again by one certificate."""
_TAKEN = "SELECT count(*) AS number FROM lease WHERE authority = :authority AND until >= clock_timestamp()"
_REST = """
INSERT INTO lease (key, what, machine, place, command, until, fence, authority)
VALUES (:key, :what, :machine, '', '', clock_timestamp() + make_interval(secs => :seconds), nextval('lease_fence'), '')
ON CONFLICT (key) DO UPDATE SET machine = excluded.machine, until = greatest(lease.until, excluded.until)
"""
_RESTS = "SELECT greatest(extract(epoch FROM until - clock_timestamp()), 0)::float8 AS left FROM lease WHERE key = :key"


@dataclass(frozen=True)
class Quotas:
    """What all machines that share a ledger keep to; safe to share between threads."""

    database: Callable[[], Database]
    machine: str
    _asking: dict[str, threading.Lock] = field(default_factory=dict)
    """By authority: one thread asks for a place, for all that wait."""

    def await_place(self, quota: Quota) -> None:
        """Wait until fewer are ordered of an authority than may be.

        Raises:
            StillWaiting: The time of the run is over before that, or an hour.

        """
        until, pause = time.monotonic() + time_left(_WAIT_SECONDS), _FIRST_PAUSE
        with self._asking.setdefault(quota.authority, threading.Lock()):
            while True:
                row = self.database().row(_TAKEN, {"authority": quota.authority})
                if row is None or row["number"] < quota.at_once:
                    return
                if time.monotonic() + pause > until:
                    raise StillWaiting(
                        f"other machines have ordered {quota.at_once} certificates of “{quota.authority}” at a time"
                        " all the while", where=f"[authority.{quota.authority}] at_once",
                        advice="the next run of `inkstamp renew` continues; a larger at_once lets more go on together",
                    )  # fmt: skip
                time.sleep(pause)
                pause = min(pause * 2, _LONGEST_PAUSE)

    def rest(self, authority: str, seconds: float) -> None:
        """Have all machines leave an authority alone for a while, four hours at most."""
        database = self.database()
        with database.writing():
            database.execute(_REST, {"key": f"rest-{authority}", "what": f"the rest that “{authority}” asked for",
                                     "machine": self.machine, "seconds": min(seconds, _LONGEST_REST)})  # fmt: skip

    def rests(self, authority: str) -> float:
        """Return for how many seconds an authority is to be left alone, by the database's clock; 0 for not at all."""
        row = self.database().row(_RESTS, {"key": f"rest-{authority}"})
        return float(row["left"]) if row is not None else 0.0
