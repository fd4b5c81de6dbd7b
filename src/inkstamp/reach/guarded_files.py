"""Single files in folders that may be a stranger's: read, written, replaced and removed so that no exchange leads
elsewhere.

As `reach.guarded` does for document roots: every step goes through the open descriptor of a folder.
"""

import errno
import grp
import os
import pwd
import stat
from collections.abc import Callable
from contextlib import suppress
from typing import Any

from inkstamp.errors import FileTrouble
from inkstamp.files import expect_file, expect_regular, file_trouble, read_whole
from inkstamp.reach.guarded import MOST_LINKS, open_root, trusted_link
from inkstamp.reach.interface import Rights


def present(path: str, limit: int) -> tuple[bytes, Rights] | None:
    """Return what a file holds and whose it is, None when there is none; the two belong together, whatever happens.

    Raises:
        FileTrouble: Something else stands there: a link is not followed, since strangers may have made it.

    """
    folder_path, _, name = path.rpartition("/")
    try:
        folder = open_root(folder_path or "/", what="folder")
    except FileTrouble as error:
        if isinstance(error.__cause__, FileNotFoundError):
            return None
        raise
    try:
        with file_trouble("read", path):
            try:
                handle = os.open(name, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, dir_fd=folder)
            except FileNotFoundError:
                return None
            except OSError as error:
                if error.errno != errno.ELOOP:
                    raise
                raise FileTrouble(f"{path} is a symbolic link", where=path, advice="name the file itself") from error
            try:
                found = expect_file(handle, path)
                return read_whole(handle, path, limit), _rights_of(found)
            finally:
                os.close(handle)
    finally:
        os.close(folder)


def _rights_of(found: os.stat_result) -> Rights:
    return Rights(stat.S_IMODE(found.st_mode), str(found.st_uid), str(found.st_gid))


def remove(path: str) -> None:
    """Remove a file, and what a killed run had begun to write in its place, which may hold a key; no link is followed.

    Raises:
        FileTrouble: It is there and cannot be removed.

    """
    folder_path, _, name = path.rpartition("/")
    try:
        folder = open_root(folder_path or "/", what="folder")
    except FileTrouble as error:
        if isinstance(error.__cause__, FileNotFoundError):
            return
        raise
    try:
        for each in (name, f".{name}.part"):
            with file_trouble("remove", path), suppress(FileNotFoundError):
                os.unlink(each, dir_fd=folder)
    finally:
        os.close(folder)


def have_folder(path: str) -> bool:
    """Make a folder that everybody may read, and those above it, where it is missing; tell whether it was."""
    there = os.path.isdir(path)
    os.close(open_root(path, make=0o755, what="folder"))
    return not there


def drop_folder(path: str) -> None:
    """Remove a folder if it is empty."""
    folder_path, _, name = path.rstrip("/").rpartition("/")
    with suppress(OSError, FileTrouble):  # not empty, or gone already, or not ours to reach
        folder = open_root(folder_path or "/", what="folder")
        try:
            os.rmdir(name, dir_fd=folder)
        finally:
            os.close(folder)


def replace(path: str, data: bytes) -> None:
    """Put `data` in the place of an existing file, whole or not at all, with its mode and owner.

    Links are followed where only root or this user can have made them, as an administrator's own to the file that is
    really meant.

    Raises:
        FileTrouble: It is not there, is no file, or a stranger's link is on the way; what stands there is as it was.

    """
    place = path
    for _ in range(MOST_LINKS):
        folder_path, _, name = place.rpartition("/")
        folder = open_root(folder_path or "/", what="folder")
        try:
            target = trusted_link(name, folder, path, "file")
            if target is None:
                with file_trouble("write", path):
                    there = os.stat(name, dir_fd=folder, follow_symlinks=False)
                if not stat.S_ISREG(there.st_mode):
                    raise FileTrouble(f"{path} is no file", where=path, advice="name the file itself")
                _put(folder, name, data, _rights_of(there), path, lenient=True)
                return
        finally:
            os.close(folder)
        place = os.path.normpath(os.path.join(folder_path or "/", target))
    raise FileTrouble(f"{path} leads through too many symbolic links", where=path)


def put(path: str, data: bytes, wanted: Rights) -> None:
    """Write a file whole or not at all, durably, in a folder that no stranger's link leads to.

    Raises:
        FileTrouble: It could not be written; what stood there before still does.

    """
    folder_path, _, name = path.rpartition("/")
    folder = open_root(folder_path or "/", make=0o700, what="folder")
    try:
        _put(folder, name, data, wanted, path)
    finally:
        os.close(folder)


def _put(folder: int, name: str, data: bytes, wanted: Rights, path: str, *, lenient: bool = False) -> None:
    """Write a file beside its place in an open folder, with its rights, and give it its name.

    With `lenient`, an owner that this user cannot give it to is passed over, as who edits another's file by hand does.
    """
    owner, group = _number(pwd.getpwnam, wanted.owner, path), _number(grp.getgrnam, wanted.group, path)
    beside = f".{name}.part"
    with file_trouble("write", path):
        with suppress(FileNotFoundError):
            found = os.stat(name, dir_fd=folder, follow_symlinks=False)
            if not stat.S_ISLNK(found.st_mode):
                expect_regular(found, path)
        with suppress(FileNotFoundError):
            os.unlink(beside, dir_fd=folder)
        handle = os.open(beside, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600, dir_fd=folder)
        try:
            with os.fdopen(handle, "wb") as out:
                with suppress(*((PermissionError,) if lenient else ())):
                    _give(out.fileno(), owner, group)
                os.fchmod(out.fileno(), wanted.mode)
                out.write(data)
                out.flush()
                os.fsync(out.fileno())
            os.rename(beside, name, src_dir_fd=folder, dst_dir_fd=folder)
            os.fsync(folder)
        except BaseException:
            with suppress(OSError):
                os.unlink(beside, dir_fd=folder)
            raise


def _give(handle: int, owner: int, group: int) -> None:
    now = os.fstat(handle)
    if (owner, group) not in {(-1, -1), (now.st_uid, now.st_gid)}:
        os.fchown(handle, owner, group)


def _number(find: Callable[[str], tuple[Any, ...]], name: str, path: str) -> int:
    """Return the number of a user or group; -1 for none named."""
    if not name or name.isdigit():
        return int(name or -1)
    try:
        return int(find(name)[2])
    except KeyError as error:
        raise FileTrouble(
            f"cannot give {path} to “{name}”", where=path, said="there is no such user or group on this machine",
            advice="correct the name in the server's table",
        ) from error  # fmt: skip
