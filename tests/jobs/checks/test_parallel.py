"""Many looks at the same time: all of them come back, whatever becomes of a process."""

import os
import signal

import pytest

from inkstamp.jobs.checks.parallel import look_at_many

PARENT = os.getpid()


def told(number: int) -> tuple[int, int]:
    return number, os.getpid()


def deadly(number: int) -> int:
    if number == 60 and os.getpid() != PARENT:
        os.kill(os.getpid(), signal.SIGKILL)
    return number


@pytest.mark.parametrize(("many", "at_once", "processes"), [(20, 4, 1), (300, 1, 1), (300, 8, 2)])
def test_all_come_back_from_as_many_processes_as_that_is_worth(
    many: int, at_once: int, processes: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(os, "cpu_count", lambda: 2)
    found = list(look_at_many(told, range(many), at_once))
    assert sorted(number for number, _ in found) == list(range(many))
    assert len({process for _, process in found}) <= processes
    assert ({process for _, process in found} == {PARENT}) is (processes == 1)


def test_a_process_that_dies_takes_nothing_with_it(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(os, "cpu_count", lambda: 2)
    assert sorted(look_at_many(deadly, range(300), 8)) == list(range(300))
