"""Looking again until something is seen: one look at least, no pause after the last, never beyond the scope's end."""

from datetime import UTC, datetime

import pytest
from hand_clock import HandClock

from inkstamp.deadline import poll, within


@pytest.mark.parametrize(
    ("seconds", "enough", "looks", "slept"),
    [
        pytest.param(10.0, 1, 1, [], id="seen at once"),
        pytest.param(10.0, 3, 3, [4.0, 4.0], id="seen at the third look"),
        pytest.param(8.0, 99, 3, [4.0, 4.0], id="never seen: no pause after the last look"),
        pytest.param(0.0, 99, 1, [], id="no time: one look"),
        pytest.param(-5.0, 99, 1, [], id="time that is over: one look"),
    ],
)
def test_looks_go_on_until_enough_was_seen_or_the_time_is_over(
    seconds: float, enough: int, looks: int, slept: list[float]
) -> None:
    clock, told, made = HandClock(datetime(2026, 11, 28, tzinfo=UTC)), list[float](), 0
    for _ in poll(clock, pause=4.0, seconds=seconds, waits=told.append):
        made += 1
        if made == enough:
            break
    assert (made, clock.slept, told) == (looks, slept, slept)


def test_a_scope_that_is_over_ends_the_looks() -> None:
    clock = HandClock(datetime(2026, 11, 28, tzinfo=UTC))
    with within(0.0):
        assert sum(1 for _ in poll(clock, pause=1.0, seconds=3600.0)) == 1
    assert clock.slept == []
