"""How long to wait for a CA, and how often to ask again: policy as values, without a clock."""

import email.utils
from datetime import UTC, datetime

from msgspec import Struct

LONGEST_ASKED = 7 * 86_400.0
"""Seconds. A CA that asks to be left alone for longer is asked again after that all the same: a week is what rate
limits are counted by, and no answer of anybody stops a renewal for ever."""
_LONGEST_DATE = 100


def parse_retry_after(text: str | None, now: datetime) -> float | None:
    """Read a Retry-After header in either form (RFC 9110 section 10.2.3); seconds from `now`, None for none.

    A date in the past is 0, a week the most; what cannot be read counts as not given.
    """
    if text is None:
        return None
    text = text.strip()
    if text.isascii() and text.isdigit():
        return float(min(int(text[:12]), LONGEST_ASKED))
    try:
        moment = email.utils.parsedate_to_datetime(text[:_LONGEST_DATE])
        if moment.tzinfo is None:
            moment = moment.replace(tzinfo=UTC)
        seconds = (moment - now).total_seconds()
    except (ValueError, TypeError, LookupError, ArithmeticError):
        return None
    return min(max(seconds, 0.0), LONGEST_ASKED)


_EARLIER = 0.8
_SOON = 1.0
"""Seconds; our own pace, when the CA names one that is quicker, grows up to this."""


class Patience(Struct, frozen=True, kw_only=True):
    """A series of waits that grow, with an end."""

    first: float
    """Seconds before the second try."""
    factor: float
    longest: float
    """Seconds; no single wait of our own choice is longer."""
    whole: float
    """Seconds that all waits together may take."""

    def next_wait(self, attempt: int, waited: float, asked: float | None, usual: float = 0.0) -> float | None:
        """Return the seconds to wait after failed try `attempt` (from 0), None to give up.

        Args:
            attempt: How many tries were made before this one.
            waited: Seconds that were waited so far.
            asked: What the CA said in Retry-After; it is never undercut.
            usual: Seconds after which it is usually done, where that is known: the first wait.

        """
        if usual <= self.first:
            own = self.first * self.factor ** min(attempt, 64)
        elif attempt == 0:
            own = usual
        else:
            own = max(usual / 2, self.first) * self.factor ** min(attempt - 1, 64)
        own = min(own, self.longest)
        # A Retry-After of 0 means "now", yet asking in a tight loop helps nobody.
        wait = own if asked is None else max(asked, min(own, _SOON))
        return wait if waited + wait <= self.whole else None


class ProcessingTimes:
    """How long a CA has recently taken to process orders; threads may share it, since a lost update does no harm."""

    __slots__ = ("_usual",)

    def __init__(self) -> None:
        self._usual: dict[str, float] = {}

    def usual(self, status: str) -> float:
        """Return after how many seconds an order usually leaves a status; 0 where nothing is known."""
        return self._usual.get(status, 0.0)

    def took(self, status: str, waited: float, tries: int) -> None:
        """Record that an order was seen to have left a status after `waited` seconds and so many polls.

        If the first poll saw it, it may have done so earlier: the first poll of the next order comes sooner. An order
        that took far longer than others changes little, or nothing.
        """
        if waited <= POLLING.longest:
            usual = self._usual.get(status, waited)
            self._usual[status] = waited * _EARLIER if tries == 1 else min(waited, 2 * usual)


POLLING = Patience(first=0.005, factor=4.0, longest=10.0, whole=300.0)
"""For an order that the CA is working on: CAs answer after milliseconds or after seconds."""

TROUBLE = Patience(first=1.0, factor=2.0, longest=30.0, whole=90.0)
"""For 429, 5xx and lost connections."""

HURRY = Patience(first=0.5, factor=2.0, longest=1.0, whole=2.0)
"""For what does no harm if it stays undone."""
