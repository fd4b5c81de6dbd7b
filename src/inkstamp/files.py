"""The one writer of files that matter.

A file is written beside its place, synced and renamed over it: a crash leaves the old bytes or the new ones,
never half of them. Keys are created with mode 0600 before their first byte is written.
"""

import errno
import fcntl
import os
import shutil
import stat
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from inkstamp.deadline import time_left
from inkstamp.errors import Busy, ConfigurationError, FileTooLarge, FileTrouble
from inkstamp.ownership import expect_ours

_ADVICE = {
    errno.ENOSPC: "free some space on that disk and run the same command again; it resumes where it stopped",
    errno.EDQUOT: "raise the quota or free some space, then run the same command again",
    errno.EACCES: "run the command as a user who may write there, or change the modes",
    errno.EPERM: "run the command as a user who may write there, or change the modes",
    errno.EROFS: "the file system is mounted read-only; mount it writable or choose another place",
    errno.ENOENT: "check the path",
}

_NO_LINKS = {errno.EPERM, errno.EOPNOTSUPP, errno.ENOSYS, errno.EMLINK}
"""What file systems without hard links answer."""
_HOLDER = 32
"""Bytes that name the holder of a lock in its file."""
_PIECE, _MOST_PIECE = 65_536, 1_048_576
"""Bytes read first, and then in one go: room for all that may be read is costly to make for a file of two kilobytes."""


@contextmanager
def file_trouble(action: str, path: str | os.PathLike[str]) -> Iterator[None]:
    """Turn an OSError inside into a FileTrouble that says what was tried (`write`, `read`) on which path."""
    try:
        yield
    except OSError as error:
        advice = _ADVICE.get(error.errno or 0, "")
        where = os.fspath(path)
        raise FileTrouble(
            f"cannot {action} {where}", where=where, said=error.strerror or str(error), advice=advice
        ) from error


def partial_of(path: Path) -> Path:
    """Return where a file is written before it takes its place; what a killed run left there may be removed."""
    return path.with_name(f".{path.name}.part")


def write_bytes(path: Path, data: bytes, *, mode: int = 0o644, like: os.stat_result | None = None) -> None:
    """Replace the file at `path` by `data`, atomically and durably; two at a time must be kept apart by a lock.

    Args:
        path: Where the file goes; its folder must exist.
        data: The whole new content.
        mode: Permission bits, set exactly, whatever the umask.
        like: Take mode and owner from this instead (for a file that replaces an older one).

    Raises:
        FileTrouble: It could not be written; what stood there before still does.

    """
    expect_replaceable(path)
    # Always the same name: what a killed run left there is cleared away by the next write.
    beside = partial_of(path)
    with file_trouble("write", path):
        with suppress(FileNotFoundError):
            os.unlink(beside)
        try:
            _create(beside, data, mode, like)
            os.replace(beside, path)
        except BaseException:
            with suppress(OSError):
                os.unlink(beside)
            raise
        sync_folder(path.parent)


def expect_replaceable(path: Path) -> None:
    """Refuse to put a file in the place of a folder, a device or a pipe, such as /dev/null; FileTrouble for one.

    What is at the end of a link counts, as in /dev/stdout.
    """
    try:
        found = os.stat(path)
    except OSError:  # nothing is there, or whoever writes says what is wrong
        return
    expect_regular(found, str(path))


def create_bytes(path: Path, data: bytes, *, mode: int = 0o644) -> None:
    """Write a new file inside a folder that nobody looks into before it is whole.

    Durable when this returns, but for the folder's own listing: `sync_folder` that once all its files are there.

    Raises:
        FileTrouble: It could not be written, or there is such a file.

    """
    with file_trouble("write", path):
        _create(path, data, mode, None)


def place_bytes(path: Path, data: bytes, *, mode: int = 0o644) -> None:
    """Write a new file in a folder that others look into: whole or not at all, and never over one that is there.

    Raises:
        FileTrouble: It could not be written, or there is such a file; what stands there is as it was.

    """
    beside = partial_of(path)
    with file_trouble("write", path):
        with suppress(FileNotFoundError):
            os.unlink(beside)
        try:
            _create(beside, data, mode, None)
            try:
                os.link(beside, path)  # which a rename does not do: refuse when there is such a file
            except OSError as error:
                if error.errno not in _NO_LINKS or path.exists():
                    raise
                os.rename(beside, path)
        finally:
            with suppress(FileNotFoundError):
                os.unlink(beside)
        sync_folder(path.parent)


