"""Steps of an order at a portal, and the limits that public CAs live by."""

from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from inkstamp.config.model import PortalStage
from inkstamp.errors import Actor
from inkstamp.policy.portal_steps import is_reminded, progress_of, stages_for, step_after
from inkstamp.policy.validity_limits import all_limits, limits_at, longest_until, next_limits, validation_ends

NOW = datetime(2026, 11, 28, 12, tzinfo=UTC)
DAY = timedelta(days=1)
STAGES = (
    PortalStage(step="validation", days=1),
    PortalStage(step="organisation", days=2, level=("OV", "EV")),
    PortalStage(step="call", level=("EV",)),
    PortalStage(step="review", days=0.5),
)


@pytest.mark.parametrize(
    ("level", "following"),
    [("DV", ["review", "review"]), ("OV", ["organisation", "review", "review"]),
     ("EV", ["organisation", "call", "review", "review"]), (None, ["organisation", "call", "review", "review"])],
)  # fmt: skip
def test_a_certificate_goes_through_the_steps_of_its_level_and_ends_in_the_review(
    level: str | None, following: list[str]
) -> None:
    stages, step, met = stages_for(STAGES, level), STAGES[0].step, list[str]()  # type: ignore[arg-type]
    for _ in following:
        step = step_after(stages, step)
        met.append(step)
    assert met == following


@pytest.mark.parametrize(
    ("who", "until", "said", "reminded"),
    [
        (Actor.YOU, None, False, True),  # at once
        (Actor.YOU, NOW + DAY, False, True),
        (Actor.YOU, NOW + DAY, True, False),  # on its day
        (Actor.YOU, NOW, True, True),
        (Actor.CA, None, False, False),  # nobody knows how long it takes
        (Actor.CA, NOW, True, False),  # the day is not over
        (Actor.CA, NOW - DAY, True, True),
        (Actor.CA, NOW - DAY, False, True),
        (Actor.APPROVER, NOW - DAY, True, True),
    ],
)
def test_a_person_is_reminded_when_there_is_something_to_do(
    who: Actor, until: datetime | None, said: bool, reminded: bool
) -> None:
    progress = progress_of((), "call", NOW - 5 * DAY, until)
    assert (progress.number, progress.total, progress.expected) == (0, 0, until)
    assert is_reminded(progress, who, said=said, now=NOW) is reminded


@pytest.mark.parametrize(
    ("day", "certificate", "organisation"),
    [("2020-09-01", 398, 825), ("2026-03-14", 398, 825), ("2026-03-15", 200, 398), ("2027-03-14", 200, 398),
     ("2027-03-15", 100, 398), ("2029-03-14", 100, 398), ("2029-03-15", 47, 398), ("2040-01-01", 47, 398)],
)  # fmt: skip
def test_the_longest_validity_goes_by_the_date_of_issue(day: str, certificate: int, organisation: int) -> None:
    issued = datetime.fromisoformat(day).replace(tzinfo=UTC)
    limits = limits_at(issued)
    assert limits is not None
    assert (limits.certificate, limits.organisation) == (certificate, organisation)
    assert longest_until(issued) == issued + timedelta(days=certificate)
    following = next_limits(issued)
    assert following is None or following.issued_from > issued.date()


def test_before_there_were_limits_nothing_is_said() -> None:
    assert limits_at(datetime(2019, 1, 1, tzinfo=UTC)) is None
    assert longest_until(datetime(2019, 1, 1, tzinfo=UTC)) is None
    assert longest_until(datetime(9999, 12, 31, tzinfo=UTC)) is None  # as certificates without an end have it


@given(st.integers(0, 4000), st.integers(0, 500))
def test_a_validation_can_be_reused_on_exactly_the_days_on_which_the_limits_of_that_day_allow_it(
    start: int, later: int
) -> None:
    validated = datetime(2020, 9, 2, tzinfo=UTC) + timedelta(days=start)
    ends, issued = validation_ends(validated), validated + timedelta(days=later)
    limits = limits_at(issued)
    assert limits is not None
    allowed = later < limits.domain
    assert allowed == (issued < ends)
    assert ends <= validated + timedelta(days=all_limits()[0].domain)
