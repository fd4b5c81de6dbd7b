"""When a certificate is due: a pure function of its dates, the configuration, the CA's word and a clock."""

from datetime import datetime, timedelta

from msgspec import Struct

from inkstamp.clock import clamped

_LEFT = 0.3
"""Share of the lifetime that is left when a certificate is renewed,"""
_LEAST_LEFT = timedelta(days=3)
"""but so much at least, a weekend and a day,"""
_MOST_LEFT = 0.45
"""and no larger share than that, so that there is room to spread before half of the lifetime is over."""
_LONGEST_LEFT = timedelta(days=120)
"""More is never left: a private CA's certificates live for years, and none of a public CA's comes to that."""
_HALF = 0.5
_SPREAD = 5
"""One part in so many of what is left: by how much certificates that began together are renewed apart."""
_LATEST = 10
"""The last part in so many of a lifetime is kept for fixing, whatever window the CA names."""
_DIGITS = 13
"""Hexadecimal digits that make a fraction: as many as a float holds exactly."""


class Window(Struct, frozen=True):
    """When the CA would like a certificate to be renewed (RFC 9773 section 4.2)."""

    start: datetime
    end: datetime
    explanation: str = ""
    """URL of a page that says why, where the CA gives one."""

    def is_of(self, not_before: datetime) -> bool:
        """Tell whether it can be meant for a certificate that began then: one that had ended cannot."""
        return self.start < self.end and self.end > not_before


class Decision(Struct, frozen=True):
    """Whether to renew now, and why."""

    due: bool
    at: datetime
    """The moment from which it is due; aware, UTC."""
    reason: str
    pressing: bool = False
    """Whether it comes before all others: expired, or the CA's window has ended."""


def fraction_of(sha256: str) -> float:
    """Return a number from 0 to 1 that is uniformly random between certificates, and steady for each of them."""
    return int(sha256[:_DIGITS] or "0", 16) / float(1 << 4 * _DIGITS)


def renewal_moment(
    not_before: datetime, not_after: datetime, *, with_left: float | None = None, fraction: float = 0.0
) -> datetime:
    """Return the moment from which a certificate should be renewed when the CA names none.

    With three tenths of its lifetime left, from three days to 120, and never before half of it is over.

    Args:
        not_before: Begin of its validity; aware.
        not_after: End of its validity; aware.
        with_left: Another share of the lifetime to be left.
        fraction: From 0 to 1: by how much of the spread it is renewed earlier than that.

    """
    not_before, not_after = clamped(not_before), clamped(not_after)
    lifetime = max(not_after - not_before, timedelta())
    left, spread = _shares(lifetime, with_left)
    return not_after - lifetime * left - lifetime * spread * fraction


def _shares(lifetime: timedelta, with_left: float | None) -> tuple[float, float]:
    """Return which share of a lifetime is left when it is renewed, and over which share before that it is spread."""
    if with_left is not None:
        return with_left, min(with_left, 1 - with_left) / _SPREAD
    days = lifetime / _LEAST_LEFT
    left = min(max(_LEFT, 1 / days if days else _HALF), _MOST_LEFT)
    if lifetime:
        left = min(left, _LONGEST_LEFT / lifetime)
    return left, min(left / _SPREAD, _HALF - left)


def last_part(not_before: datetime, not_after: datetime) -> datetime:
    """Return from when on nothing is waited for any more: the last tenth of a lifetime, 40 days at most."""
    lifetime = max(clamped(not_after) - clamped(not_before), timedelta())
    return clamped(not_after) - min(lifetime / _LATEST, _LONGEST_LEFT / 3)


def renewal_day(lifetime: float, with_left: float | None = None) -> tuple[float, float]:
    """Return on which day of a lifetime it is renewed at the latest, and how many days before that at most."""
    left, spread = _shares(timedelta(days=lifetime), with_left)
    return lifetime * (1 - left), lifetime * spread


