"""Time as a port: what waits or compares dates is handed a clock, so tests never sleep."""

import time
from dataclasses import dataclass, field
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
        """Wait for `seconds`."""
        ...


class SystemClock:
    """The machine's own clock."""

    def now(self) -> datetime:
        return datetime.now(UTC)

    def monotonic(self) -> float:
        return time.monotonic()

    def sleep(self, seconds: float) -> None:
        time.sleep(seconds)


@dataclass
class HandClock:
    """A clock that stands still until it is told to wait; for simulations and tests."""

    moment: datetime
    slept: list[float] = field(default_factory=list)

    def now(self) -> datetime:
        return self.moment

    def monotonic(self) -> float:
        return self.moment.timestamp()

    def sleep(self, seconds: float) -> None:
        self.slept.append(seconds)
        self.moment += timedelta(seconds=seconds)


def stamp(moment: datetime) -> str:
    """Write an aware moment as RFC 3339 in UTC to the second, as all output and records do."""
    return moment.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def whole_days(until: datetime, now: datetime) -> int:
    """Return the whole days from `now` to `until`, rounded down, negative when it is past."""
    return (until - now).days