def _create(path: Path, data: bytes, mode: int, like: os.stat_result | None) -> None:
    """Write and sync a new file; closed to others until its mode is set, which is before its first byte."""
    handle = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600)
    try:
        if like is not None:
            with suppress(PermissionError):  # an ordinary user cannot give files away, and need not
                os.fchown(handle, like.st_uid, like.st_gid)
            mode = stat.S_IMODE(like.st_mode)
        os.fchmod(handle, mode)
        rest = memoryview(data)
        while rest:
            rest = rest[os.write(handle, rest) :]
        os.fsync(handle)
    finally:
        os.close(handle)


def sync_folder(folder: Path) -> None:
    """Make renames inside `folder` durable."""
    handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def private_folder(path: Path) -> Path:
    """Make sure that `path` is a folder of ours that nobody else may list (mode 0700), and return it.

    A group that may pass through it (0710) to what it may read there keeps that.

    Raises:
        FileTrouble: It cannot be made.
        ConfigurationError: It is somebody else's.

    """
    with file_trouble("create the folder", path):
        try:
            found = os.stat(path)
        except FileNotFoundError:
            make_private(path)
            found = os.stat(path)
        if not stat.S_ISDIR(found.st_mode):
            raise NotADirectoryError(errno.ENOTDIR, os.strerror(errno.ENOTDIR))
        mode = stat.S_IMODE(found.st_mode)
        if found.st_uid == os.geteuid() and mode & 0o067:
            os.chmod(path, 0o700)
    return path


def make_private(path: Path) -> None:
    """Make a folder with mode 0700, and those above it that are missing; OSError when that cannot be.

    Where the library makes those above, it gives them what the umask leaves, which may be all rights to everybody.
    """
    missing = [path]
    while not missing[-1].parent.exists():
        missing.append(missing[-1].parent)
    for each in reversed(missing):
        each.mkdir(mode=0o700, exist_ok=True)


def point_link(link: Path, target: str) -> None:
    """Make the symbolic link `link` point at `target`, in one step for whoever looks."""
    beside = partial_of(link)
    with file_trouble("switch", link):
        with suppress(FileNotFoundError):
            os.unlink(beside)
        os.symlink(target, beside)
        try:
            os.replace(beside, link)
        except OSError:
            with suppress(OSError):
                os.unlink(beside)
            raise
        sync_folder(link.parent)


def link_target(link: Path) -> str | None:
    """Return what the symbolic link points at, None when there is no such link."""
    try:
        return os.readlink(link)
    except OSError:
        return None


def read_bytes(path: Path | str, *, limit: int = 16_777_216) -> bytes:
    """Read a whole file of at most `limit` bytes; FileTrouble when it is missing, unreadable, no file, or larger."""
    with file_trouble("read", path):
        handle, _ = open_file(path)
        try:
            return read_whole(handle, str(path), limit)
        finally:
            os.close(handle)


def read_whole(handle: int, path: str, limit: int) -> bytes:
    """Read an open file of at most `limit` bytes; FileTrouble when it is larger."""
    data = os.read(handle, min(limit + 1, _PIECE))
    while len(data) <= limit and (piece := os.read(handle, min(limit + 1 - len(data), _MOST_PIECE))):
        data += piece
    if len(data) > limit:
        raise FileTooLarge(f"{path} is larger than {limit} bytes", where=path, advice="check the path")
    return data


def open_file(path: Path | str) -> tuple[int, os.stat_result]:
    """Open a file to read; what is none must not be waited for, as a named pipe in its place would be.

    Returns its descriptor, and what is known of it.
    """
    try:
        handle = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)
    except ValueError as error:  # a path with a zero byte
        raise OSError(errno.EINVAL, "it is no path") from error
    try:
        return handle, expect_file(handle, str(path))
    except BaseException:
        os.close(handle)
        raise


