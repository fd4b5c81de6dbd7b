"""An entry in a user's own crontab (crontab(1)): for who may not write to /etc/cron.d."""

import os
from pathlib import Path

from inkstamp.errors import ServerTrouble
from inkstamp.reach.local import find_program
from inkstamp.reach.process import run

PLACE = Path("crontab")
"""Stands for it among the files of a timer: where it lies is cron's own business."""
_BEGIN, _END = "# inkstamp: begin", "# inkstamp: end"
_SECONDS = 30.0


def read_entry() -> str | None:
    """Return our entry, without the lines around it; None where there is none."""
    lines = _lines()
    if _BEGIN not in lines or _END not in lines:
        return None
    inside = lines[lines.index(_BEGIN) + 1 : lines.index(_END)]
    return "".join(f"{line}\n" for line in inside)


def read_all() -> str:
    """Return the whole crontab, the lines of others too; empty where there is none."""
    return "\n".join(_lines())


def write_entry(text: str) -> None:
    """Put our entry at the end of the user's crontab, in the place of an older one; all other lines stay."""
    _install([*_others(), _BEGIN, *text.splitlines(), _END])


def remove_entry() -> None:
    """Take our entry out of the user's crontab."""
    _install(_others())


def _others() -> list[str]:
    lines = _lines()
    if _BEGIN in lines and _END in lines:
        del lines[lines.index(_BEGIN) : lines.index(_END) + 1]
    return lines


def _lines() -> list[str]:
    program = find_program("crontab")
    if program is None:
        return []
    ended = run([program, "-l"], seconds=_SECONDS)
    if ended.status != 0:  # "no crontab for …", whatever the language
        return []
    return ended.output.decode("utf-8", "surrogateescape").splitlines()


def _install(lines: list[str]) -> None:
    program = find_program("crontab")
    if program is None:
        raise ServerTrouble("there is no crontab on this machine", where="crontab",
                            advice="install cron; or run: inkstamp schedule --keep-running")  # fmt: skip
    data = "".join(f"{line}\n" for line in lines).encode("utf-8", "surrogateescape")
    ended = run([program, "-"], data=data, seconds=_SECONDS)
    if ended.status != 0:
        raise ServerTrouble(
            "cron does not take the entry", where=f"crontab of user {os.geteuid()}",
            said=ended.complaint.decode("utf-8", "replace"),
            advice="see cron.allow and cron.deny (crontab(1)); or run: inkstamp schedule --keep-running",
        )  # fmt: skip
