"""When to renew: early enough, and never without reason."""

import hashlib
from collections import Counter
from datetime import timedelta

import pytest
from authority_of_tests import NOW
from hypothesis import given
from hypothesis import strategies as st

from inkstamp.policy.renewal_time import (
    Window,
    ask_again,
    decide,
    fraction_of,
    next_try,
    renewal_day,
    renewal_moment,
    turn_to_other,
)

LIFETIMES = st.timedeltas(min_value=timedelta(hours=1), max_value=timedelta(days=400))


@pytest.mark.parametrize(("days", "left"), [(90, 27), (47, 14.1), (20, 6), (10, 3), (7, 3), (6, 2.7), (1, 0.45)])
def test_three_tenths_of_the_lifetime_are_left_and_three_days_where_there_is_room(days: int, left: float) -> None:
    end = NOW + timedelta(days=days)
    assert abs(renewal_moment(NOW, end) - (end - timedelta(days=left))) < timedelta(seconds=1)


@given(LIFETIMES, st.floats(0, 1))
def test_nothing_is_renewed_before_half_of_its_lifetime_is_over(lifetime: timedelta, fraction: float) -> None:
    second = timedelta(seconds=1)
    assert renewal_moment(NOW, NOW + lifetime, fraction=fraction) >= NOW + lifetime / 2 - second


@given(LIFETIMES, LIFETIMES)
def test_a_longer_life_is_never_renewed_sooner(first: timedelta, second: timedelta) -> None:
    short, long = sorted((first, second))
    assert renewal_moment(NOW, NOW + short) <= renewal_moment(NOW, NOW + long) + timedelta(seconds=1)


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


SHARES = st.none() | st.floats(0.05, 0.9)
FRACTIONS = st.floats(0, 1)
WINDOWS = st.none() | st.builds(
    lambda start, wide: Window(NOW + start, NOW + start + wide),
    st.timedeltas(timedelta(days=-400), timedelta(days=800)),
    st.timedeltas(timedelta(0), timedelta(days=90)),
)


@given(LIFETIMES, SHARES, FRACTIONS, WINDOWS, st.floats(0, 0.1), st.floats(0, 0.1))
def test_whatever_the_ca_and_the_configuration_say_runs_come_before_expiry_and_agree(
    lifetime: timedelta, share: float | None, fraction: float, window: Window | None, pause: float, lag: float
) -> None:
    end = NOW + lifetime
    moments = [NOW + lifetime * (pause + each / 20) for each in range(20)]
    decisions = [decide(NOW, end, at, with_left=share, fraction=fraction, window=window) for at in moments]
    assert len({each.at for each in decisions}) == 1, "two runs disagree"
    assert [each.due for each in decisions] == sorted(each.due for each in decisions), "due, and then not any more"
    assert any(each.due for at, each in zip(moments, decisions, strict=True) if at < end)
    at = decisions[0].at
    named = window is not None and window.is_of(NOW)
    if window is not None and named and at < end - lifetime / 9:
        assert window.start <= at <= window.end
    if not named:
        assert at > NOW
    assert at <= end - lifetime / 20 + timedelta(seconds=1)


@given(LIFETIMES, SHARES, FRACTIONS)
def test_the_spread_is_before_the_configured_moment_and_never_before_half_of_what_is_gone(
    lifetime: timedelta, share: float | None, fraction: float
) -> None:
    end = NOW + lifetime
    latest = renewal_moment(NOW, end, with_left=share)
    own = renewal_moment(NOW, end, with_left=share, fraction=fraction)
    assert latest - (end - latest) / 5 - timedelta(seconds=1) <= own <= latest
    assert own - NOW >= (latest - NOW) * 0.79
    day, spread = renewal_day(lifetime / timedelta(days=1), share)
    assert abs(NOW + timedelta(days=day - spread * fraction) - own) < timedelta(seconds=1)


def test_each_certificate_has_a_moment_of_its_own_that_stays() -> None:
    digests = [hashlib.sha256(str(number).encode()).hexdigest() for number in range(4000)]
    fractions = [fraction_of(each) for each in digests]
    assert [fraction_of(each) for each in digests] == fractions
    tenths = Counter(int(each * 10) for each in fractions)
    assert set(tenths) == set(range(10))
    assert max(tenths.values()) < 480  # 400 each, by chance a few more


@pytest.mark.parametrize(
    ("seconds", "hours"), [(None, 6), (0, 1 / 60), (-5, 1 / 60), (7200, 2), (10**9, 24), (21600, 6)]
)
def test_the_ca_is_asked_again_as_it_says_between_a_minute_and_a_day(seconds: float | None, hours: float) -> None:
    assert ask_again(NOW, seconds) == NOW + timedelta(hours=hours)


@pytest.mark.parametrize(
    ("problem", "times", "left", "proof", "turns"),
    [
        ("rateLimited", 1, 20, False, True),
        ("serverInternal", 1, 20, False, False),
        ("", 2, 20, False, False),
        ("", 3, 20, False, True),
        ("", 1, None, False, True),
        ("", 1, -1, False, True),
        ("connection", 1, None, True, False),
        ("connection", 3, 20, True, True),
    ],
)
def test_another_ca_is_asked_when_that_helps(
    problem: str, times: int, left: int | None, proof: bool, turns: bool
) -> None:
    end = None if left is None else NOW + timedelta(days=left)
    assert turn_to_other(problem, times, NOW, end, proof=proof) is turns


def test_a_pause_that_the_ca_asks_for_is_never_undercut() -> None:
    week = NOW + timedelta(days=7)
    assert next_try(1, NOW, NOW + timedelta(days=2), week) == week
    assert next_try(1, NOW, None, NOW + timedelta(seconds=5)) == NOW + timedelta(minutes=30)


@given(st.integers(1, 10_000), st.none() | st.timedeltas(timedelta(minutes=-5), timedelta(days=400)))
def test_what_failed_rests_longer_each_time_but_never_until_it_is_too_late(times: int, left: timedelta | None) -> None:
    end = None if left is None else NOW + left
    until = next_try(times, NOW, end)
    assert NOW + timedelta(minutes=5) <= until <= NOW + timedelta(hours=8)
    assert next_try(times, NOW, end, counted=False) <= min(until, NOW + timedelta(hours=1))
    assert until <= next_try(times + 1, NOW, end)
    if left is None or left > timedelta(days=30):
        assert until >= NOW + timedelta(minutes=30)  # two tries an hour at most, whatever else happens
    if left is not None and left > timedelta(hours=2):
        assert until < NOW + left / 10
