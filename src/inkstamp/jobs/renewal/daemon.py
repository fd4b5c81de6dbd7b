"""Run `renew` again and again in the foreground, for containers and other places without a timer."""

import random
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

from inkstamp.bulkhead import apart
from inkstamp.clock import Clock, SystemClock
from inkstamp.errors import InkStampError
from inkstamp.jobs.renewal.run import Sweep, renew
from inkstamp.progress import Progress

if TYPE_CHECKING:
    from inkstamp.ledger.announcements import Announcements
    from inkstamp.ledger.shared import SharedLedger
    from inkstamp.runtime import Runtime

_SPREAD = 4
"""The pause is up to one part in so many shorter, by chance, so that machines that began together drift apart."""
_LEAST = timedelta(minutes=5)
_SLICE = 60.0
"""Seconds slept in one go: after the machine was asleep, or its clock was set, the time is looked at anew."""


def keep_running(
    opened: Callable[[], "AbstractContextManager[Runtime]"], clock: Clock, every: timedelta
) -> Iterator[tuple[Sweep | InkStampError, datetime]]:
    """Run `renew` for ever; yields what each run came to, and when the next one begins.

    Each run reads the configuration anew. One that fails as a whole is an outcome like any other.

    Args:
        opened: Makes what one run works with.
        clock: The time.
        every: The longest pause; shorter when something is due, or may be tried again, before that.

    """
    chance = random.Random()  # noqa: S311  no secret
    bell: Announcements | None = None
    while True:
        outcome: Sweep | InkStampError
        try:
            with apart(), opened() as runtime:
                bell = bell or _listen(runtime.shared, runtime.progress)
                machines = runtime.ledger.machines if bell is not None else None
                if bell is not None and machines is not None:
                    bell.seen = machines.announced()
                outcome = renew(runtime)
                if isinstance(clock, SystemClock) and isinstance(runtime.clock, SystemClock):
                    clock.behind = runtime.clock.behind  # moments to try again are by the clock that counts
        except InkStampError as error:
            outcome = error
        until = next_run(outcome, clock.now(), every, chance.random())
        yield outcome, until
        while (left := (until - clock.now()).total_seconds()) > 0:
            if bell is None:
                clock.sleep(min(left, _SLICE))
            elif bell.rings(min(left, _SLICE)):
                break


def _listen(shared: "SharedLedger | None", progress: Progress) -> "Announcements | None":
    """Listen for editions that other machines announce; None where the ledger is this one's own."""
    if shared is None:
        return None
    from inkstamp.ledger.announcements import Announcements  # noqa: PLC0415  where machines share a ledger

    return Announcements(shared.address, shared.here, lambda text: progress.step("machines", text))


def next_run(outcome: Sweep | InkStampError, now: datetime, every: timedelta, fraction: float) -> datetime:
    """Return when to run again: after `every`, less by chance, or when something is due before that."""
    usual = now + every - every / _SPREAD * fraction
    if isinstance(outcome, InkStampError):
        return min(usual, now + _LEAST * 6)
    soonest = [usual, *(each.until for each in outcome.found.held)]
    if outcome.found.next_at is not None:
        soonest.append(outcome.found.next_at)
    return max(min(soonest), min(now + _LEAST, usual))
