"""A program that is run ends: in time, with what it started, and whatever it says."""

import os
import resource
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import psutil
import pytest

from inkstamp.deadline import within
from inkstamp.errors import FileTrouble, ServerTrouble
from inkstamp.reach import process
from inkstamp.reach.interface import Host
from inkstamp.reach.local import LocalHost


def test_a_daemon_that_keeps_the_output_open_is_not_waited_for(host: Host, tmp_path: Path) -> None:
    began = time.monotonic()
    ran = host.run(["sh", "-c", f"sleep 30 & echo $! > {tmp_path}/pid; echo reloaded"], 20)
    assert (ran.status, ran.output) == (0, "reloaded")
    assert time.monotonic() - began < 10
    psutil.Process(int((tmp_path / "pid").read_text())).kill()


def test_what_takes_too_long_is_ended_with_all_that_it_started(tmp_path: Path) -> None:
    with pytest.raises(ServerTrouble, match="did not end within 1 s"):
        LocalHost().run(["sh", "-c", f"sleep 40 & echo $! > {tmp_path}/pid; trap '' TERM; sleep 40"], 1)
    child = int((tmp_path / "pid").read_text())
    assert not psutil.pid_exists(child) or psutil.Process(child).status() == psutil.STATUS_ZOMBIE


def test_the_deadline_of_the_scope_ends_a_program_too() -> None:
    with within(0.3), pytest.raises(TimeoutError):
        process.run(["sleep", "40"], seconds=60)


def test_output_without_end_is_read_up_to_a_bound_and_no_further() -> None:
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    done = process.run(["sh", "-c", "head -c 300000000 /dev/zero"], seconds=60, most=1000)
    assert (len(done.output), done.cut, done.status) == (1000, True, 0)
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before < 50_000


def test_a_program_that_does_not_listen_and_one_that_is_told_much_both_end() -> None:
    assert process.run(["true"], data=b"x" * 10_000_000, seconds=30).status == 0
    assert process.run(["wc", "-c"], data=b"x" * 10_000_000, seconds=30).output.strip() == b"10000000"


@contextmanager
def many_descriptors() -> Iterator[None]:
    """Have the next descriptors above 1023, where select(2) ends."""
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    resource.setrlimit(resource.RLIMIT_NOFILE, (min(4096, hard), hard))
    held: list[int] = []
    try:
        while not held or held[-1] < 1100:
            held.append(os.open("/dev/null", os.O_RDONLY))
        yield
    finally:
        for each in held:
            os.close(each)
        resource.setrlimit(resource.RLIMIT_NOFILE, (soft, hard))


def test_a_program_is_talked_to_with_more_than_a_thousand_descriptors_open() -> None:
    with many_descriptors():
        assert process.run(["cat"], data=b"heard", seconds=30).output == b"heard"


def test_a_pipe_in_the_place_of_a_file_is_refused_and_not_waited_for(host: Host, tmp_path: Path) -> None:
    pipe = tmp_path / "pipe"
    os.mkfifo(pipe)
    for read in (host.read, host.read_certificates, host.present):
        with pytest.raises(FileTrouble):
            read(str(pipe))
    assert host.gather([str(pipe)], contents="all") == {}
