"""A server's configuration changed by itself, beside all installs, with what leads back.

What stands there is kept first, in a folder of its own for each change; then the files are written, the server tests
them and reloads, and somebody looks. Any failure puts every byte back, and so does the next run after a kill.
"""

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from inkstamp.bulkhead import apart
from inkstamp.deadline import at_least
from inkstamp.errors import InkStampError
from inkstamp.files import remove_tree
from inkstamp.servers import backup
from inkstamp.servers.reload import take_effect
from inkstamp.servers.run_state import start_again, up_of

if TYPE_CHECKING:
    from inkstamp.clock import Clock
    from inkstamp.locks import Locks
    from inkstamp.progress import Progress
    from inkstamp.servers.pool import ServerPool

_T = TypeVar("_T")
_BACK_SECONDS = 120.0
"""For bringing files back, whatever time is left."""


def reconfigure(
    servers: "ServerPool",
    clock: "Clock",
    parent: Path,
    changes: Sequence[backup.Change],
    look: Callable[[], _T],
    **more: Any,
) -> _T:
    """Change the configuration of one server, and keep below `parent` what leads back; returns what `look` saw.

    What else must be known later (`more`) is kept beside it.

    Raises:
        InkStampError: The server refuses the change, or `look` raised; all files are as they were.

    """
    (server,) = dict.fromkeys(each.server for each in changes)
    began, up = clock.now(), up_of([servers.get(server)])
    folder = backup.keep_next(parent, changes, done=False, up=up, before=True, **more)
    try:
        backup.make(servers, changes)
        take_effect(servers.reloadable(server))
        seen = look()
    except InkStampError as error:
        with at_least(_BACK_SECONDS):
            trouble = _put_back(servers, server, folder)
            stopped = [told for each in up if (told := start_again(servers.get(each), clock, began))]
        advice = "; ".join(filter(None, [", ".join(["all files are restored", *trouble]), error.advice]))
        raise error.amended(what="; ".join([error.what, *stopped]), advice=advice) from error.__cause__
    backup.remark(folder, done=True)
    return seen


def _put_back(servers: "ServerPool", server: str, folder: Path) -> list[str]:
    """Take the edits of a kept folder out; returns what went wrong with the reload after that."""
    backup.make(servers, backup.reversed_changes(servers, folder))
    trouble = backup.reload_all(servers, [server])
    remove_tree(folder)
    return trouble


def _unfinished(parent: Path) -> list[Path]:
    """Return what killed runs had begun below a folder, the newest first."""
    return [each for each in reversed(backup.kept_folders(parent)) if not (backup.kept(each) or {}).get("done")]


def put_back_unfinished(servers: "ServerPool", progress: "Progress", parent: Path, what: str) -> None:
    """Put back what a run that was killed had begun to change; the caller holds the server, the folder's name.

    Args:
        servers: The servers of the run.
        progress: Hears of it.
        parent: Where what leads back is kept, a folder for each server.
        what: Was changed, as the end of “an interrupted change of …”.

    """
    for folder in _unfinished(parent):
        progress.step(parent.name, f"rolling back an interrupted change of {what}")
        _put_back(servers, parent.name, folder)


def put_back_all(servers: "ServerPool", locks: "Locks", progress: "Progress", parent: Path, what: str) -> None:
    """Put back what killed runs had begun to change, on all servers; one where that fails is told of."""
    for folder in sorted(parent.iterdir()) if parent.is_dir() else ():
        try:
            with apart():
                if _unfinished(folder):
                    with locks.servers((folder.name,)):
                        put_back_unfinished(servers, progress, folder, what)
        except InkStampError as error:
            progress.step(folder.name, f"an interrupted change of {what} could not be rolled back: {error.what}")
