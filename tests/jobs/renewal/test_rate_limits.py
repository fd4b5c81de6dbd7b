"""A CA that is asked too much slows down what is ordered of it, and nothing else."""

from datetime import UTC, datetime
from pathlib import Path

import pytest
from hand_clock import HandClock

from inkstamp.errors import CaProblem, StillWaiting
from inkstamp.jobs.renewal.rate_limits import RateLimits
from inkstamp.locks import Locks
from inkstamp.progress import Silent

UNSHARED = Locks(Path("unused"))


def limited(seconds: float | None) -> CaProblem:
    return CaProblem("too much", kind="rateLimited", status=429, retry_after=seconds)


@pytest.fixture
def clock() -> HandClock:
    return HandClock(datetime(2026, 11, 28, tzinfo=UTC))


def test_a_short_limit_is_waited_for_by_all_of_that_ca_and_by_no_other(clock: HandClock) -> None:
    rates = RateLimits(clock, Silent(), UNSHARED)
    assert rates.met("quayside", limited(120))
    assert rates.seconds_left() == 120
    began = clock.monotonic()
    rates.wait("fogbell")
    assert clock.monotonic() == began
    rates.wait("quayside")
    assert clock.monotonic() == pytest.approx(began + 120)
    assert rates.seconds_left() == 0


def test_a_long_limit_of_one_certificate_stops_no_other_and_one_of_the_account_leaves_the_rest_to_later_runs(
    clock: HandClock,
) -> None:
    rates = RateLimits(clock, Silent(), UNSHARED)
    for _ in range(2):
        assert not rates.met("quayside", limited(86_400))
        rates.wait("quayside")
    rates.passed("quayside")
    for _ in range(3):
        rates.wait("quayside")
        assert not rates.met("quayside", limited(86_400))
    with pytest.raises(StillWaiting, match="the rate limit of “quayside” is used up") as told:
        rates.wait("quayside")
    assert "after 2026-11-29T00:00:00Z" in told.value.advice
    rates.wait("fogbell")


def test_other_problems_are_no_limits(clock: HandClock) -> None:
    assert not RateLimits(clock, Silent(), UNSHARED).met("quayside", CaProblem("no", kind="caa"))