def decide(
    not_before: datetime,
    not_after: datetime,
    now: datetime,
    *,
    with_left: float | None = None,
    fraction: float = 0.0,
    window: Window | None = None,
    planned: datetime | None = None,
    before_window: bool = False,
) -> Decision:
    """Decide whether a certificate with that validity is due at `now` (all aware).

    Args:
        not_before: Begin of its validity.
        not_after: End of its validity.
        now: The moment to decide for.
        with_left: As configured: the share of the lifetime that is left when it is renewed.
        fraction: See `fraction_of`: which moment of the CA's window, or of the spread, is this certificate's own.
        window: What the CA said; its moment counts, but the last tenth of a lifetime is never waited for.
        planned: The moment that was chosen so that the authority is asked for about as many each day; it has to be in
            the CA's window, where there is one.
        before_window: Whether that moment counts although the CA's window begins later.

    """
    named = window is not None and window.is_of(not_before)
    if window is None or not named:
        at = renewal_moment(not_before, not_after, with_left=with_left, fraction=fraction)
        if planned is not None and not_before < planned:
            at = min(planned, renewal_moment(not_before, not_after, with_left=with_left))
    else:
        chosen = window.start + (window.end - window.start) * fraction
        if planned is not None and (window.start <= planned <= window.end or (before_window and planned < chosen)):
            chosen = planned
        at = min(chosen, last_part(not_before, not_after))
    if now >= not_after:
        return Decision(True, at, "expired", pressing=True)
    if now < at:
        return Decision(False, at, "")
    days = f"{(not_after - now).days} days of the lifetime are left"
    if window is None or not named:
        return Decision(True, at, days)
    over = window.end <= now
    asks = "the CA asks for immediate renewal (ARI)" if over else f"the CA asks for renewal (ARI), {days}"
    return Decision(True, at, f"{asks}; see {window.explanation}" if window.explanation else asks, pressing=over)


_FIRST_PAUSE = timedelta(minutes=30)
_LONGEST_PAUSE = timedelta(hours=8)
"""Shorter than from one run of a timer to the next, even when the first comes late and the second early."""
_LONGEST_UNCOUNTED = timedelta(hours=1)
"""Where the CA was not asked, or had trouble of its own: nothing is used up by asking again."""
_LONGEST_ASKED = timedelta(days=7)
"""However long a CA wants to be left alone, a renewal is tried again after this."""
_LEAST_PAUSE = timedelta(minutes=5)
_SHARE_OF_REST = 20
"""What is left of the lifetime holds so many tries at least, however often it failed."""


def next_try(
    times: int, last: datetime, not_after: datetime | None, asked: datetime | None = None, *, counted: bool = True
) -> datetime:
    """Return the moment from which an order that failed may be tried again.

    Half an hour after the first failure, twice as long after each further one, eight hours at most: a CA counts
    failures by the hour and the week, and a broken name must not use its limit up. Towards the end the pauses shrink.

    Args:
        times: How often it failed in the same way, from 1.
        last: When it did last; aware.
        not_after: End of the edition that there is; None for none.
        asked: Before which the CA does not want to be asked again (Retry-After); not undercut, but for a week at most.
        counted: Whether the CA counts it: it looked and refused. Otherwise the pauses end at one hour.

    """
    doublings = max(min(times - 1, 10), 0)
    pause: timedelta = min(_FIRST_PAUSE * (1 << doublings), _LONGEST_PAUSE if counted else _LONGEST_UNCOUNTED)
    if not_after is not None and not_after > last:
        pause = min(pause, max((not_after - last) / _SHARE_OF_REST, _LEAST_PAUSE))
    return max(last + pause, min(asked, last + _LONGEST_ASKED)) if asked is not None else last + pause


_TRIES_BEFORE_OTHER = 3
_LASTING = frozenset({"caa", "externalAccountRequired", "rateLimited", "rejectedIdentifier", "unsupportedIdentifier"})
"""Problems (RFC 8555 section 6.7) of one CA that asking it again soon does not fix, and another CA may not have."""


def turn_to_other(problem: str, times: int, now: datetime, not_after: datetime | None, *, proof: bool = False) -> bool:
    """Tell whether it is time to ask another CA.

    At once where asking the same one again fixes nothing or there is no good edition; otherwise when it failed three
    times: an outage of an hour is no reason.

    Args:
        problem: Short kind of the CA's problem; empty for trouble without one (no connection).
        times: How often it failed in the same way, this time included.
        now: Aware.
        not_after: End of the edition that there is; None for none.
        proof: Whether the CA did not accept a proof, which the next CA will hardly see in another way.

    """
    if not proof and (problem in _LASTING or not_after is None or not_after <= now):
        return True
    return times >= _TRIES_BEFORE_OTHER


_PACE_LEAST, _PACE_MOST = timedelta(minutes=1), timedelta(days=1)
_PACE_UNTOLD = timedelta(hours=6)


def ask_again(now: datetime, retry_after: float | None) -> datetime:
    """Return when to ask the CA for its window again: as it says, from a minute to a day (RFC 9773 section 4.3.2).

    Args:
        now: Aware.
        retry_after: Seconds, as the CA said; None where it said nothing or its answer could not be read.

    """
    pace = _PACE_UNTOLD if retry_after is None else timedelta(seconds=min(retry_after, _PACE_MOST.total_seconds()))
    return now + min(max(pace, _PACE_LEAST), _PACE_MOST)
