"""The HTTP server that all stand-ins use: threads that end with the program, and no talk on the terminal."""

from http.server import ThreadingHTTPServer


class QuietServer(ThreadingHTTPServer):
    """Serves each connection in a thread of its own."""

    daemon_threads = True
    allow_reuse_address = True

    def handle_error(self, request: object, client_address: object) -> None:
        """Say nothing: a client that hangs up or distrusts us is no trouble of ours."""
