"""`calendar` says what comes, and draws it."""

import os
import subprocess
import xml.etree.ElementTree as ET
from datetime import UTC, datetime, timedelta
from functools import partial
from pathlib import Path

import pytest
from simulated import NAME, SimulatedWorld
from world import inkstamp_program

PNG = b"\x89PNG\r\n\x1a\n"


def size(png: bytes) -> tuple[int, int]:
    return int.from_bytes(png[16:20], "big"), int.from_bytes(png[20:24], "big")


def test_weeks_are_listed_and_drawn_with_what_is_late(world: SimulatedWorld) -> None:
    world.simulated.state.mood.aged[NAME] = timedelta(days=75)
    other = "bakery.saltmarsh.test"
    world.site("bakery", [other])
    assert world.run("stamp", NAME, "--as", "rowing").status == 0
    assert world.run("stamp", other, "--as", "bakery").status == 0
    file = world.folder / "weeks.png"
    done = world.run("calendar", "--picture", str(file), "--weeks", "3")
    assert done.status == 0, done.err
    lines = done.out.splitlines()
    today = datetime.now(UTC).date()
    assert lines[2].split() == [str(today - timedelta(days=today.weekday())), "1", "#" * 20, "0", "rowing"]
    assert "1 more is renewed after that" in done.out
    assert "late        1: rowing" in done.out
    assert "inkstamp renew rowing" in done.out
    data = file.read_bytes()
    assert data.startswith(PNG)
    assert size(data)[0] == 1280
    ET.fromstring(drawn(world, "weeks.svg"))  # noqa: S314  our own
    assert b"<svg" in drawn(world, "limit.svg", "--limit-a-day", "5")
    lives = world.run("calendar", "--json").json["calendar"]["lives"]
    assert [each["name"] for each in lives] == ["rowing", "bakery"]
    assert world.run("calendar", "--picture", "x.gif").status == 2


def drawn(world: SimulatedWorld, name: str, *more: str) -> bytes:
    file = world.folder / name
    assert world.run("calendar", "--picture", str(file), *more).status == 0
    return file.read_bytes()


@pytest.mark.parametrize(("limit", "status"), [("50", 0), ("9", 1)])
def test_a_made_up_year_needs_nothing_and_says_whether_limits_hold(
    world: SimulatedWorld, tmp_path: Path, limit: str, status: int
) -> None:
    picture = tmp_path / "year.png"
    arguments = [
        "calendar",
        "--simulate",
        "1000",
        "--lifetime",
        "90",
        "--limit-a-day",
        limit,
        "--picture",
        str(picture),
    ]
    done = world.run(*arguments, env={"INKSTAMP_CONFIG": "/nowhere.toml", "INKSTAMP_HOME": "/nowhere"})
    assert done.status == status, done.err
    assert ("expired     never" in done.out) == (status == 0)
    assert f"limit of {limit} a day" in done.out
    assert size(picture.read_bytes()) == (1280, 800)
    told = world.run(*arguments, "--json").json["simulated"]
    assert max(told["orders_by_day"]) <= int(limit)
    assert told["most_in_a_run"] is None
    for alone in (["--workers", "2"], ["--outage", "9", "3"], ["--simulate", "10", "--at-once", "4"]):
        refused = world.run("calendar", *alone)
        assert refused.status == 2
        assert "add --" in refused.err
    slow = world.run(
        "calendar", "--simulate", "1000", "--workers", "1", "--order-seconds", "9000", "--outage", "99", "3"
    )
    assert "at_once 4, 9000 s an order: 12 orders a day at most" in slow.flat
    assert "outage      days 99 to 101" in slow.out
    assert "order more at the same time (at_once)" in slow.out
    assert max(told["unlevelled_orders_by_day"]) == int(limit)
    assert bool(told["expired"]) == bool(status)


def test_without_the_packages_for_charts_the_weeks_are_drawn_in_the_terminal_and_what_brings_them_is_told(
    world: SimulatedWorld, tmp_path: Path
) -> None:
    (tmp_path / "sitecustomize.py").write_text(
        "import sys\n\nclass Nothing:\n    def find_spec(self, name, path=None, target=None):\n"
        "        if name.split('.')[0] in {'numpy', 'matplotlib'}:\n"
        "            raise ModuleNotFoundError(f'No module named {name!r}', name=name)\n\n"
        "sys.meta_path.insert(0, Nothing())\n"
    )
    bare = {**os.environ, "PYTHONPATH": str(tmp_path), "INKSTAMP_CONFIG": str(world.config)}
    run = partial(subprocess.run, env=bare, capture_output=True, text=True, check=False)
    drawn = run([inkstamp_program(), "calendar"])
    assert drawn.returncode == 0, drawn.stderr
    for more in (["--picture", str(tmp_path / "a.png")], ["--simulate", "10"]):
        refused = run([inkstamp_program(), "calendar", *more])
        assert refused.returncode == 2
        assert "pip install 'inkstamp[charts]'" in refused.stderr
        assert "not found: matplotlib, numpy" in refused.stderr
