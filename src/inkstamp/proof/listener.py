"""Answer on the port itself, for as long as a CA looks: where no web server runs.

Whoever comes meanwhile is a stranger: every connection is bounded in time and size, and sees the proofs or nothing.
"""

import contextlib
import errno
import socket
import socketserver
import threading
import time
from collections.abc import Iterable, Mapping, Sequence
from http.server import BaseHTTPRequestHandler
from typing import Any

from inkstamp.deadline import within
from inkstamp.errors import ServerTrouble
from inkstamp.proof.tls_alpn import ALPN, TlsProof
from inkstamp.proof.web_file import FileProof
from inkstamp.reach.ports import local_listeners, who_is_in_the_way
from inkstamp.transport import BoundedSocket, at_most
from inkstamp.view.point import is_own_address

_PATIENCE = 5.0
"""Seconds for one connection to say something."""
_WHOLE = 10.0
"""Seconds for one connection altogether."""
_MOST_SAID = 65_536
_MOST_AT_ONCE, _MOST_OF_ONE = 256, 32
"""Connections at the same time, and of one address among them; the oldest makes room for a new one."""


class Listener:
    """Listens on some addresses until it is closed; what it answers may change meanwhile."""

    def __init__(self, addresses: Iterable[str], port: int, handler: type[socketserver.BaseRequestHandler]) -> None:
        self._servers: list[_Server] = []
        try:
            for address in addresses:
                self._servers.append(_open(address, port, handler))
        except ServerTrouble:
            self.close()
            raise
        for server in self._servers:
            threading.Thread(target=server.serve_forever, args=(0.05,), daemon=True).start()
            server.serving = True

    def close(self) -> None:
        """Give the port back."""
        for server in self._servers:
            if server.serving:
                server.shutdown()
            server.server_close()
        self._servers = []


def answer_files(addresses: Iterable[str], port: int, proofs: Sequence[FileProof]) -> Listener:
    """Answer plain HTTP with these files.

    Raises:
        ServerTrouble: The port cannot be had; says which program has it.

    """
    contents = {(proof.name, "/" + "/".join(proof.parts)): proof.content for proof in proofs}
    return Listener(addresses, port, _web_handler(contents))


def answer_handshakes(addresses: Iterable[str], port: int, proofs: Sequence[TlsProof]) -> Listener:
    """Answer TLS handshakes that ask for `acme-tls/1` (RFC 8737 section 3) with these certificates; raises alike."""
    return Listener(addresses, port, _tls_handler({proof.server_name: proof for proof in proofs}))


def where_to_listen(addresses: Iterable[str]) -> tuple[str, ...]:
    """Return what to bind to so that the names' `addresses` are answered.

    Addresses of this machine are bound one by one, which leaves the others to whoever has them. One that is not this
    machine's (a translated one, a balancer's) may lead to any: then all of its family are bound.
    """
    found: list[str] = []
    for address in addresses:
        anywhere = "::" if ":" in address else "0.0.0.0"  # noqa: S104  the way in is not known
        found.append(address if is_own_address(address) else anywhere)
    wild = {each for each in found if each in {"::", "0.0.0.0"}}  # noqa: S104
    kept = [each for each in found if each in wild or not ({"::"} if ":" in each else {"0.0.0.0"}) & wild]  # noqa: S104
    return tuple(dict.fromkeys(kept))


