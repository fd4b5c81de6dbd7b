"""What comes in the next weeks: expiries and planned renewals, counted. Pure."""

from collections import Counter
from collections.abc import Sequence
from datetime import date, datetime, timedelta

from msgspec import Struct

_WEEK = timedelta(days=7)


class Life(Struct, frozen=True, kw_only=True):
    """One certificate's newest edition."""

    name: str
    authority: str
    not_before: datetime
    not_after: datetime
    renews_at: datetime
    """From when it is renewed; in the past for one that is due."""
    window: tuple[datetime, datetime] | None
    """What the CA suggests; None where it does not."""
    validated_until: datetime | None = None
    """At a portal: until when its CA may go by the last validation of its names; None where that is not known."""

    def is_late(self, now: datetime) -> bool:
        """Tell whether it should have been renewed for a day: a timer runs twice a day."""
        return now > self.not_after or now - self.renews_at > timedelta(days=1)


class Week(Struct, frozen=True, kw_only=True):
    """Seven days."""

    begins: date
    """A Monday, in UTC."""
    renewals: tuple[str, ...]
    """Certificates whose renewal is planned in it, the first one first; what is due already counts to this week."""
    expiries: tuple[str, ...]
    """Certificates whose newest edition expires in it, if it is not renewed before."""


class Outlook(Struct, frozen=True, kw_only=True):
    """What comes."""

    weeks: tuple[Week, ...]
    late: tuple[str, ...]
    """What should have been renewed already; the first to expire first."""
    later: int
    """Renewals that are planned after those weeks."""


def look_ahead(lives: Sequence[Life], now: datetime, weeks: int) -> Outlook:
    """Sort renewals and expiries of the next `weeks` weeks into these; `now` is aware."""
    first = monday(now)
    end = first + weeks * _WEEK
    renewals: dict[date, list[tuple[datetime, str]]] = {}
    expiries: dict[date, list[tuple[datetime, str]]] = {}
    for each in lives:
        planned = max(each.renews_at, now)
        renewals.setdefault(monday(planned), []).append((each.renews_at, each.name))
        if each.not_after >= now:
            expiries.setdefault(monday(each.not_after), []).append((each.not_after, each.name))
    late = sorted((each.not_after, each.name) for each in lives if each.is_late(now))
    return Outlook(
        weeks=tuple(
            Week(
                begins=begins,
                renewals=tuple(name for _, name in sorted(renewals.get(begins, ()))),
                expiries=tuple(name for _, name in sorted(expiries.get(begins, ()))),
            )
            for begins in (first + number * _WEEK for number in range(weeks))
        ),
        late=tuple(name for _, name in late),
        later=sum(len(many) for begins, many in renewals.items() if begins >= end),
    )


def monday(moment: datetime) -> date:
    """Return the Monday of a moment's week."""
    return moment.date() - timedelta(days=moment.weekday())


def by_day(lives: Sequence[Life], now: datetime, days: int) -> list[int]:
    """Count planned renewals for each of the next `days` days; what is due counts to the first."""
    counts = Counter((max(each.renews_at, now).date() - now.date()).days for each in lives)
    return [counts.get(number, 0) for number in range(days)]
