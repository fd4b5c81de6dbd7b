"""When a certificate is due, by its lifetime."""

from dataclasses import dataclass
from datetime import datetime, timedelta

_SHORT_LIFE = timedelta(days=10)


@dataclass(frozen=True, slots=True)
class Decision:
    """Whether to renew now, and why."""

    due: bool
    at: datetime
    """The moment from which it is due; aware, UTC."""
    reason: str


def renewal_moment(not_before: datetime, not_after: datetime) -> datetime:
    """Return the moment from which a certificate should be renewed.

    With one third of its lifetime left; with half of it left when the lifetime is under ten days, since then
    a third is too little to mend anything in.
    """
    lifetime = not_after - not_before
    left = lifetime / 2 if lifetime < _SHORT_LIFE else lifetime / 3
    return not_after - left


def decide(not_before: datetime, not_after: datetime, now: datetime) -> Decision:
    """Decide whether a certificate with that validity is due at `now` (all aware)."""
    at = renewal_moment(not_before, not_after)
    if now >= not_after:
        return Decision(True, at, "it has expired")
    if now >= at:
        return Decision(True, at, f"{(not_after - now).days} days of its lifetime are left")
    return Decision(False, at, "")


_FIRST_PAUSE = timedelta(minutes=30)
_LONGEST_PAUSE = timedelta(hours=12)
_LEAST_PAUSE = timedelta(minutes=5)
_SHARE_OF_REST = 20
"""What is left of the lifetime holds so many tries at least, however often it failed."""


def next_try(times: int, last: datetime, not_after: datetime | None) -> datetime:
    """Return the moment from which an order that failed may be tried again.

    Half an hour after the first failure, twice as long after each further one, twelve hours at most: a CA counts
    failures by the hour and the week, and a broken name must not use its limit up. Towards the end the pauses shrink.

    Args:
        times: How often it failed in the same way, from 1.
        last: When it did last; aware.
        not_after: End of the edition that there is; None for none.

    """
    doublings = max(min(times - 1, 10), 0)
    pause: timedelta = min(_FIRST_PAUSE * (1 << doublings), _LONGEST_PAUSE)
    if not_after is not None and not_after > last:
        pause = min(pause, max((not_after - last) / _SHARE_OF_REST, _LEAST_PAUSE))
    return last + pause
