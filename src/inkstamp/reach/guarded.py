"""Files in folders that belong to strangers.

A document root is a customer's, and Ink Stamp often runs as root: a symbolic link planted there must not lead a
write or a read elsewhere. Every step goes through an open folder descriptor with O_NOFOLLOW, so there is no
moment between looking and acting in which a name could change its meaning.
"""

import os
import stat
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress

from inkstamp.errors import FileTrouble
from inkstamp.files import file_trouble
from inkstamp.reach.interface import Planted

_FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
MOST_LINKS = 20
_MOST_TRIES = 5


def _is_ours(owner: int) -> bool:
    return owner in (0, os.geteuid())


def open_root(root: str, *, make: int | None = None, what: str = "document root") -> int:
    """Open the folder `root` and return its descriptor; folders that are missing are made with mode `make`, if given.

    On the way, a symbolic link is followed only when root or the present user owns both the link and the
    folder that it lies in, and no one else may write to that folder: then no stranger chose its target.

    Raises:
        FileTrouble: The folder is missing, or the path passes through a link that a stranger controls.

    """
    waiting = [part for part in root.split("/") if part][::-1]
    here = os.open("/", _FOLDER)
    trail: list[int] = []
    links = 0
    try:
        while waiting:
            part = waiting.pop()
            if part == "..":
                os.close(here)
                here = trail.pop() if trail else os.open("/", _FOLDER)
                continue
            below = _step_into(part, here, make, root, what)
            if isinstance(below, int):
                trail.append(here)
                here = below
                continue
            links += 1
            if links > MOST_LINKS:
                raise FileTrouble(f"{root} leads through too many symbolic links", where=root)
            waiting.extend([step for step in below.split("/") if step and step != "."][::-1])
            if below.startswith("/"):
                for each in (*trail, here):
                    os.close(each)
                trail, here = [], os.open("/", _FOLDER)
    except BaseException:
        os.close(here)
        raise
    finally:
        for each in trail:
            os.close(each)
    return here


def _step_into(part: str, here: int, make: int | None, root: str, what: str) -> int | str:
    """Open the folder `part` in the folder `here`; return what a link in its place leads to, when we trust it."""
    try:
        return os.open(part, _FOLDER, dir_fd=here)
    except OSError as error:
        target = trusted_link(part, here, root, what)
        if target is not None:
            return target
        with file_trouble(f"open the {what}", root):
            if make is None or not isinstance(error, FileNotFoundError):
                raise
            _make_folder(part, here, make, root)
            return os.open(part, _FOLDER, dir_fd=here)


def _make_folder(part: str, folder: int, mode: int, path: str) -> None:
    with file_trouble("create the folder", path), suppress(FileExistsError):
        os.mkdir(part, 0o700, dir_fd=folder)
        made = os.open(part, _FOLDER, dir_fd=folder)
        try:
            os.fchmod(made, mode)  # the umask may have taken the web server's right to enter
        finally:
            os.close(made)


def trusted_link(part: str, folder: int, root: str, what: str) -> str | None:
    """Return the target of the link `part` in `folder`, None when it is no link; refuse a stranger's."""
    try:
        link = os.stat(part, dir_fd=folder, follow_symlinks=False)
    except OSError:
        return None
    if not stat.S_ISLNK(link.st_mode):
        return None
    parent = os.fstat(folder)
    loose = parent.st_mode & (stat.S_IWGRP | stat.S_IWOTH) and not parent.st_mode & stat.S_ISVTX
    if not _is_ours(link.st_uid) or not _is_ours(parent.st_uid) or loose:
        raise FileTrouble(
            f"the {what} {root} passes through the symbolic link “{part}”, which a customer controls",
            where=root,
            said=f"the link belongs to user {link.st_uid}, its folder to user {parent.st_uid}",
            advice="name the real folder in the server's configuration, or make the link and its folder root's",
        )
    return os.readlink(part, dir_fd=folder)


def missing_folders(root: str, parts: tuple[str, ...]) -> tuple[int, ...]:
    """Tell which folders of `parts` (by index) are not there yet; the last of `parts` is the file.

    Raises:
        FileTrouble: The root cannot be opened, or something in the way is no folder.

    """
    path = "/".join((root.rstrip("/"), *parts))
    opened = [open_root(root)]
    try:
        for depth, part in enumerate(parts[:-1]):
            try:
                opened.append(_enter(part, opened[-1], path))
            except FileNotFoundError:
                return tuple(range(depth, len(parts) - 1))
        return ()
    finally:
        for each in opened:
            os.close(each)


def plant(root: str, parts: tuple[str, ...], data: bytes) -> Planted:
    """Write `data` to the path `parts` below `root`, readable to all, making folders where they are missing.

    Raises:
        FileTrouble: A folder cannot be made or the file not written, or something in the way is a symbolic
            link or a file; nothing that was made is left then.

    """
    for _ in range(_MOST_TRIES):
        with suppress(FileNotFoundError):
            return _plant_once(root, parts, data)
    path = "/".join((root.rstrip("/"), *parts))
    raise FileTrouble(
        f"{path} is removed while it is being written", where=path, advice="see which program cleans that folder"
    )


