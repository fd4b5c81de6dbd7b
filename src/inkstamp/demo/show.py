"""Run the acts in the world by the real program, and show what was typed and answered."""

import os
import shlex
import subprocess
import sys
import tempfile
import threading
from collections.abc import Callable
from pathlib import Path

from inkstamp.demo.children import Children
from inkstamp.demo.scenario import ACTS, Act
from inkstamp.demo.world import DemoWorld, build, running
from inkstamp.errors import InkStampError

Say = Callable[[str, str], None]
"""Told what kind of text it is (`narrator`, `command`, `answer`, or `at` and the machine of a command) and the text."""


def went_wrong(what: str, where: str = "", said: str = "") -> InkStampError:
    """Return the error for something in the demo that should not have happened."""
    return InkStampError(what, where=where, said=said, advice="this is a bug in Ink Stamp; please report it")


def play(say: Say, keep: Path | None) -> None:
    """Build a world, play all acts in it, take it down; the folder is removed unless `keep` names it.

    Raises:
        InkStampError: The world does not come up, or an act ended otherwise than it should.

    """
    with Children() as children:
        if keep is not None:
            _play_in(keep.absolute(), children, say)
            return
        with tempfile.TemporaryDirectory(prefix="inkstamp-demo-") as folder:
            _play_in(Path(folder), children, say)


def _play_in(folder: Path, children: Children, say: Say) -> None:
    build(folder)
    with running(folder, children) as world:
        say(
            "narrator",
            "Saltmarsh Hosting keeps the sites of a rowing club, a bakery and a museum. "
            f"The CAs and DNS are simulated; the web server is {world.web}. All is on loopback, in {folder}.",
        )
        say("command", f"export INKSTAMP_CONFIG={world.config}")
        for act in ACTS:
            _play_act(act, world, children, say)


def _play_act(act: Act, world: DemoWorld, children: Children, say: Say) -> None:
    world.prepare(act.prepare)
    if act.before:
        say("narrator", act.before)
    command = act.typed(**world.known)
    say("command", command)
    arguments = shlex.split(command)[1:]
    environment = {**os.environ, "COLUMNS": "80", "INKSTAMP_CONFIG": str(world.config)}
    environment.pop("INKSTAMP_HOME", None)
    process = children.start(
        [sys.executable, "-m", "inkstamp", *arguments],
        env=environment,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        text=True,
    )
    answer, _ = process.communicate()
    say("answer", answer)
    if process.returncode != act.status:
        raise went_wrong(f"the demo's command ended with {process.returncode} instead of {act.status}", command)


def keep_up(folder: Path, said: Callable[[DemoWorld], None]) -> None:
    """Bring a kept world up and leave it up until it is interrupted."""
    with Children() as children, running(folder.absolute(), children) as world:
        said(world)
        try:
            threading.Event().wait()
        except KeyboardInterrupt:
            return
