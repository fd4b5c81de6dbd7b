"""Child processes that no signal can orphan."""

import signal
import subprocess
import threading
from types import FrameType, TracebackType
from typing import Any

_PATIENCE = 5.0
"""Seconds that a child has to end by itself."""


class Children:
    """Starts processes and ends them all when its block ends, by SIGTERM and Ctrl-C too.

    A signal raises KeyboardInterrupt in the block, but never between the start of a child and the moment it is
    known here: a child that is lost would go on writing into a folder that is being removed.
    """

    def __init__(self) -> None:
        self._all: list[subprocess.Popen[Any]] = []
        self._starting = False
        self._asked_to_stop = False
        self._before: dict[int, Any] = {}

    def __enter__(self) -> "Children":
        if threading.current_thread() is threading.main_thread():
            for number in (signal.SIGTERM, signal.SIGINT):
                self._before[number] = signal.signal(number, self._on_signal)
        return self

    def __exit__(
        self, _kind: type[BaseException] | None, _error: BaseException | None, _trace: TracebackType | None
    ) -> None:
        self.stop()
        for number, handler in self._before.items():
            signal.signal(number, handler)

    def _on_signal(self, _number: int, _frame: FrameType | None) -> None:
        if self._asked_to_stop:
            return  # we are about it; a second signal must not break the clearing away
        self._asked_to_stop = True
        if not self._starting:
            raise KeyboardInterrupt

    def start(self, command: list[str], **options: Any) -> subprocess.Popen[Any]:
        """Start a process, without standard input."""
        self._starting = True
        try:
            process = subprocess.Popen(command, stdin=subprocess.DEVNULL, **options)
            self._all.append(process)
        finally:
            self._starting = False
        if self._asked_to_stop:
            raise KeyboardInterrupt
        return process

    def stop(self) -> None:
        """End all that still run, the youngest first."""
        for process in reversed(self._all):
            if process.poll() is None:
                process.terminate()
                try:
                    process.wait(_PATIENCE)
                except subprocess.TimeoutExpired:
                    process.kill()
                    process.wait()
        self._all.clear()
