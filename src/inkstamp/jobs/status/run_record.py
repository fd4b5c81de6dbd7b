"""Whether `renew` runs as often as it should, by what its runs left."""

from datetime import datetime, timedelta

from inkstamp.ledger.run_summary import LastSweep

OVERDUE = timedelta(hours=30)
"""It runs twice a day, or at least every 24 hours; after this something keeps it from running."""


def is_overdue(last: LastSweep | None, now: datetime) -> bool:
    """Tell whether runs were missed; a first run is never late."""
    return last is not None and now - last.at > OVERDUE


def told_gap(last: LastSweep, now: datetime) -> str:
    """Say since when no run was made."""
    return f"`renew` has not run since {last.at:%Y-%m-%d %H:%M} UTC, for {_long(now - last.at)}"


def _long(gap: timedelta) -> str:
    return f"{gap.days} days" if gap.days >= 2 else f"{gap.total_seconds() // 3600:.0f} hours"
