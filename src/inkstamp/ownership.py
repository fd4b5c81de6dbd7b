"""Whom root believes on this machine: files that decide what root does must be root's, and so must the way to them.

A configuration, a secret or a program that somebody else owns or may change is that person's word and not the
administrator's. An ordinary user's files decide nothing beyond what that user may do, and are not looked at.
"""

import os
import stat
from collections.abc import Iterator
from pathlib import Path

from inkstamp.errors import ConfigurationError

_MOST_STEPS = 200


def expect_ours(path: Path, what: str) -> None:
    """Make sure that nobody but root and this user can have written a file or folder, or put another in its place.

    Looked at are the path itself, every folder on the way to it, and the same for what links on the way lead to. What
    is not there is no trouble here: whoever opens it says so. Only root has something to lose by what others wrote.

    Args:
        path: Absolute.
        what: How it is called in a message, as in `the configuration`.

    Raises:
        ConfigurationError: Somebody else owns it or may change it; names the place, its owner and its mode.

    """
    if os.geteuid() != 0:
        return
    for place, found in _on_the_way(path):
        trouble = _why_not_ours(found)
        if trouble:
            kind = "folder" if stat.S_ISDIR(found.st_mode) else "file"
            about = "it" if place == path else f"the {kind} {place}"
            raise ConfigurationError(
                f"root must not rely on {what} in {path}: {about} {trouble}",
                where=str(place),
                said=f"owner {found.st_uid}, mode {stat.S_IMODE(found.st_mode):04o}",
                advice=f"chown root {place}; chmod go-w {place}; and see what is in it: others may have written it",
            )


def _why_not_ours(found: os.stat_result) -> str:
    if found.st_uid not in (0, os.geteuid()):
        return f"belongs to user {found.st_uid}"
    if stat.S_ISLNK(found.st_mode):
        return ""
    shared = stat.S_ISDIR(found.st_mode) and found.st_mode & stat.S_ISVTX  # as /tmp: what is in it stays its owner's
    if found.st_mode & stat.S_IWOTH and not shared:
        return "may be changed by everybody"
    if found.st_mode & stat.S_IWGRP and found.st_gid != 0 and not shared:
        return f"may be changed by group {found.st_gid}"
    return ""


def _on_the_way(path: Path) -> Iterator[tuple[Path, os.stat_result]]:
    """Yield all that decides what `path` is, from the root of the file system on; stops where nothing is."""
    waiting = [part for part in path.parts if part != "/"][::-1]
    here = Path("/")
    steps = 0
    try:
        yield here, os.lstat(here)
        while waiting and steps < _MOST_STEPS:
            steps += 1
            part = waiting.pop()
            if part == "..":
                here = here.parent
                continue
            place = here / part
            found = os.lstat(place)
            yield place, found
            if stat.S_ISLNK(found.st_mode):
                target = os.readlink(place)
                if target.startswith("/"):
                    here = Path("/")
                waiting += [each for each in target.split("/") if each and each != "."][::-1]
            else:
                here = place
    except (OSError, ValueError):
        return
