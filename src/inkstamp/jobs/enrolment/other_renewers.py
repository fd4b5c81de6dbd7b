"""Other programs that may renew the same files, found by what every such program needs: a schedule that names them."""

import os
import re
from collections.abc import Iterable, Sequence
from pathlib import Path

from inkstamp.errors import FileTrouble
from inkstamp.files import read_bytes
from inkstamp.findings import Finding, warn

SCHEDULES = (
    "/etc/crontab",
    "/etc/cron.d",
    "/etc/cron.hourly",
    "/etc/cron.daily",
    "/etc/cron.weekly",
    "/var/spool/cron/crontabs",
    "/etc/systemd/system",
    "/usr/local/lib/systemd/system",
)
"""Where cron and systemd are told by administrators what to run and when."""
_MOST_BYTES = 1 << 18
_MOST_FILES = 2000
_DIGITS = re.compile(r"\d+")


def other_renewers(paths: Iterable[str], issuer: str, schedules: Sequence[str] = SCHEDULES) -> list[Finding]:
    """Return what else may renew a certificate's files on this machine: two that do so undo each other's work.

    Args:
        paths: The files, as a server's configuration names them; empty ones do not count.
        issuer: Who issued it, in words.
        schedules: Files, and folders of files, that say what is run and when.

    """
    named = [each for each in paths if each]
    real = [os.path.realpath(each) for each in named]
    wanted = {*named, *real, *(f"{os.path.dirname(each)}/" for each in real if _has_several(each))}
    findings = [
        warn("renewal", file, f"names {found}, so that it may renew the certificate by “{issuer}” as well",
             "end that before the next renewal")
        for file, found in _naming(wanted, schedules)
    ]  # fmt: skip
    for path, target in zip(named, real, strict=True):
        if os.path.islink(path) and _has_several(target):
            seen = f"leads to {target}, beside others of that name: another program may replace it"
            findings.append(warn("renewal", path, seen, "find that program, and end its renewals"))
    return findings


def _has_several(path: str) -> bool:
    """Tell whether a file stands beside others whose names differ in a number alone, as editions of one thing do."""
    name = os.path.basename(path)
    if not _DIGITS.search(name):
        return False
    try:
        beside = os.listdir(os.path.dirname(path))
    except OSError:
        return False
    return any(each != name and _DIGITS.sub("#", each) == _DIGITS.sub("#", name) for each in beside)


def _naming(wanted: set[str], schedules: Sequence[str]) -> list[tuple[str, str]]:
    """Return the files of schedules that name one of the paths, and which."""
    found = []
    for file in _files(schedules):
        try:
            text = read_bytes(file, limit=_MOST_BYTES).decode("utf-8", "replace")
        except FileTrouble:
            continue  # not readable by this user: what cannot be seen is not told
        hit = next((each for each in sorted(wanted) if each in text), "")
        if hit:
            found.append((str(file), hit))
    return found


def _files(schedules: Sequence[str]) -> list[Path]:
    files: list[Path] = []
    for each in map(Path, schedules):
        if each.is_file():
            files.append(each)
        elif each.is_dir():
            try:
                files += sorted(file for file in each.iterdir() if file.is_file())
            except OSError:
                continue
    return files[:_MOST_FILES]