def expect_file(handle: int, path: str) -> os.stat_result:
    """Return what is known of an open file; FileTrouble when it is a folder, a pipe, a device."""
    found = os.fstat(handle)
    expect_regular(found, path)
    return found


def expect_regular(found: os.stat_result, path: str) -> None:
    """Refuse what is known to be a folder, a pipe, a device; FileTrouble for one."""
    if not stat.S_ISREG(found.st_mode):
        kind = "a folder" if stat.S_ISDIR(found.st_mode) else "no file"
        raise FileTrouble(f"{path} is {kind}", where=path, advice="name the file itself")


def read_secret(path: Path, *, group: int | None = None) -> bytes:
    """Read a file that holds a secret; refuse one that others than its owner, and a `group` (its number), may read.

    Raises:
        ConfigurationError: The file is missing, unreadable, or its mode lets others in.

    """
    expect_ours(path, "the secret")
    try:
        handle, found = open_file(path)
        try:
            data = read_whole(handle, str(path), 1_048_576)
        finally:
            os.close(handle)
    except (OSError, FileTrouble) as error:
        said = (error.strerror or str(error)) if isinstance(error, OSError) else error.what
        raise ConfigurationError(
            f"cannot read the secret in {path}",
            where=str(path),
            said=said,
            advice="check the path and that this user may read it",
        ) from error
    mode = stat.S_IMODE(found.st_mode)
    if mode & (0o037 if group is not None and found.st_gid == group else 0o077):
        raise ConfigurationError(
            f"{path} holds a secret and its mode is {mode:04o}",
            where=str(path),
            advice=f"chmod 600 {path}; if others may have read it, replace the secret too",
        )
    return data


def read_secret_line(file: str) -> str:
    """Read a secret of one line, as headers and mail servers take it; white space around it does not belong to it.

    Raises:
        ConfigurationError: As `read_secret`; it holds more than a line, or a character that is no printable ASCII.

    """
    secret = read_secret(Path(file)).decode("ascii", "replace").strip()
    if not secret or not secret.isprintable() or not secret.isascii():  # libraries would show it in their errors
        raise ConfigurationError("the file must hold one line of printable ASCII: the secret", where=file,
                                 advice="write it again, without quotation marks or a second line")  # fmt: skip
    return secret


def remove_tree(folder: Path) -> None:
    """Remove a folder of our own with all it holds; nothing happens when it is not there."""
    if folder.is_dir() and not folder.is_symlink():
        with file_trouble("remove", folder):
            shutil.rmtree(folder)


@contextmanager
def held(lock: Path, what: str, *, patience: float = 0.0) -> Iterator[None]:
    """Hold the lock file `lock` for the time of the block; the kernel lets go of it when the process dies.

    Args:
        lock: The lock file; it is made when it is missing, and stays.
        what: What the holder is at work on, for the message.
        patience: Seconds to wait for another holder, a thread of this process included.

    Raises:
        Busy: Another run went on holding it.

    """
    private_folder(lock.parent)
    with file_trouble("open", lock):
        handle = os.open(lock, os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
    try:
        deadline = time.monotonic() + time_left(patience)
        while not _locked(handle):
            if time.monotonic() >= deadline:
                holder = os.pread(handle, _HOLDER, 0).decode("ascii", "replace").strip() or "unknown"
                raise Busy(
                    f"another run is at work on {what}",
                    where=str(lock),
                    said=f"held by process {holder}",
                    advice="wait for it to end, then run the same command again",
                )
            time.sleep(0.02)
        with suppress(OSError):  # on a full disk the lock is held all the same, by nobody that is named
            os.pwrite(handle, f"{os.getpid()}\n".ljust(_HOLDER).encode(), 0)  # over the one before, whole
        yield
    finally:
        let_go(handle)


def let_go(handle: int) -> None:
    """Give a lock of the kernel back, and close its file.

    To close it is not enough: a program that another thread starts in this moment shares the open file until it runs,
    and would keep the lock for as long.
    """
    try:
        fcntl.flock(handle, fcntl.LOCK_UN)
    finally:
        os.close(handle)


def _locked(handle: int) -> bool:
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    return True
