"""A TCP proxy that can be told to delay what passes, to hold it back, or to cut it: a network having trouble."""

import socket
import threading
import time
from contextlib import suppress
from types import TracebackType
from typing import Self

_CHUNK = 65_536


class TcpProxy:
    """Listens on a loopback port, and passes on what comes to another port there."""

    def __init__(self, port: int, target: int) -> None:
        self.delay = 0.0
        """Seconds that each piece is held back."""
        self.holds = threading.Event()
        """While it is set, nothing passes either way, and nobody is told: as when packets are dropped."""
        self.refuses = False
        """Whether new connections are closed at once."""
        self._target = target
        self._listener = socket.create_server(("127.0.0.1", port))
        self._open: list[socket.socket] = []
        self._lock = threading.Lock()
        self._thread = threading.Thread(target=self._accept, daemon=True)

    def __enter__(self) -> Self:
        self._thread.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._listener.close()
        self.cut()

    def cut(self) -> None:
        """Close all connections that are open."""
        with self._lock:
            gone, self._open = self._open, []
        for each in gone:
            _close(each)

    def _accept(self) -> None:
        while True:
            try:
                near, _ = self._listener.accept()
            except OSError:
                return
            if self.refuses:
                near.close()
                continue
            try:
                far = socket.create_connection(("127.0.0.1", self._target), timeout=10)
            except OSError:
                near.close()
                continue
            far.settimeout(None)
            with self._lock:
                self._open += [near, far]
            for source, sink in ((near, far), (far, near)):
                threading.Thread(target=self._pass_on, args=(source, sink), daemon=True).start()

    def _pass_on(self, source: socket.socket, sink: socket.socket) -> None:
        with suppress(OSError):
            while piece := source.recv(_CHUNK):
                time.sleep(self.delay)
                while self.holds.is_set():
                    time.sleep(0.02)
                sink.sendall(piece)
        _close(source)
        _close(sink)


def _close(connection: socket.socket) -> None:
    """Close a connection, and wake the thread that reads from it."""
    with suppress(OSError):
        connection.shutdown(socket.SHUT_RDWR)
    connection.close()
