"""Run a program so that it ends: bounded in time, in what it may say, and with all that it started.

The program itself is waited for, and not the end of what it writes to: a daemon that it leaves behind may keep that
open for years. What takes too long is ended with its whole process group.
"""

import os
import selectors
import signal
import subprocess
import time
from collections.abc import Sequence
from contextlib import suppress

from msgspec import Struct

from inkstamp.deadline import time_left

MOST_OUTPUT = 67_108_864
"""Bytes of each stream that are kept, unless less is asked for; what comes after that is read and thrown away."""
_AFTER = 0.1
"""Seconds in which what a program wrote last is still read after it has ended."""
_CLOSING = 1.0
"""Seconds in which a program that said its last word ends by itself."""
_PIECE = 65_536
_LOOKS = 0.02
"""Seconds between two looks whether it has ended, where the kernel cannot tell at once (pidfd_open(2))."""
_GRACE = 2.0
"""Seconds between being asked to end and being ended."""


class Ended(Struct, frozen=True):
    """What a program came to."""

    status: int
    """Exit status; negative for a signal."""
    output: bytes
    complaint: bytes
    """What it wrote to standard error."""
    cut: bool
    """Whether it wrote more than is kept."""


def run(
    command: Sequence[str], *, data: bytes = b"", seconds: float, most: int = MOST_OUTPUT, until: bytes = b""
) -> Ended:
    """Run a program, without a shell, with `data` on its standard input.

    Args:
        command: The program and its arguments.
        data: What it is told.
        seconds: For all of it; the scope's deadline holds as well.
        most: Bytes that are kept of what it writes, of each stream.
        until: When its output holds this, or is more than is kept, it counts as ended: what answers over a connection
            may keep that open.

    Raises:
        OSError: It cannot be started.
        TimeoutError: It did not end in time, and was ended with all that it had started.

    """
    try:
        child = subprocess.Popen(
            list(command),
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            start_new_session=True,
        )
    except ValueError as error:  # a zero byte in an argument
        raise OSError(str(error)) from error
    try:
        return _Talk(child, data, most, until).to_its_end(time.monotonic() + time_left(seconds))
    except BaseException:
        end_group(child)
        raise
    finally:
        for stream in (child.stdin, child.stdout, child.stderr):
            if stream is not None:
                with suppress(OSError):
                    stream.close()


def end_group(child: "subprocess.Popen[bytes]") -> None:
    """End a program and all that it started, by asking, and where that does not help, at once."""
    for number, patience in ((signal.SIGTERM, _GRACE), (signal.SIGKILL, _GRACE)):
        with suppress(ProcessLookupError, PermissionError):
            os.killpg(child.pid, number)
        with suppress(subprocess.TimeoutExpired):
            child.wait(patience)
            if number == signal.SIGKILL or not _is_there(child.pid):
                return


def _is_there(group: int) -> bool:
    try:
        os.killpg(group, 0)
    except (ProcessLookupError, PermissionError):
        return False
    return True


def _descriptor_of(process: int) -> int | None:
    """Return a descriptor that can be read from when a process has ended; None where the kernel has none."""
    try:
        return os.pidfd_open(process)
    except (AttributeError, OSError):
        return None


class _Talk:
    """What goes to and comes from a program; descriptors of any number are watched."""

    def __init__(self, child: "subprocess.Popen[bytes]", data: bytes, most: int, until: bytes) -> None:
        assert child.stdin is not None  # noqa: S101  as it was started
        assert child.stdout is not None  # noqa: S101
        assert child.stderr is not None  # noqa: S101
        self._child, self._most, self._until = child, most, until
        self._waiting = memoryview(data)
        self._stdin = child.stdin
        self._read = {child.stdout.fileno(): bytearray(), child.stderr.fileno(): bytearray()}
        self._cut = False
        self._ended = False
        self._selector = selectors.DefaultSelector()
        for handle in self._read:
            os.set_blocking(handle, False)
            self._selector.register(handle, selectors.EVENT_READ)
        self._pidfd = _descriptor_of(child.pid)
        if self._pidfd is not None:
            self._selector.register(self._pidfd, selectors.EVENT_READ)
        if data:
            os.set_blocking(self._stdin.fileno(), False)
            self._selector.register(self._stdin.fileno(), selectors.EVENT_WRITE)
        else:
            self._stdin.close()

    def to_its_end(self, deadline: float) -> Ended:
        try:
            while self._child.poll() is None and not self._ended:
                left = deadline - time.monotonic()
                if left <= 0:
                    raise TimeoutError
                self._turn(left if self._pidfd is not None else min(left, _LOOKS))
            self._hear_the_rest()
        finally:
            self._selector.close()
            if self._pidfd is not None:
                os.close(self._pidfd)
        if self._child.poll() is None:
            end_group(self._child)
        output, complaint = (bytes(each) for each in self._read.values())
        return Ended(self._child.poll() or 0, output, complaint, self._cut)

    def _hear_the_rest(self) -> None:
        """Read what is on its way yet; who said all that was waited for has a moment to end by itself."""
        last = time.monotonic() + (_CLOSING if self._ended else _AFTER)
        while self._ended and self._child.poll() is None and (left := last - time.monotonic()) > 0:
            self._turn(min(left, _LOOKS) if self._pidfd is None else left)
        while self._turn(0.0) and time.monotonic() < last:
            pass

    def _turn(self, seconds: float) -> bool:
        """Read and write what can be; returns whether anything was read."""
        if not self._selector.get_map():
            time.sleep(seconds)
            return False
        came = False
        for key, event in self._selector.select(seconds):
            if key.fd == self._pidfd:
                continue
            if event & selectors.EVENT_WRITE:
                self._say()
            else:
                came = self._hear(key.fd) or came
        return came

    def _say(self) -> None:
        try:
            self._waiting = self._waiting[os.write(self._stdin.fileno(), self._waiting[:_PIECE]) :]
        except BlockingIOError:
            return
        except OSError:  # it does not want to hear more
            self._waiting = memoryview(b"")
        if not self._waiting:
            self._selector.unregister(self._stdin.fileno())
            with suppress(OSError):
                self._stdin.close()

    def _hear(self, handle: int) -> bool:
        try:
            piece = os.read(handle, _PIECE)
        except BlockingIOError:
            return False
        if not piece:
            self._selector.unregister(handle)
            return False
        kept = self._read[handle]
        room = self._most - len(kept)
        self._cut = self._cut or len(piece) > room
        kept += piece[: max(room, 0)]
        if self._until and (self._cut or self._until in kept[-len(self._until) - _PIECE :]):
            self._ended = True
        return True
