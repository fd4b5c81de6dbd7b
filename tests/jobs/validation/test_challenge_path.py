"""A challenge path is called open when files come through whichever worker answers."""

from datetime import UTC, datetime

import pytest
from hand_clock import HandClock

from inkstamp.findings import bad, ok
from inkstamp.jobs.validation.challenge_path import look_until_steady
from inkstamp.jobs.validation.precheck import NameCheck


@pytest.mark.parametrize(
    ("seen", "passes", "looks"),
    [
        ([True, False, True, True, True, True], True, 6),  # a worker of before answered the second look
        ([True, True, True, True], True, 4),
        ([False] * 40, False, 26),
    ],
    ids=["a-worker-of-before", "open-at-once", "never"],
)
def test_one_good_look_right_after_a_reload_is_not_taken_for_an_open_path(
    seen: list[bool], passes: bool, looks: int
) -> None:
    answers = iter(seen)
    taken = list[NameCheck]()

    def look() -> list[NameCheck]:
        answer = (ok if next(answers) else bad)("validation", "app.saltmarsh.test", "as the server answers")
        taken.append(NameCheck(name="app.saltmarsh.test", addresses=(), method="http-01", findings=(answer,)))
        return taken[-1:]

    (last,) = look_until_steady(look, HandClock(datetime(2026, 11, 28, tzinfo=UTC)))
    assert last.passes == passes
    assert len(taken) == looks
