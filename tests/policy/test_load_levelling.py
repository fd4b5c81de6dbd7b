"""Renewals are planned so that no day has many more than another, whatever came in a wave."""

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from inkstamp.policy.load_levelling import FEW, allowed_days, choose_day, day_of, moment_in, room_today
from inkstamp.policy.renewal_time import last_part, renewal_moment
from inkstamp.policy.simulation import Fleet, simulate

NOW = datetime(2026, 11, 28, 11, 30, tzinfo=UTC)
LIFETIMES = st.floats(2, 400).map(lambda days: timedelta(days=days))
LEFT = st.none() | st.floats(0.05, 0.9)


@given(LIFETIMES, LEFT, st.floats(0, 1), st.dictionaries(st.integers(0, 400), st.integers(0, 500), max_size=60))
def test_a_planned_moment_is_after_the_issue_and_leaves_what_is_always_left(
    lifetime: timedelta, left: float | None, fraction: float, loads: dict[int, int]
) -> None:
    end, today = NOW + lifetime, day_of(NOW)
    days = allowed_days(NOW, end, left)
    assert days.early <= days.usual <= days.last
    day = choose_day(days, {today + ahead: count for ahead, count in loads.items()}, today)
    assert min(days.early, days.usual) <= day <= days.last
    at = moment_in(day, NOW, end, left, fraction)
    assert at <= renewal_moment(NOW, end, with_left=left)
    assert at < last_part(NOW, end) or (left is not None and left < 0.1)


def test_few_certificates_are_used_as_long_as_can_be_and_the_emptiest_day_is_chosen() -> None:
    days, today = allowed_days(NOW, NOW + timedelta(days=90), None), day_of(NOW)
    assert (days.usual - today, days.last - today) == (45, 63)
    assert choose_day(days, {}, today) == days.last
    assert choose_day(days, {days.last: 3}, today) == days.last - 1
    busy = dict.fromkeys(range(days.usual, days.last + 1), FEW * 10)
    assert choose_day(busy_days := days, busy, today) == busy_days.usual - 1, "a wave is worked down before that"


@pytest.mark.parametrize(
    ("lifetime", "outage"), [(90, 0), (90, 3), (47, 0), (47, 3), (7, 0)],
    ids=["90 days", "90, and the CA is down for 3", "47", "47, and the CA is down for 3", "7"],
)  # fmt: skip
def test_after_one_lifetime_the_worst_day_has_half_as_many_again_as_the_average_at_most(
    lifetime: float, outage: int
) -> None:
    fleet = Fleet(certificates=20_000, lifetime=lifetime, failing=0.02, outage=(200, outage))
    year = simulate(fleet)
    later = year.orders[int(lifetime) + 1 :]
    assert later.max() <= 1.5 * later.mean()
    assert year.orders[1 : int(lifetime) + 1].max() <= 1.5 * later.mean(), "nor does the first wave come back as one"
    assert year.expired == 0
    assert year.least_left > lifetime / 10, "nothing comes into the last tenth"


def test_what_had_to_wait_is_worked_off_over_days() -> None:
    assert room_today(planned=6300, span=63, ordered=0) == 140
    assert room_today(planned=6300, span=63, ordered=130) == 10
    assert room_today(planned=6300, span=63, ordered=200) == 0
    assert room_today(planned=5, span=63, ordered=0) == FEW, "few are never put off"