def _plant_once(root: str, parts: tuple[str, ...], data: bytes) -> Planted:
    """Try once; FileNotFoundError when another proof's folder was cleared away under our feet."""
    path = "/".join((root.rstrip("/"), *parts))
    opened = [open_root(root)]
    made: list[int] = []
    try:
        for depth, part in enumerate(parts[:-1]):
            with _trouble_unless_gone("create the folder", path), suppress(FileExistsError):
                os.mkdir(part, 0o755, dir_fd=opened[-1])
                made.append(depth)
            opened.append(_enter(part, opened[-1], path))
            if depth in made:
                os.fchmod(opened[-1], 0o755)  # the umask may have taken the web server's right to enter
        _write(parts[-1], opened[-1], data, path)
    except BaseException:
        _remove_folders(opened, parts, made)
        raise
    finally:
        for each in opened:
            os.close(each)
    return Planted(root, parts, tuple(made))


def _enter(part: str, folder: int, path: str) -> int:
    try:
        return os.open(part, _FOLDER, dir_fd=folder)
    except FileNotFoundError:
        raise
    except OSError as error:
        found = os.stat(part, dir_fd=folder, follow_symlinks=False)
        if stat.S_ISDIR(found.st_mode):
            with file_trouble("enter the folder", path):
                raise
        kind = "a symbolic link" if stat.S_ISLNK(found.st_mode) else "not a folder"
        raise FileTrouble(
            f"“{part}” on the way to {path} is {kind}; no link of a customer's is followed",
            where=path,
            said=f"it belongs to user {found.st_uid}",
            advice=f"remove “{part}” there, or make it a real folder",
        ) from error


def _write(name: str, folder: int, data: bytes, path: str) -> None:
    with suppress(FileNotFoundError), _trouble_unless_gone("write", path):
        os.unlink(name, dir_fd=folder)  # left by an interrupted run, or a link planted in our way
    with _trouble_unless_gone("write", path):
        handle = os.open(name, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o644, dir_fd=folder)
        try:
            with os.fdopen(handle, "wb") as out:
                out.write(data)
                out.flush()
                os.fchmod(out.fileno(), 0o644)
        except BaseException:
            with suppress(OSError):
                os.unlink(name, dir_fd=folder)
            raise


@contextmanager
def _trouble_unless_gone(action: str, path: str) -> Iterator[None]:
    """Turn every OSError into FileTrouble but the one that `plant` tries again after."""
    try:
        yield
    except FileNotFoundError:
        raise
    except OSError as error:
        with file_trouble(action, path):
            raise error from None


def _remove_folders(opened: Sequence[int], parts: tuple[str, ...], made: Sequence[int]) -> None:
    """Remove those folders of the path that were made, from the innermost outwards, as far as they are empty."""
    for depth in sorted(made, reverse=True):
        if depth < len(opened):
            with suppress(OSError):  # not empty: somebody else put something there, so it stays
                os.rmdir(parts[depth], dir_fd=opened[depth])


def check_root(root: str, parts: tuple[str, ...]) -> None:
    """Make sure that a file could be planted at `parts` below `root`, without writing anything.

    Raises:
        FileTrouble: The root or a folder below it is missing, in the way, or not writable.

    """
    path = "/".join((root.rstrip("/"), *parts))
    opened = [open_root(root)]
    try:
        for part in parts[:-1]:
            try:
                opened.append(_enter(part, opened[-1], path))
            except FileNotFoundError:
                break
        if not os.access(".", os.W_OK | os.X_OK, dir_fd=opened[-1], effective_ids=True):
            owner = os.fstat(opened[-1]).st_uid
            raise FileTrouble(
                f"cannot write below the document root {root}",
                where=path,
                said=f"it belongs to user {owner} and this run is user {os.geteuid()}",
                advice="run the command as root or as the folder's owner",
            )
    finally:
        for each in opened:
            os.close(each)


def uproot(root: str, parts: tuple[str, ...], made: Sequence[int]) -> None:
    """Remove a planted file and the folders that were made for it; what is gone already is no trouble.

    Raises:
        FileTrouble: The file is there and cannot be removed.

    """
    path = "/".join((root.rstrip("/"), *parts))
    try:
        opened = [open_root(root)]
    except FileTrouble:
        return  # the document root itself is gone, and the proof with it
    try:
        for part in parts[:-1]:
            try:
                opened.append(os.open(part, _FOLDER, dir_fd=opened[-1]))
            except OSError:
                break
        else:
            with file_trouble("remove", path), suppress(FileNotFoundError):
                os.unlink(parts[-1], dir_fd=opened[-1])
        _remove_folders(opened, parts, made)
    finally:
        for each in opened:
            os.close(each)
