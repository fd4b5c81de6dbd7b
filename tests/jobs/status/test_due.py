"""What rests after failures, and what does not."""

from datetime import timedelta
from pathlib import Path

import msgspec
import pytest
from authority_of_tests import NOW
from hand_clock import HandClock

from inkstamp.jobs.status.due import find_due
from inkstamp.ledger.failures import FailureReport
from inkstamp.ledger.records import EditionRecord
from inkstamp.ledger.sqlite import SqliteDatabase
from inkstamp.ledger.store import Ledger
from inkstamp.policy.load_levelling import FEW
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


EDITION = EditionRecord(
    certificate="", number=1, names=(), issuer="A", root="R", serial="1", sha256="f" * 64, authority="quayside",
    not_before=NOW - timedelta(days=70), not_after=NOW + timedelta(days=20),
)  # fmt: skip


@pytest.mark.parametrize(
    ("others", "due", "put_off"),
    [(0, FEW, 0), (0, FEW + 30, 30), (1300, 28, 0)],
    ids=["few", "a wave", "what is usual among many that no day was planned for"],
)
def test_of_a_wave_some_is_left_to_the_next_days_and_of_what_is_usual_nothing(
    tmp_path: Path, others: int, due: int, put_off: int
) -> None:
    config = tmp_path / "inkstamp.toml"
    names = [f"c{number}" for number in range(due)]
    config.write_text(
        '[authority.quayside]\ndirectory = "https://ca.test/"\n[server.west]\nkind = "nginx"\n'
        + "".join(
            f'[certificate.{each}]\nnames = ["{each}.test"]\nauthority = "quayside"\nvia = "west"\n' for each in names
        )
    )
    runtime = Runtime(config, tmp_path / "home", clock=HandClock(NOW))
    database = SqliteDatabase(runtime.home.made() / "ledger.db")
    database.rows("PRAGMA synchronous=OFF")
    ledger = Ledger(database, HandClock(NOW))
    for each in [*names, *(f"other{number}" for number in range(others))]:
        days = timedelta(days=0 if each in names else 50)
        ledger.restore_edition(
            msgspec.structs.replace(
                EDITION, certificate=each, names=(f"{each}.test",), not_before=EDITION.not_before + days,
                not_after=EDITION.not_after + days,
            )
        )  # fmt: skip
    ledger.close()
    found = find_due(runtime)
    assert (len(found.due), len(found.put_off)) == (due - put_off, put_off)
    assert find_due(runtime, even_held=True).put_off == ()
    assert find_due(runtime, tuple(names)).put_off == ()
    runtime.close(0)
