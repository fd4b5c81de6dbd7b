"""`calendar` says what comes, and draws it."""

import xml.etree.ElementTree as ET
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from simulated import NAME, SimulatedWorld

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
    assert lines[2].split() == [str(today - timedelta(days=today.weekday())), "1", "0", "rowing"]
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
    assert max(told["unlevelled_orders_by_day"]) == int(limit)
    assert bool(told["expired"]) == bool(status)
