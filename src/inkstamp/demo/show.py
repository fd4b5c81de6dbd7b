"""Run the acts in the world by the real program, and show what was typed and answered."""

import os
import signal
import subprocess
import sys
import tempfile
import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from types import FrameType

from inkstamp.demo.scenario import ACTS, Act
from inkstamp.demo.world import DemoWorld, build, running
from inkstamp.errors import InkStampError

Say = Callable[[str, str], None]
"""Told what kind of text it is (`narrator`, `command`, `answer`) and the text."""


@contextmanager
def _ended_by_signal() -> Iterator[None]:
    """Let SIGTERM end the block as Ctrl-C does, so that everything is stopped and removed."""

    def stop(_number: int, _frame: FrameType | None) -> None:
        raise KeyboardInterrupt

    if threading.current_thread() is not threading.main_thread():
        yield
        return
    before = signal.signal(signal.SIGTERM, stop)
    try:
        yield
    finally:
        signal.signal(signal.SIGTERM, before)


def play(say: Say, keep: Path | None) -> None:
    """Build a world, play all acts in it, take it down; the folder is removed unless `keep` names it.

    Raises:
        InkStampError: The world does not come up, or an act ended otherwise than it should.

    """
    with _ended_by_signal():
        if keep is not None:
            _play_in(keep.absolute(), say)
            return
        with tempfile.TemporaryDirectory(prefix="inkstamp-demo-") as folder:
            _play_in(Path(folder), say)


def _play_in(folder: Path, say: Say) -> None:
    build(folder)
    with running(folder) as world:
        say(
            "narrator",
            "Saltmarsh Hosting keeps the sites of a rowing club, a bakery and a museum. "
            f"CA and DNS are simulated; the web server is {world.web}. All is on loopback, in {folder}.",
        )
        say("command", f"export INKSTAMP_CONFIG={world.config}")
        for act in ACTS:
            _play_act(act, world, say)


def _play_act(act: Act, world: DemoWorld, say: Say) -> None:
    world.prepare(act.prepare)
    if act.before:
        say("narrator", act.before)
    command = act.command.format(directory=world.ca.directory_url, trust=world.trust)
    say("command", command)
    arguments = command.split()[1:]
    environment = {**os.environ, "INKSTAMP_CONFIG": str(world.config)}
    environment.pop("INKSTAMP_HOME", None)
    done = subprocess.run(
        [sys.executable, "-m", "inkstamp", *arguments],
        env=environment,
        stdin=subprocess.DEVNULL,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
        check=False,
    )
    say("answer", done.stdout)
    if done.returncode != act.status:
        raise InkStampError(
            f"the demo's command ended with {done.returncode} instead of {act.status}",
            where=command,
            advice="this is a mistake in Ink Stamp; please report it",
        )


def keep_up(folder: Path, said: Callable[[DemoWorld], None]) -> None:
    """Bring a kept world up and leave it up until it is interrupted."""
    with _ended_by_signal(), running(folder.absolute()) as world:
        said(world)
        try:
            threading.Event().wait()
        except KeyboardInterrupt:
            return