class _Server(socketserver.ThreadingTCPServer):
    daemon_threads = True
    block_on_close = False
    allow_reuse_address = True
    request_queue_size = 64
    serving = False

    def __init__(self, address: str, port: int, handler: type[socketserver.BaseRequestHandler]) -> None:
        self.address_family = socket.AF_INET6 if ":" in address else socket.AF_INET
        self._open: dict[socket.socket, tuple[str, float]] = {}
        self._counting = threading.Lock()
        super().__init__((address, port), handler)

    def server_bind(self) -> None:
        if self.address_family == socket.AF_INET6:
            self.socket.setsockopt(socket.IPPROTO_IPV6, socket.IPV6_V6ONLY, 1)
        super().server_bind()

    def get_request(self) -> tuple[socket.socket, Any]:
        stream, client = super().get_request()
        return BoundedSocket(stream.family, stream.type, fileno=stream.detach()), client

    def process_request(self, request: Any, client_address: Any) -> None:
        self._make_room(str(client_address[0]))
        request.settimeout(_PATIENCE)
        with self._counting:
            self._open[request] = str(client_address[0]), time.monotonic()
        super().process_request(request, client_address)

    def _make_room(self, client: str) -> None:
        """Drop the oldest connection where there are too many, or too many of one address; whoever waits is let in."""
        with self._counting:
            own = [stream for stream, (address, _) in self._open.items() if address == client]
            oldest = own if len(own) >= _MOST_OF_ONE else list(self._open) if len(self._open) >= _MOST_AT_ONCE else []
            dropped = oldest[0] if oldest else None
            self._open.pop(dropped, None) if dropped is not None else None
        if dropped is not None:
            with contextlib.suppress(OSError):
                dropped.shutdown(socket.SHUT_RDWR)  # its thread meets that, and closes it

    def process_request_thread(self, request: Any, client_address: Any) -> None:
        try:
            with within(_WHOLE), at_most(_MOST_SAID):
                super().process_request_thread(request, client_address)
        finally:
            with self._counting:
                self._open.pop(request, None)

    def handle_error(self, request: Any, client_address: Any) -> None:
        """Say nothing: a stranger who breaks off is no news."""


def _open(address: str, port: int, handler: type[socketserver.BaseRequestHandler]) -> _Server:
    try:
        return _Server(address, port, handler)
    except OSError as error:
        where = f"[{address}]:{port}" if ":" in address else f"{address}:{port}"
        if error.errno == errno.EADDRINUSE:
            holder = who_is_in_the_way(local_listeners(port), [address])
            raise ServerTrouble(
                f"port {port} is taken{f' by {holder}' if holder is not None else ''}",
                where=where,
                said=error.strerror or "",
                advice="name that server in `via`, stop it meanwhile, or use dns-01",
            ) from error
        advice = "run the command as root: ports below 1024 are root's" if error.errno == errno.EACCES else ""
        raise ServerTrouble(
            f"cannot listen on port {port}", where=where, said=error.strerror or str(error), advice=advice
        ) from error


def _web_handler(contents: Mapping[tuple[str, str], bytes]) -> type[BaseHTTPRequestHandler]:
    class Handler(BaseHTTPRequestHandler):
        timeout = _PATIENCE
        server_version, sys_version = "inkstamp", ""

        def do_GET(self) -> None:
            host = (self.headers.get("Host") or "").lower()
            bare = host[1:].partition("]")[0] if host.startswith("[") else host.partition(":")[0]
            found = contents.get((bare.rstrip("."), self.path))
            body = found if found is not None else b"no such proof\n"
            self.send_response(200 if found is not None else 404)
            self.send_header("Content-Type", "application/octet-stream")
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, format: str, *args: object) -> None:  # noqa: A002  the library's name
            """Say nothing: strangers' requests are no news."""

    return Handler


def _tls_handler(proofs: Mapping[str, TlsProof]) -> type[socketserver.BaseRequestHandler]:
    from OpenSSL import SSL  # noqa: PLC0415  files are answered without it

    from inkstamp.view.handshake import finish  # noqa: PLC0415

    def choose_protocol(_connection: SSL.Connection, offered: list[bytes]) -> Any:
        return ALPN if ALPN in offered else SSL.NO_OVERLAPPING_PROTOCOLS

    def context_of(proof: TlsProof) -> SSL.Context:
        context = SSL.Context(SSL.TLS_SERVER_METHOD)
        context.use_certificate(proof.certificate)
        context.use_privatekey(proof.key)
        context.set_alpn_select_callback(choose_protocol)
        return context

    contexts = {name: context_of(proof) for name, proof in proofs.items()}

    def choose_certificate(connection: SSL.Connection) -> None:
        asked = (connection.get_servername() or b"").decode("ascii", "replace").lower().rstrip(".")
        if asked in contexts:
            connection.set_context(contexts[asked])

    class Handler(socketserver.BaseRequestHandler):
        def handle(self) -> None:
            first = context_of(next(iter(proofs.values())))
            first.set_tlsext_servername_callback(choose_certificate)
            connection = SSL.Connection(first, self.request)
            connection.set_accept_state()
            finish(connection, self.request)

    return Handler
