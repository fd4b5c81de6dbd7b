"""When to renew: early enough, and never without reason."""

from datetime import timedelta

import pytest
from authority_of_tests import NOW
from hypothesis import given
from hypothesis import strategies as st

from inkstamp.renewal.when import decide, next_try, renewal_moment

LIFETIMES = st.timedeltas(min_value=timedelta(hours=1), max_value=timedelta(days=400))


@pytest.mark.parametrize(("days", "left"), [(90, 30), (47, 47 / 3), (10, 10 / 3), (9, 4.5), (6, 3)])
def test_a_third_of_the_lifetime_is_left_or_half_of_a_short_one(days: int, left: float) -> None:
    end = NOW + timedelta(days=days)
    assert renewal_moment(NOW, end) == end - timedelta(days=left)


@given(LIFETIMES, st.floats(-0.5, 2))
def test_it_is_due_from_its_moment_on_and_for_ever_after(lifetime: timedelta, share: float) -> None:
    end = NOW + lifetime
    now = NOW + lifetime * share
    decision = decide(NOW, end, now)
    assert NOW < decision.at < end
    assert decision.due == (now >= decision.at)
    assert bool(decision.reason) == decision.due


@given(LIFETIMES, st.timedeltas(min_value=timedelta(minutes=10), max_value=timedelta(days=1)))
def test_a_timer_that_runs_often_enough_always_comes_before_expiry(lifetime: timedelta, pause: timedelta) -> None:
    pause = min(pause, lifetime / 3)
    now, end = NOW, NOW + lifetime
    for _ in range(3000):
        if decide(NOW, end, now).due:
            break
        now += pause
    assert now < end


@given(st.integers(1, 10_000), st.none() | st.timedeltas(timedelta(minutes=-5), timedelta(days=400)))
def test_what_failed_rests_longer_each_time_but_never_until_it_is_too_late(times: int, left: timedelta | None) -> None:
    end = None if left is None else NOW + left
    until = next_try(times, NOW, end)
    assert NOW + timedelta(minutes=5) <= until <= NOW + timedelta(hours=12)
    assert until <= next_try(times + 1, NOW, end)
    if left is None or left > timedelta(days=30):
        assert until >= NOW + timedelta(minutes=30)  # two tries an hour at most, whatever else happens
    if left is not None and left > timedelta(hours=2):
        assert until < NOW + left / 10
