"""A program on a pseudo-terminal, with a person's answers."""

import os
import pty
import select
import signal
import time
from collections.abc import Sequence
from pathlib import Path


def on_terminal(
    command: Sequence[str], env: dict[str, str], folder: Path, answers: list[str], *, seconds: float = 30
) -> tuple[int, str]:
    """Run `command` and answer each question once it is asked; returns status and the screen's text."""
    process, terminal = pty.fork()
    if process == 0:
        os.chdir(folder)
        os.environ.update(env)
        os.execv(command[0], list(command))  # noqa: S606
    screen, deadline = b"", time.monotonic() + seconds
    while time.monotonic() < deadline:
        if not select.select([terminal], [], [], 0.2)[0]:
            continue
        try:
            piece = os.read(terminal, 4096)
        except OSError:
            break
        screen += piece
        if answers and screen.endswith(b": "):
            os.write(terminal, answers.pop(0).encode() + b"\n")
            screen += b"\x00"  # this question is answered
    else:  # it waits for an answer that nobody gives
        os.kill(process, signal.SIGKILL)
    _, status = os.waitpid(process, 0)
    os.close(terminal)
    return os.waitstatus_to_exitcode(status), screen.decode()
