"""How many certificates all machines together order of an authority at a time, and for how long it asked for none.

Each lease that counts says which authority it counts for, and is taken only while fewer than `at_once` of them are
held: in one statement, inside the turn of all writers, so that two machines never take the last place. A machine that
finds none says that it waits, by a lease without a place, and while one waits no other takes more than its share. The
authority's wish to be left alone (Retry-After, RFC 9110 section 10.2.3) is a lease that nobody holds and nobody renews.
"""

import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field

from inkstamp.errors import StillWaiting
from inkstamp.ledger.interface import Database
from inkstamp.locks import Quota

WAIT_SECONDS = 3600.0
"""How long a place is waited for, where all that an authority has are taken by other machines."""
_PAUSE = 0.3
_SAID_SECONDS = 3.0
"""How long a machine counts as one that waits, after it has said so."""
_LONGEST_REST = 4 * 3600.0
"""Seconds; then an authority that asks for more is tried again by one certificate."""
_SAY = """
INSERT INTO lease (key, what, machine, place, command, until, fence, authority)
VALUES (:key, :what, :machine, '', '', clock_timestamp() + make_interval(secs => :seconds), nextval('lease_fence'),
    :authority)
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

    def await_place(self, quota: Quota, until: float) -> None:
        """Say that this machine waits to order of an authority, and wait a moment.

        Args:
            quota: What is used up.
            until: Until when it is waited for, by the monotonic clock.

        Raises:
            StillWaiting: That is over.

        """
        with self._asking.setdefault(quota.authority, threading.Lock()):
            if time.monotonic() + _PAUSE > until:
                raise StillWaiting(
                    f"other machines have ordered {quota.at_once} certificates of “{quota.authority}” at a time"
                    " all the while", where=f"[authority.{quota.authority}] at_once",
                    advice="the next run of `inkstamp renew` continues; a larger at_once lets more go on together",
                )  # fmt: skip
            self._say(f"waits-{quota.authority}-{self.machine}", f"a place at “{quota.authority}”", _SAID_SECONDS,
                      quota.authority)  # fmt: skip
            time.sleep(_PAUSE)

    def _say(self, key: str, what: str, seconds: float, authority: str = "") -> None:
        database = self.database()
        with database.writing():
            database.execute(_SAY, {"key": key, "what": what, "machine": self.machine, "seconds": seconds,
                                    "authority": authority})  # fmt: skip

    def rest(self, authority: str, seconds: float) -> None:
        """Have all machines leave an authority alone for a while, four hours at most."""
        self._say(f"rest-{authority}", f"the rest that “{authority}” asked for", min(seconds, _LONGEST_REST))

    def rests(self, authority: str) -> float:
        """Return for how many seconds an authority is to be left alone, by the database's clock; 0 for not at all."""
        row = self.database().row(_RESTS, {"key": f"rest-{authority}"})
        return float(row["left"]) if row is not None else 0.0
