"""A clock for tests: it goes only when it is told to wait."""

from dataclasses import dataclass, field
from datetime import datetime, timedelta


@dataclass
class HandClock:
    """Stands still until it is told to wait, and remembers the waits."""

    moment: datetime
    slept: list[float] = field(default_factory=list)

    def now(self) -> datetime:
        return self.moment

    def monotonic(self) -> float:
        return self.moment.timestamp()

    def stop_waiting(self) -> None:
        raise AssertionError("nobody stops it")

    def sleep(self, seconds: float) -> None:
        self.slept.append(seconds)
        self.moment += timedelta(seconds=seconds)
