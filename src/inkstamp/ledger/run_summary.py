"""What the last run of `renew` over all certificates did: a small file in HOME, so that its absence is seen too."""

import fcntl
import os
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path

import msgspec

from inkstamp.decoding import from_json
from inkstamp.errors import FileTrouble
from inkstamp.files import file_trouble, let_go, private_folder, read_bytes, write_bytes
from inkstamp.home import Home
from inkstamp.locks import Lock, Locks, Scope

_PATIENCE = 10.0
_RUNNING = "renewal-running"
_FOREGROUND = "keeps-running"
_MOST_EARLIER = 9
"""Runs that are remembered besides the last one."""


class LastSweep(msgspec.Struct, frozen=True, kw_only=True):
    """One run."""

    at: datetime
    """When it ended; aware, UTC."""
    looked_at: int
    renewed: int
    failed: int
    waiting: int
    held: int
    """Certificates that rested after failures."""
    earlier: "tuple[LastSweep, ...]" = ()
    """The runs before it, the newest first; those have none themselves."""

    @property
    def told(self) -> str:
        """It in a few words."""
        more = [f"{number} {word}" for number, word in ((self.waiting, "waiting"), (self.held, "resting")) if number]
        return ", ".join([f"{self.looked_at} checked, {self.renewed} renewed, {self.failed} failed", *more])


def record_sweep(home: Home, sweep: LastSweep) -> None:
    """Write down what a run did, before what the runs before it did."""
    lock = Lock("last-renewal", "the record of the last renewal", Scope.MACHINE, _PATIENCE)
    with Locks(private_folder(home.folder) / "locks").hold(lock):
        before = last_sweep(home)
        if before is not None:
            earlier = (msgspec.structs.replace(before, earlier=()), *before.earlier)[:_MOST_EARLIER]
            sweep = msgspec.structs.replace(sweep, earlier=earlier)
        write_bytes(home.last_renewal, msgspec.json.encode(sweep), mode=0o600)


def last_sweep(home: Home) -> LastSweep | None:
    """Return what the last run did; None when there was none."""
    try:
        return from_json(read_bytes(home.last_renewal), LastSweep)
    except (FileTrouble, msgspec.DecodeError):
        return None


@contextmanager
def running(home: Home, now: datetime) -> Iterator[datetime | None]:
    """Mark for the time of the block that a run is at work; gives when the run before began, if it did not end.

    It was ended from outside then, as by a time-out of the timer's unit, or went down with the machine. Where another
    run is at work in this moment, nothing is known and marked.
    """
    file = private_folder(home.folder) / "locks" / _RUNNING
    private_folder(file.parent)
    with file_trouble("open", file):
        handle = os.open(file, os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
    try:
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            yield None
            return
        before = _begun(os.pread(handle, 64, 0))
        _mark(handle, now.isoformat(timespec="seconds").encode(), file)
        try:
            yield before
        except Exception:
            _mark(handle, b"", file)  # it failed, which is an end
            raise
        _mark(handle, b"", file)
    finally:
        let_go(handle)


def is_running(home: Home) -> bool:
    """Tell whether a run of renewal is at work with a data directory."""
    try:
        handle = os.open(home.locks / _RUNNING, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC)
    except OSError:  # there was none
        return False
    try:
        fcntl.flock(handle, fcntl.LOCK_SH | fcntl.LOCK_NB)
    except OSError:
        return True
    finally:
        let_go(handle)
    return False


@contextmanager
def in_foreground(home: Home) -> Iterator[None]:
    """Mark for the time of the block that this process runs `renew` again and again."""
    with Locks(private_folder(home.folder) / "locks").hold(
        Lock(_FOREGROUND, "renewals in the foreground", Scope.MACHINE)
    ):
        yield


def foreground(home: Home) -> int | None:
    """Return the process that runs `renew` again and again with a data directory; None where there is none."""
    try:
        handle = os.open(home.locks / _FOREGROUND, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC)
    except OSError:  # there never was one
        return None
    try:
        fcntl.flock(handle, fcntl.LOCK_SH | fcntl.LOCK_NB)
    except OSError:
        said = os.pread(handle, 32, 0).decode("ascii", "replace").strip()
        return int(said) if said.isdecimal() else 0
    finally:
        let_go(handle)
    return None


def cut_off(home: Home) -> datetime | None:
    """Return when a run began that did not end and is not at work any more; None when there is none."""
    file = home.locks / _RUNNING
    try:
        handle = os.open(file, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC)
    except OSError:  # there was none
        return None
    try:
        fcntl.flock(handle, fcntl.LOCK_SH | fcntl.LOCK_NB)
        return _begun(os.pread(handle, 64, 0))
    except OSError:  # one is at work
        return None
    finally:
        let_go(handle)


def _mark(handle: int, data: bytes, file: Path) -> None:
    with file_trouble("write", file):
        os.ftruncate(handle, 0)
        os.pwrite(handle, data, 0)


def _begun(data: bytes) -> datetime | None:
    try:
        found = datetime.fromisoformat(data.decode("ascii"))
    except ValueError:
        return None
    return found.astimezone(UTC) if found.tzinfo is not None else None
