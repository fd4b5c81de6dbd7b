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
