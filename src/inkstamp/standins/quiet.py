"""The HTTP server that all stand-ins use: threads that end with the program, and no talk on the terminal."""

import threading
from http.server import ThreadingHTTPServer
from types import TracebackType
from typing import Self


class QuietServer(ThreadingHTTPServer):
    """Serves each connection in a thread of its own."""

    daemon_threads = True
    allow_reuse_address = True

    def handle_error(self, request: object, client_address: object) -> None:
        """Say nothing: a client that hangs up or distrusts us is no trouble of ours."""


class StandIn:
    """Something that answers on a port for the time of a `with` block."""

    _server: QuietServer

    def __enter__(self) -> Self:
        threading.Thread(target=self._server.serve_forever, kwargs={"poll_interval": 0.05}, daemon=True).start()
        return self

    def __exit__(
        self, _kind: type[BaseException] | None, _error: BaseException | None, _trace: TracebackType | None
    ) -> None:
        self._server.shutdown()
        self._server.server_close()
