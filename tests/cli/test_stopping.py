"""Ctrl-C and SIGTERM amid work on many: it ends at once, with what is done and what is not."""

import os
import re
import signal
import socket
import subprocess
import time
from collections.abc import Iterator
from contextlib import closing

import pytest
from simulated import NAME, SimulatedWorld
from world import inkstamp_program, wait_for_file

SILENT = "127.0.0.9"


@pytest.fixture
def silent(world: SimulatedWorld) -> Iterator[list[str]]:
    """Names of a server that takes connections and says nothing."""
    names = [f"silent{each}.saltmarsh.test" for each in range(24)]
    world.nameserver.table.update({each: [SILENT] for each in names})
    with closing(socket.create_server((SILENT, world.nginx.https_port))):
        yield names


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
        program = subprocess.Popen(
            [inkstamp_program(), "check", "--from", str(listed), "--at-once", "4", "--quick"],
            stdout=out, stderr=subprocess.PIPE, env={**os.environ, "INKSTAMP_CONFIG": str(world.config)},
        )  # fmt: skip
        time.sleep(5.0 if many else 2.0)  # the first are done in a moment, and the others never
        began = time.monotonic()
        program.send_signal(number)
        _, said = program.communicate(timeout=60)
    assert program.returncode == status, said.decode()
    assert time.monotonic() - began < 5
    counted = re.search(rf"stopped: (\d+) of {len(names)} checked; not checked: ", " ".join(said.decode().split()))
    assert counted is not None, said.decode()
    assert len(quick) - 30 < int(counted[1]) <= len(quick)  # hundreds are done in processes, some names together
    assert NAME in told.read_text()


def test_precheck_ends_so_too_and_leaves_no_file_behind(world: SimulatedWorld, silent: list[str]) -> None:
    world.site("silent", silent[:12])
    world.nameserver.table.update({each: [SILENT] for each in silent})
    with closing(socket.create_server((SILENT, world.nginx.http_port))):
        program = subprocess.Popen(
            [inkstamp_program(), "precheck", NAME, *silent[:12], "--via", "front"],
            stdout=subprocess.PIPE, stderr=subprocess.PIPE,
            env={**os.environ, "INKSTAMP_CONFIG": str(world.config)},
        )  # fmt: skip
        wait_for_file(world.home / "ledger.db")
        time.sleep(2.5)
        program.send_signal(signal.SIGINT)
        out, said = program.communicate(timeout=60)
    assert program.returncode == 130, said.decode()
    assert "stopped:" in said.decode()
    assert NAME in out.decode()
    assert world.left_behind() == []
