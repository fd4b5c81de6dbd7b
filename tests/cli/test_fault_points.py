"""An exception that nobody foresaw, thrown wherever many are worked on: it stays with that one and is told."""

from pathlib import Path

import pytest
from simulated import NAME, SimulatedWorld

THROWER = """\
import os, sys
from inkstamp.__main__ import main


class Panic(BaseException):
    pass


def throw(event, arguments):
    if event == "inkstamp." + os.environ["THROW_AT"] and os.environ["ABOUT"] in str(arguments[0]):
        raise Panic("thrown \\x1b[2J")


sys.addaudithook(throw)
main()
"""


@pytest.fixture
def thrower(tmp_path: Path) -> str:
    program = tmp_path / "thrower"
    program.write_text(THROWER)
    return str(program)


def test_wherever_it_is_thrown_the_run_goes_on_and_says_so(world: SimulatedWorld, thrower: str) -> None:
    assert world.run("stamp", NAME, "--as", "rowing").status == 0
    key = world.config.parent / "hook.key"
    key.write_text("secret")
    key.chmod(0o600)
    hook = (
        '[messenger.hook]\nkind = "webhook"\nurl = "https://127.0.0.1:9/"\nkey_file = "hook.key"\nabout = ["failing"]\n'
    )
    group = '[group.web]\nauthority = "quayside"\nvia = "front"\n'
    world.config.write_text(f"{world.config.read_text()}\n{hook}\n{group}")
    for place, about, command, status in (
        ("ask", "rowing", ("renew",), 1),
        ("tell", "hook", ("renew",), 1),
        ("decide", "rowing", ("renew",), 1),
        ("status", "rowing", ("status",), 0),
        ("check", NAME, ("check", NAME), 1),
        ("site", NAME, ("survey",), 1),
        ("read", "front", ("survey",), 1),
        ("rehearse", "rowing", ("rehearse", "rowing"), 1),
        ("stamp", "rowing", ("stamp", "rowing"), 1),
        ("enrol", "lido", ("enrol", "--group", "web", "--offline", "lido.saltmarsh.test"), 1),
        ("adopt", NAME, ("adopt", NAME), 1),
    ):
        done = world.run(*command, program=thrower, env={"THROW_AT": place, "ABOUT": about})
        assert done.status == status, (place, done.out, done.err)
        assert "internal error" in done.flat, (place, done.out, done.err)
        assert not {"\x1b"} & set(done.out + done.err)
        assert "Traceback" not in done.out + done.err
    assert world.run("status").status == 0
