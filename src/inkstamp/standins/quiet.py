"""The HTTP server that all stand-ins use: threads that end with the program, and no talk on the terminal."""

import threading
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from types import TracebackType
from typing import Any, Self


class QuietServer(ThreadingHTTPServer):
    """Serves each connection in a thread of its own."""

    daemon_threads = True
    allow_reuse_address = True

    def handle_error(self, request: object, client_address: object) -> None:
        """Say nothing: a client that hangs up or distrusts us is no trouble of ours."""


class QuietHandler(BaseHTTPRequestHandler):
    """One connection, of which nothing is logged."""

    def log_message(self, format: str, *args: Any) -> None:  # noqa: A002  the base class names it so
        """Keep the demo's terminal clean."""

    def send(self, status: int, body: bytes, kind: str) -> None:
        """Answer with a body of that content type."""
        self.send_response(status)
        self.send_header("Content-Type", kind)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)


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
