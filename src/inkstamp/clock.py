"""Time as a port: what waits or compares dates is handed a clock, so tests never sleep."""

import threading
import time
from datetime import UTC, datetime, timedelta
from typing import Protocol


class Clock(Protocol):
    """Tells the time and waits."""

    def now(self) -> datetime:
        """Return the present moment, aware, in UTC."""
        ...

    def monotonic(self) -> float:
        """Return seconds that never go backwards, from an arbitrary zero."""
        ...

    def sleep(self, seconds: float) -> None:
        """Wait for `seconds`; KeyboardInterrupt when nobody is to wait any more."""
        ...

    def stop_waiting(self) -> None:
        """Have threads that sleep by this clock, now or later, end as by Ctrl-C, which reaches one of them alone."""
        ...


class SystemClock:
    """The machine's own clock, put right where another one counts."""

    def __init__(self) -> None:
        self._stopping = threading.Event()
        self.behind = timedelta()
        """By how much the clock that counts is ahead of the machine's."""

    def now(self) -> datetime:
        return datetime.now(UTC) + self.behind

    def monotonic(self) -> float:
        return time.monotonic()

    def sleep(self, seconds: float) -> None:
        if self._stopping.wait(seconds):
            raise KeyboardInterrupt

    def stop_waiting(self) -> None:
        self._stopping.set()


def stamp(moment: datetime) -> str:
    """Write an aware moment as RFC 3339 in UTC to the second, as all output and records do."""
    return moment.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


EARLIEST = datetime(1970, 1, 1, tzinfo=UTC)
LATEST = datetime(9999, 1, 1, tzinfo=UTC)
"""Between these, moments can be compared, written, and reckoned with by years."""


def clamped(moment: datetime) -> datetime:
    """Return an aware moment that a stranger named, in UTC and within what can be reckoned with."""
    try:
        return min(max(moment.astimezone(UTC), EARLIEST), LATEST)
    except (OverflowError, ValueError):  # at the edge of time, in a zone that leads beyond it
        return LATEST if moment.year > EARLIEST.year else EARLIEST


def whole_days(until: datetime, now: datetime) -> int:
    """Return the whole days from `now` to `until`, rounded down, negative when it is past."""
    return (until - now).days
