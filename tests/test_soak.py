"""A short one of the years that benchmarks/soak.py plays."""

from pathlib import Path

from soak import Plan, play, world


def test_weeks_of_bad_weather_and_killed_runs_let_nothing_expire_and_order_nothing_twice(tmp_path: Path) -> None:
    plan = Plan(lifetimes={90: 2, 47: 3, 6: 4}, days=45, seed=5, killed=0.2)
    with world(tmp_path, plan) as soak:
        seen = play(soak)
    assert seen.wrong == [], (tmp_path / "children.log").read_text()[-3000:]
    assert seen.issued == seen.editions >= 4 * 10 + 3 * 2 + 2
    assert seen.runs["killed"] >= 3
    assert sum(seen.faults.values()) >= 1
