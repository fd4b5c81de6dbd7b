"""What rests after failures, and what does not."""

from datetime import timedelta
from pathlib import Path

import pytest
from authority_of_tests import NOW
from hand_clock import HandClock

from inkstamp.jobs.status.due import find_due
from inkstamp.ledger.failures import FailureReport
from inkstamp.runtime import Runtime

HOUR = timedelta(hours=1)


@pytest.mark.parametrize(
    ("kind", "problem", "asked", "times", "later", "rests"),
    [
        ("CaProblem", "unauthorized", None, 1, 0.4, True),
        ("CaProblem", "unauthorized", None, 9, 7.9, True),
        ("CaProblem", "unauthorized", None, 9, 8.1, False),
        ("CaProblem", "rateLimited", 40 * HOUR, 1, 39, True),
        ("CaProblem", "serverInternal", None, 9, 1.1, False),
        ("NetworkTrouble", "", None, 9, 0.9, True),
        ("NetworkTrouble", "", None, 9, 1.1, False),
        ("CaProblem", "unauthorized", None, 9, -30, False),
    ],
    ids=["once", "often", "often, later", "as the CA asks", "trouble of the CA", "not reached", "not reached, later",
         "the clock went back"],
)  # fmt: skip
def test_what_failed_rests_as_long_as_it_must(
    tmp_path: Path, kind: str, problem: str, asked: timedelta | None, times: int, later: float, rests: bool
) -> None:
    config = tmp_path / "inkstamp.toml"
    config.write_text(
        '[authority.quayside]\ndirectory = "https://ca.test/"\n[server.west]\nkind = "nginx"\n'
        '[certificate.club]\nnames = ["a.test"]\nauthority = "quayside"\nvia = "west"\n'
    )
    clock = HandClock(NOW)
    runtime = Runtime(config, tmp_path / "home", clock=clock)
    told = FailureReport(kind=kind, step="", what="x", where="", said="", problem=problem, advice="", findings=(),
                asked=NOW + asked if asked else None)  # fmt: skip
    for _ in range(times):
        runtime.ledger.failures.meet("club", told)
    clock.moment = NOW + later * HOUR
    found = find_due(runtime)
    assert [each.name for each in found.held] == (["club"] if rests else [])
    assert [each.name for each in found.due] == ([] if rests else ["club"])
    assert [each.name for each in find_due(runtime, ("club",)).due] == ["club"], "it is named"
    runtime.close(0)
