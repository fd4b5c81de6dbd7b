"""Timers that are on this machine: when ours runs next, and others that renew for the same data directory."""

import re
import shlex
from collections.abc import Iterator, Sequence
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path

from inkstamp.errors import FileTrouble
from inkstamp.files import read_bytes
from inkstamp.home import Home
from inkstamp.jobs.renewal import user_crontab
from inkstamp.jobs.renewal.timer_units import CRON, SERVICE, TIMER
from inkstamp.ledger.run_summary import foreground
from inkstamp.reach.local import find_program
from inkstamp.reach.process import run

_SECONDS = 10.0
_MOST = 1_048_576
_CRON_LINE = re.compile(r"^(\d{1,2}) (\d{1,2}),(\d{1,2}) \* \* \* ", re.MULTILINE)
_SETS_PROXY = re.compile(r"^(?!\s*#).*(?:https_proxy\s*=|EnvironmentFile\s*=)", re.MULTILINE | re.IGNORECASE)
_OF_ALL_JOBS = Path("/etc/environment")
"""What pam_env(8) reads."""
_FOLDERS = (
    Path("/etc/systemd/system"),
    Path("/usr/lib/systemd/system"),
    Path("/lib/systemd/system"),
    Path("/etc/cron.d"),
    Path.home() / ".config" / "systemd" / "user",
)
_COMMAND = re.compile(r"^(?:ExecStart=|[\d*][^#\n]*?\s(?=timeout |/))(.*)$", re.MULTILINE)


def other_timers(home: Home, ours: Sequence[Path]) -> list[str]:
    """Return other places that run `renew` for a data directory: timers of systemd and cron, or a process.

    Args:
        home: The data directory.
        ours: The files of the timer that is meant; the others are told.

    """
    found = dict.fromkeys(
        str(path) for path in _places() if path not in ours and home_in(_text(path)) == str(home)
    )  # fmt: skip
    process = foreground(home)
    if process is not None:
        found[f"process {process} (inkstamp schedule --keep-running)"] = None
    return list(found)


def _places() -> Iterator[Path]:
    seen = set()
    for folder in _FOLDERS:
        for name in (SERVICE, CRON):
            path = folder / name
            with suppress(OSError):
                there = path.resolve(strict=True)  # /lib may be /usr/lib
                if there not in seen:
                    seen.add(there)
                    yield path
    yield user_crontab.PLACE


def _text(path: Path) -> str:
    if path == user_crontab.PLACE:
        return user_crontab.read_entry() or ""
    try:
        return read_bytes(path, limit=_MOST).decode("utf-8", "replace")
    except FileTrouble:
        return ""


def sets_proxy(timer: Path) -> bool:
    """Tell whether the runs of a timer are given `https_proxy`, as far as the files say that others write for it.

    Those are the unit's drop-ins (systemd.unit(5)); for cron the whole crontab, and what PAM gives to every job.

    Args:
        timer: The first of the timer's files: the service, the file of cron, or what stands for the user's crontab.

    """
    if timer.name == SERVICE:
        texts = [_text(each) for each in sorted(timer.with_name(f"{SERVICE}.d").glob("*.conf"))]
    else:
        whole = user_crontab.read_all() if timer == user_crontab.PLACE else _text(timer)
        texts = [_text(_OF_ALL_JOBS), whole]
    return any(_SETS_PROXY.search(each) for each in texts)


def home_in(text: str) -> str:
    """Return the data directory that a unit's or a crontab's command names after `--home`; empty for none."""
    for command in _COMMAND.findall(text):
        try:
            words = shlex.split(command.replace("\\%", "%"))
        except ValueError:
            continue
        if "renew" in words and "--home" in words[:-1]:
            return words[words.index("--home") + 1].replace("$$", "$").replace("%%", "%")
    return ""


def next_start(files: Sequence[tuple[Path, str]], now: datetime) -> datetime | None:
    """Return when a timer that is in its place runs next, UTC; None where nobody tells."""
    if files[0][0].name == SERVICE:
        return _next_of_systemd(user=files[0][0].is_relative_to(Path.home() / ".config"))
    line = _CRON_LINE.search(files[0][1])
    if line is None:
        return None
    minute, *hours = map(int, line.groups())
    here = now.astimezone()
    times = [
        here.replace(hour=hour, minute=minute, second=0, microsecond=0) + timedelta(days=days)
        for days in (0, 1)
        for hour in hours
    ]
    return min(each for each in times if each > here).astimezone(UTC)


def _next_of_systemd(*, user: bool) -> datetime | None:
    program = find_program("systemctl")
    if program is None:
        return None
    command = [program, *(["--user"] if user else []), "show", TIMER, "--property=NextElapseUSecRealtime", "--value",
               "--timestamp=unix"]  # fmt: skip
    try:
        said = run(command, seconds=_SECONDS).output.decode("ascii", "replace").strip()
    except (OSError, TimeoutError):
        return None
    number = said.removeprefix("@")
    return datetime.fromtimestamp(int(number), UTC) if number.isdecimal() and len(number) < 12 else None
