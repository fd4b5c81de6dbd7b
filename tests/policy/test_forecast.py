"""What comes: weeks, days, a simulated year; and what people are told."""

from datetime import datetime, timedelta

import pytest
from authority_of_tests import NOW
from hypothesis import given
from hypothesis import strategies as st
from msgspec.structs import replace

from inkstamp.config.words import Matter as Kind
from inkstamp.policy.forecast import Life, by_day, look_ahead, monday
from inkstamp.policy.notification_rules import Condition, Matter, matters_of, news
from inkstamp.policy.renewal_time import next_try, renewal_day
from inkstamp.policy.simulation import Fleet, simulate

DAY = timedelta(days=1)


def life(name: str, begun: float, renews: float, days: float = 90) -> Life:
    begin = NOW - begun * DAY
    return Life(name=name, authority="quayside", not_before=begin, not_after=begin + days * DAY,
                renews_at=NOW + renews * DAY, window=None)  # fmt: skip


def test_weeks_name_what_is_renewed_and_what_expires_and_what_is_late() -> None:
    # NOW is a Monday.
    lives = [life("rowing", 10, 50), life("bakery", 57, 3), life("museum", 70, -8), life("ferry", 89.9, -0.5)]
    seen = look_ahead(lives, NOW, 5)
    assert [each.begins for each in seen.weeks] == [NOW.date() + 7 * number * DAY for number in range(5)]
    assert seen.weeks[0].renewals == ("museum", "ferry", "bakery")
    assert seen.weeks[0].expiries == ("ferry",)
    assert seen.weeks[2].expiries == ("museum",)
    assert seen.weeks[4].expiries == ("bakery",)
    assert seen.late == ("museum",)
    assert seen.later == 1
    assert by_day(lives, NOW, 4) == [2, 0, 0, 1]


@given(st.lists(st.tuples(st.floats(0, 400), st.floats(-30, 400)), max_size=30), st.integers(1, 60))
def test_every_renewal_is_counted_once(pairs: list[tuple[float, float]], weeks: int) -> None:
    lives = [life(str(number), begun, renews) for number, (begun, renews) in enumerate(pairs)]
    seen = look_ahead(lives, NOW, weeks)
    assert sum(len(each.renewals) for each in seen.weeks) + seen.later == len(lives)


@given(st.datetimes(datetime(2020, 1, 1), datetime(2040, 1, 1)))
def test_weeks_begin_on_mondays(moment: datetime) -> None:
    assert monday(moment).weekday() == 0
    assert timedelta(0) <= moment.date() - monday(moment) < 7 * DAY


@pytest.mark.parametrize("lifetime", [90, 47, 6])
def test_a_fleet_that_begins_on_one_day_is_spread_and_nothing_expires(lifetime: float) -> None:
    fleet = Fleet(certificates=3000, lifetime=lifetime, failing=0.1, levelled=False)
    year, alone = simulate(fleet), simulate(replace(fleet, spread=False))
    assert year.expired == 0
    latest, spread = renewal_day(lifetime)
    assert lifetime - latest - 4 < year.least_left <= lifetime - latest + spread
    assert year.orders.max() < alone.orders.max() / min(spread, 1.6)
    assert 0.08 < year.failed.sum() / year.orders.sum() < 0.12
    rounds = 365 / latest
    assert 0.9 * rounds <= (year.orders - year.failed).sum() / 3000 <= rounds * lifetime / (latest - spread)
    assert (simulate(fleet).orders == year.orders).all(), "the same seed gives the same year"


def test_a_limit_holds_every_day_and_one_too_small_lets_certificates_expire() -> None:
    held = simulate(Fleet(certificates=2000, lifetime=90, a_day=70, levelled=False))
    assert held.orders.max() == 70
    assert held.waiting.max() > 0
    assert held.expired == 0
    small = simulate(Fleet(certificates=2000, lifetime=90, a_day=20))
    assert small.orders.max() == 20
    assert small.expired > 0
    assert small.least_left < 0


def test_the_simulation_rests_as_long_after_failures_as_the_real_thing() -> None:
    for times in range(1, 12):
        real = (next_try(times, NOW, None) - NOW) / DAY
        assert real == pytest.approx(min(0.5 / 24 * 2 ** min(times - 1, 10), 8 / 24))


def condition(**given_: object) -> Condition:
    usual: dict[str, object] = {
        "certificate": "rowing", "days_left": 60.0, "lifetime": 90.0, "failures": 0, "trouble": "", "remedy": "",
        "account": "", "not_installed": False, "waits_for": "",
    }  # fmt: skip
    return Condition(**{**usual, **given_})  # type: ignore[arg-type]


ALL: tuple[Kind, ...] = ("failing", "expiring", "not-installed", "waiting", "account")


@pytest.mark.parametrize(
    ("given_", "kinds"),
    [
        ({}, []),
        ({"failures": 2}, []),
        ({"failures": 3, "trouble": "the CA refused"}, ["failing"]),
        ({"days_left": 13.0}, ["expiring"]),
        ({"days_left": 2.0, "lifetime": 6.0}, []),
        ({"days_left": 1.4, "lifetime": 6.0}, ["expiring"]),
        ({"days_left": -1.0}, ["expiring"]),
        ({"days_left": None, "lifetime": 0.0, "failures": 9}, ["failing"]),
        ({"not_installed": True, "waits_for": "paste it"}, ["not-installed", "waiting"]),
        ({"account": "terms", "days_left": 3.0}, ["expiring", "account"]),
    ],
)
def test_each_matter_begins_when_it_is_worth_telling(given_: dict[str, object], kinds: list[str]) -> None:
    found = matters_of(condition(**given_), about=ALL, failing_times=3, days_left=14)
    assert [each.kind for each in found] == kinds
    assert matters_of(condition(**given_), about=(), failing_times=3, days_left=14) == []


def test_a_matter_is_news_when_it_begins_and_when_it_is_over_and_not_between() -> None:
    (matter,) = matters_of(condition(failures=3), about=ALL, failing_times=3, days_left=14)
    (later,) = matters_of(condition(failures=7), about=ALL, failing_times=3, days_left=14)
    here = frozenset({"rowing"})
    assert news({}, [matter], here).begun == (matter,)
    told: dict[tuple[str, str], Matter] = {matter.key: matter}
    assert not news(told, [later], here)
    assert news(told, [], here).over == (matter,)
    assert not news(told, [], frozenset()), "it was not looked at"


def test_machines_that_order_too_little_let_certificates_expire_and_an_outage_is_made_up_for() -> None:
    fleet = Fleet(certificates=20_000, lifetime=47, workers=2, at_once=2, order_seconds=200.0)
    assert fleet.a_run == 144
    slow, enough = simulate(fleet), simulate(replace(fleet, at_once=8))
    assert slow.orders.max() == 2 * 144
    assert slow.expired > 0
    assert slow.waiting.max() > 0
    assert enough.expired == 0
    assert replace(fleet, order_seconds=0.1, workers=1).a_run == 5 * 4 * 3600, "then the machines are what limits it"
    out = simulate(replace(fleet, at_once=12, outage=(200, 3)))
    assert out.orders[200:203].sum() == 0
    assert out.expired == 0
    assert out.orders[203:233].max() > enough.orders[170:200].max()
