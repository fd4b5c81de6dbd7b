"""The leases that this process holds, as far as it can know without asking: no import of a database's driver.

A lease is a row in the shared ledger that says who works on something, and until when by the database's clock. Its
fence is a number that grows with each taking. Whoever lost a lease without noticing, because it was stopped or cut
off, must not act any more: `expect` is asked before each action outside, and every transaction that writes looks for
the fences itself.
"""

import threading
import time
from collections.abc import Collection

from inkstamp.errors import LeaseLost

SECONDS = 60.0
"""How long a lease lasts by the database's clock, unless it is renewed or the configuration says otherwise."""
_MARGIN = 1 / 6
"""The part of it before its end in which a lease is taken for lost here: an action that has begun takes a moment."""


def _uptime() -> float:
    """Return seconds by a clock that nobody sets, and which goes on while the machine sleeps."""
    return time.clock_gettime(time.CLOCK_BOOTTIME)


class Fences:
    """The leases that are held; safe to share between threads."""

    def __init__(self, seconds: float = SECONDS) -> None:
        self.seconds = seconds
        """How long a lease lasts."""
        self._lasts = seconds * (1 - _MARGIN)
        self._lock = threading.Lock()
        self._held: dict[int, tuple[float, str]] = {}
        self._lost: dict[int, str] = {}

    def add(self, fence: int, what: str, asked: float) -> None:
        """Hold a lease that was asked for at a moment of `now`; `what` it is on, as people are told."""
        with self._lock:
            self._held[fence] = (asked + self._lasts, what)

    def remove(self, fence: int) -> None:
        """Hold a lease no longer."""
        with self._lock:
            self._held.pop(fence, None)
            self._lost.pop(fence, None)

    def renewed(self, fences: Collection[int], asked: float) -> None:
        """Have leases last longer, renewed by a question that was asked at a moment of `now`."""
        with self._lock:
            for fence in fences:
                if fence in self._held:
                    self._held[fence] = (asked + self._lasts, self._held[fence][1])

    def now(self) -> float:
        """Return the moment, in seconds of a clock that only goes forward."""
        return _uptime()

    def numbers(self) -> list[int]:
        """Return the fences that are held, in their order."""
        with self._lock:
            return sorted(self._held)

    def lose(self, fences: Collection[int]) -> None:
        """Hold leases no longer that somebody else was given; `expect` raises until they are let go."""
        with self._lock:
            self._lost.update({fence: self._held[fence][1] for fence in fences if fence in self._held})

    def expect_all(self, held: Collection[int], found: Collection[int]) -> None:
        """Raise LeaseLost where one of those that are held is not among those that the database knows."""
        self.lose(set(held) - set(found))
        self.expect()

    def expect(self) -> None:
        """Raise LeaseLost when a lease that is held has been taken by another, or may have been; asks nobody."""
        now = _uptime()
        with self._lock:
            lost = list(self._lost.values()) + [what for until, what in self._held.values() if until < now]
        if lost:
            raise LeaseLost(
                f"the lease on {lost[0]} is lost: another machine may be at work on it",
                said="the database could not be asked for longer than a lease lasts, or this process was stopped",
                advice="nothing has to be done: whoever has the lease now goes on, or the next run of this machine",
            )
