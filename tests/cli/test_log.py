"""What is told while a run goes on, and a run that never ends."""

import json
import os
import signal
import subprocess
import time
from datetime import datetime, timedelta
from pathlib import Path

import pytest
from authority_of_tests import NOW
from simulated import NAME, SimulatedWorld
from world import inkstamp_program

from inkstamp.errors import NetworkTrouble
from inkstamp.jobs.renewal.daemon import next_run
from inkstamp.jobs.renewal.run import Sweep
from inkstamp.jobs.status.due import DueList, Held


def configure(world: SimulatedWorld) -> None:
    entry = f'[certificate.rowing]\nnames = ["{NAME}"]\nauthority = "quayside"\nvia = "front"\ninstall = ["front"]\n'
    world.config.write_text(f"{world.config.read_text()}\n{entry}")


def test_the_log_is_one_json_object_a_line_when_that_is_wanted(world: SimulatedWorld) -> None:
    configure(world)
    done = world.run("renew", "--log", "json")
    assert done.status == 0, done.err
    lines = [json.loads(line) for line in done.err.splitlines()]
    assert lines[0]["about"] == "rowing"
    assert lines[0]["text"] == "due: not issued yet"
    assert {each["level"] for each in lines} == {"info"}
    assert all(datetime.fromisoformat(each["at"]).tzinfo for each in lines)
    world.nameserver.table[NAME] = ["127.0.0.9"]
    done = world.run("stamp", "rowing", "--reissue", "--log", "json")
    assert done.status == 1
    last = json.loads(done.err.splitlines()[-1])
    assert last["level"] == "error"
    assert last["kind"]
    assert last["advice"]


def test_in_the_journal_lines_have_priorities(world: SimulatedWorld, tmp_path: Path) -> None:
    configure(world)
    with (tmp_path / "journal").open("wb") as journal:
        seen = os.fstat(journal.fileno())
        env = {**os.environ, "INKSTAMP_CONFIG": str(world.config), "JOURNAL_STREAM": f"{seen.st_dev}:{seen.st_ino}"}
        subprocess.run([inkstamp_program(), "renew"], env=env, stderr=journal, stdout=subprocess.DEVNULL, check=True)
    lines = (tmp_path / "journal").read_text().splitlines()
    assert lines
    assert all(line.startswith("<6>") for line in lines), lines
    assert not world.run("renew", env={"JOURNAL_STREAM": "1:2"}).err.startswith("<")


def test_it_keeps_running_takes_the_configuration_anew_and_ends_when_it_is_told(world: SimulatedWorld) -> None:
    command = [inkstamp_program(), "schedule", "--keep-running", "--every", "0.0005"]
    assert subprocess.run(command, capture_output=True, check=False).returncode == 2
    command[-1] = "0.001"
    env = {**os.environ, "INKSTAMP_CONFIG": str(world.config)}
    run = subprocess.Popen(command, env=env, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    try:
        configure(world)
        deadline = time.monotonic() + 40
        while world.simulated.state.issued == 0:
            assert time.monotonic() < deadline
            assert run.poll() is None, run.communicate()
            time.sleep(0.1)
        while not (world.home / "shelf" / "rowing" / "current").exists():
            assert time.monotonic() < deadline
            time.sleep(0.1)
        time.sleep(5)
    finally:
        run.send_signal(signal.SIGTERM)
    out, err = run.communicate(timeout=20)
    assert run.returncode == 0, err
    assert out.count("checked") >= 2
    assert "1 checked, 1 renewed, 0 failed" in out
    assert "runs again at" in err
    assert err.rstrip().endswith("stopped")
    assert world.simulated.state.issued == 1


def test_sigterm_in_the_middle_of_an_order_ends_a_container_at_once_and_the_next_goes_on(world: SimulatedWorld) -> None:
    configure(world)
    world.simulated.state.mood.never_done = True
    command = [inkstamp_program(), "schedule", "--keep-running"]
    env = {**os.environ, "INKSTAMP_CONFIG": str(world.config)}
    run = subprocess.Popen(command, env=env, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
    deadline = time.monotonic() + 40
    while world.asked()["finalize"] == 0:
        assert time.monotonic() < deadline
        assert run.poll() is None, run.communicate()
        time.sleep(0.05)
    run.send_signal(signal.SIGTERM)
    began = time.monotonic()
    _, err = run.communicate(timeout=20)
    assert (run.returncode, time.monotonic() - began < 5) == (0, True), err
    assert err.rstrip().endswith("stopped")
    world.simulated.state.mood.never_done = False
    assert world.run("renew").status == 0
    assert (world.asked()["new-order"], world.simulated.state.issued) == (1, 1)
    assert world.left_behind() == []


@pytest.mark.parametrize(
    ("next_in", "held_in", "fraction", "runs_in"),
    [(None, None, 0, 720), (None, None, 1, 540), (100, None, 0, 100), (600, 45, 0, 45), (-3, None, 0, 5), (1, 2, 1, 5)],
)
def test_the_next_run_comes_when_something_is_due(
    next_in: int | None, held_in: int | None, fraction: float, runs_in: int
) -> None:
    minute = timedelta(minutes=1)
    held = (Held("rowing", "is due", NOW + held_in * minute, 1),) if held_in else ()
    found = DueList(1, (), "rowing" if next_in else "", NOW + next_in * minute if next_in else None, held)
    assert next_run(Sweep(found, ()), NOW, 720 * minute, fraction) == NOW + runs_in * minute
    assert next_run(NetworkTrouble("down"), NOW, 720 * minute, fraction) == NOW + 30 * minute
