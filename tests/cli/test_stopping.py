"""Ctrl-C and SIGTERM amid work on many: it ends at once, with what is done and what is not."""

import os
import pty
import re
import signal
import socket
import subprocess
import time
from collections.abc import Iterator, Sequence
from contextlib import closing, suppress
from typing import BinaryIO

import pytest
from simulated import NAME, SimulatedWorld
from world import inkstamp_program

SILENT = "127.0.0.9"


@pytest.fixture
def silent(world: SimulatedWorld) -> Iterator[list[str]]:
    """Names of a server that takes connections and says nothing."""
    names = [f"silent{each}.saltmarsh.test" for each in range(24)]
    world.nameserver.table.update({each: [SILENT] for each in names})
    with closing(socket.create_server((SILENT, world.nginx.https_port))):
        yield names


def _stopped_when_some_are_done(
    world: SimulatedWorld, command: Sequence[str], number: signal.Signals, out: BinaryIO
) -> tuple[int, str, float]:
    """Run a command with a terminal for what it tells, and send a signal once the terminal says how many are done.

    Returns its exit status, what it told after that, and how many seconds it took to end.
    """
    screen, terminal = pty.openpty()
    program = subprocess.Popen(
        [inkstamp_program(), *command], stdout=out, stderr=terminal,
        env={**os.environ, "INKSTAMP_CONFIG": str(world.config), "TERM": "xterm", "COLUMNS": "80"},
    )  # fmt: skip
    os.close(terminal)
    told = b""
    while not re.search(rb"checked: \d+ of", told):
        told += os.read(screen, 4096)
    time.sleep(1.0)  # what is done in a moment is done
    program.send_signal(number)
    began, told = time.monotonic(), b""
    with suppress(OSError):  # EIO: nobody has the terminal any more
        while piece := os.read(screen, 4096):
            told += piece
    status = program.wait(30)
    os.close(screen)
    return status, " ".join(told.decode().split()), time.monotonic() - began


@pytest.mark.parametrize(("number", "status"), [(signal.SIGINT, 130), (signal.SIGTERM, 143)])
@pytest.mark.parametrize("many", [False, True])
def test_check_ends_at_the_first_ctrl_c_with_the_names_that_are_done(
    world: SimulatedWorld, silent: list[str], number: signal.Signals, status: int, many: bool
) -> None:
    assert world.run("stamp", NAME).status == 0
    quick = [NAME, *(f"nowhere{each}.saltmarsh.test" for each in range(100 if many else 0))]
    names, told = [*quick, *silent], world.folder / "told"
    listed = world.folder / "names"
    listed.write_text("\n".join(names))
    with told.open("wb") as out:
        status_seen, said, took = _stopped_when_some_are_done(
            world, ["check", "--from", str(listed), "--at-once", "4", "--quick"], number, out
        )
    assert (status_seen, took < 5) == (status, True), said
    counted = re.search(rf"stopped: (\d+) of {len(names)} checked; not checked: ", " ".join(said.split()))
    assert counted is not None, said
    assert len(quick) - 30 < int(counted[1]) <= len(quick)  # hundreds are done in processes, some names together
    assert NAME in told.read_text()


def test_precheck_ends_so_too_and_leaves_no_file_behind(world: SimulatedWorld, silent: list[str]) -> None:
    world.site("silent", silent[:12])
    world.nameserver.table.update({each: [SILENT] for each in silent})
    told = world.folder / "told"
    with closing(socket.create_server((SILENT, world.nginx.http_port))), told.open("wb") as out:
        command = ["precheck", NAME, *silent[:12], "--via", "front"]
        status, said, _ = _stopped_when_some_are_done(world, command, signal.SIGINT, out)
    assert (status, "stopped: 1 of 13 checked" in said) == (130, True), said
    assert NAME in told.read_text()
    assert world.left_behind() == []
