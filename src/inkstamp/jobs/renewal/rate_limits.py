"""What CAs said of how often they may be asked, for all that is ordered of them in one run.

A limit (RFC 8555 section 6.6) may be about one certificate's names or about the account, and the CA does not say which.
A short one is waited for by everything that is ordered of that CA, and nothing else. After a long one the next
certificate is tried all the same; when several in a row meet one, it is about the account, and the rest is left to
later runs. Where several machines share the ledger, what one of them was told holds for all.
"""

import threading
from datetime import timedelta

from msgspec import Struct, field

from inkstamp import deadline
from inkstamp.clock import Clock, stamp
from inkstamp.errors import CaProblem, StillWaiting
from inkstamp.locks import Locks
from inkstamp.progress import Progress

_KIND = "rateLimited"
_UNTOLD = 60.0
"""Seconds, where the CA names none."""
_LONGEST = 900.0
"""Seconds that are waited for within a run."""
_IN_A_ROW = 3
"""Certificates in a row that meet a long limit until it is taken for one about the account."""
_SLICE = 5.0
_SAME = 1.0
"""Seconds by which two clocks may tell the end of one rest differently."""


class _Limit(Struct):
    until: float = 0.0
    """Seconds of the monotonic clock before which the CA is not asked."""
    in_a_row: int = 0
    is_closed: bool = False
    told: set[float] = field(default_factory=set)


class RateLimits:
    """The limits that were met in one run, by authority; safe to share between threads."""

    def __init__(self, clock: Clock, progress: Progress, locks: Locks) -> None:
        self._clock = clock
        self._progress = progress
        self._locks = locks
        self._limits: dict[str, _Limit] = {}
        self._lock = threading.Lock()

    def _of(self, authority: str) -> _Limit:
        return self._limits.setdefault(authority, _Limit())

    def seconds_left(self) -> float:
        """Return how long the authority that rests longest is left alone yet; 0 for none."""
        now = self._clock.monotonic()
        with self._lock:
            return max((each.until - now for each in self._limits.values() if not each.is_closed), default=0.0)

    def wait(self, authority: str) -> None:
        """Wait until an authority may be asked.

        Raises:
            StillWaiting: That is later than a run waits.

        """
        elsewhere = self._locks.rests(authority)
        with self._lock:
            limit = self._of(authority)
            ends = self._clock.monotonic() + elsewhere
            if elsewhere > 0 and ends > limit.until + _SAME:
                limit.until = ends
        while True:
            with self._lock:
                left = limit.until - self._clock.monotonic()
                if left <= 0:
                    return
                first = limit.until not in limit.told
                limit.told.add(limit.until)
            if limit.is_closed or left > _LONGEST or deadline.is_over():
                until = stamp(self._clock.now() + timedelta(seconds=left))
                raise StillWaiting(
                    f"the rate limit of “{authority}” is used up",
                    advice=f"a run of `inkstamp renew` continues after {until}",
                )
            if first:
                self._progress.waits(f"“{authority}” limits how much it is asked; other CAs go on", left)
            self._clock.sleep(min(left, _SLICE))

    def met(self, authority: str, problem: CaProblem) -> bool:
        """Take note of a problem; returns whether it was a limit that is worth waiting for, and then asking again."""
        if problem.kind != _KIND:
            return False
        pause = problem.retry_after or _UNTOLD
        with self._lock:
            limit = self._of(authority)
            limit.in_a_row += 1
            is_short = pause <= _LONGEST
            if is_short:
                limit.until = max(limit.until, self._clock.monotonic() + pause)
            elif limit.in_a_row >= _IN_A_ROW:
                limit.is_closed, limit.until = True, self._clock.monotonic() + pause
            is_about_all = is_short or limit.is_closed
        if is_about_all:
            self._locks.rest(authority, pause)
        return is_short

    def passed(self, authority: str) -> None:
        """Take note that an authority issued something."""
        with self._lock:
            self._of(authority).in_a_row = 0
