"""On which day a certificate is renewed, so that an authority is asked for about as many each day. Pure.

Certificates that are issued in one wave would come back as a wave with every lifetime. So each is given a day when it
is issued: the one with the fewest renewals planned, among the days that its lifetime allows. Where these are crowded,
as after a first wave, earlier days are taken too, so that the wave is worked down over its first lifetime and is gone.
"""

from collections.abc import Mapping
from datetime import UTC, datetime, timedelta

from msgspec import Struct

from inkstamp.policy.renewal_time import renewal_moment

_DAY = 86_400
_EARLIEST = 10
"""One part in so many of a lifetime is used at least."""
CROWDED = 1.1
"""A day is crowded that has this many times its share of all that is planned,"""
FEW = 20
"""but not with so few renewals."""
_ROOM = 1.4
"""A day takes this many times its share of all that is planned, where renewals had to wait."""


class AllowedDays(Struct, frozen=True):
    """The days (since 1970, UTC) on which a certificate may be renewed."""

    early: int
    """The first of all."""
    usual: int
    """The first that is not before half of its lifetime is over."""
    last: int
    """The last that leaves as much of the lifetime as is always left."""


def day_of(moment: datetime) -> int:
    """Return the day since 1970 (UTC) of an aware moment."""
    return int(moment.timestamp()) // _DAY


def midnight(moment: datetime) -> datetime:
    """Return the beginning (UTC) of an aware moment's day."""
    return datetime.fromtimestamp(day_of(moment) * _DAY, UTC)


def allowed_days(not_before: datetime, not_after: datetime, with_left: float | None) -> AllowedDays:
    """Return the days on which a certificate with that validity may be renewed; `with_left` as configured."""
    lifetime = not_after - not_before
    latest = renewal_moment(not_before, not_after, with_left=with_left)
    usual = min(day_of(not_before + lifetime / 2), day_of(latest))
    early = min(max(day_of(not_before + lifetime / _EARLIEST), day_of(not_before) + 1), usual)
    return AllowedDays(early, usual, day_of(latest))


def choose_day(days: AllowedDays, planned: Mapping[int, int], today: int) -> int:
    """Return the day with the fewest renewals planned; of several, the last.

    Args:
        days: Those that are allowed.
        planned: How many are planned at the same authority, by day; those of today and later count.
        today: When it is issued.

    """
    usual = range(max(days.usual, today), days.last + 1)
    least = min(usual, key=lambda day: (planned.get(day, 0), -day))
    whole = sum(count for day, count in planned.items() if day >= today) + 1
    share = whole / max(days.last - today, 1)
    if planned.get(least, 0) < max(CROWDED * share, FEW):
        return least
    return min(
        range(max(days.early, today + 1), days.last + 1), key=lambda day: (planned.get(day, 0), -day), default=least
    )


def moment_in(
    day: int, not_before: datetime, not_after: datetime, with_left: float | None, fraction: float
) -> datetime:
    """Return a certificate's own moment in its day; `fraction` from 0 to 1 is steady for each certificate."""
    begin = datetime.fromtimestamp(day * _DAY, UTC)
    end = min(begin + timedelta(days=1), renewal_moment(not_before, not_after, with_left=with_left))
    return begin + (end - begin) * fraction if end > begin else end


def room_today(planned: int, span: int, ordered: int) -> int:
    """Return how many more renewals may be ordered today without a wave, after days on which nothing could be.

    Args:
        planned: Renewals that are planned at the authority from today on, those that are due included.
        span: Days from one renewal of a certificate to the next.
        ordered: How many renewals were ordered today.

    """
    return max(int(max(_ROOM * planned / max(span, 1), FEW)) - ordered, 0)
