"""Connections to strangers: every byte counted, every wait under the deadline of the scope that it is made in.

What is given to the HTTP and mail libraries are sockets of the standard library that ask `inkstamp.deadline`
before each read how long it may take, and count what arrives. Whatever the rhythm in which a server sends a header, a
chunk's size or a trailer, all of it together ends, in time and in memory. Protocols and TLS stay the libraries'.
"""

import math
import socket
import ssl
import threading
import zlib
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from contextvars import ContextVar
from http.client import HTTPConnection, HTTPResponse, IncompleteRead
from pathlib import Path
from typing import Any

from inkstamp.deadline import time_left, wait_limit, within
from inkstamp.errors import ConfigurationError

_PACKED = {"gzip", "x-gzip", "deflate"}
_OVERHEAD = 262_144
"""Bytes that may come beside a body: status, headers, sizes of chunks, trailers."""


class _Budget:
    """How many bytes may still arrive in a scope."""

    __slots__ = ("left",)

    def __init__(self, left: int) -> None:
        self.left = left

    def take(self, count: int) -> None:
        self.left -= count
        if self.left < 0:
            raise OSError("the answer has no end")


_budget: ContextVar[_Budget | None] = ContextVar("inkstamp_byte_budget", default=None)


@contextmanager
def at_most(count: int) -> Iterator[None]:
    """Bound what arrives in the block to `count` bytes and some headers; beyond that, reading fails with OSError."""
    token = _budget.set(_Budget(count + _OVERHEAD))
    try:
        yield
    finally:
        _budget.reset(token)


def _counted(number: int) -> None:
    budget = _budget.get()
    if budget is not None:
        budget.take(number)


@contextmanager
def _timed(stream: socket.socket) -> Iterator[None]:
    """Let one wait take what its own limit and the scope leave; the socket's own limit stays what it was."""
    own = stream.gettimeout()
    limit = math.inf if own == 0 else wait_limit(math.inf if own is None else own)
    if limit == math.inf:  # it does not block, or nothing bounds it
        yield
        return
    stream.settimeout(limit)
    try:
        yield
    finally:
        with suppress(OSError):  # closed meanwhile
            stream.settimeout(own)


class BoundedSocket(socket.socket):
    """A socket whose waits end with the scope."""

    def recv_into(self, *arguments: Any, **options: Any) -> int:
        with _timed(self):
            count = super().recv_into(*arguments, **options)
        _counted(count)
        return count

    def recv(self, *arguments: Any, **options: Any) -> bytes:
        with _timed(self):
            data = super().recv(*arguments, **options)
        _counted(len(data))
        return data

    def send(self, *arguments: Any, **options: Any) -> int:
        with _timed(self):
            return super().send(*arguments, **options)

    def sendall(self, *arguments: Any, **options: Any) -> None:
        with _timed(self):
            super().sendall(*arguments, **options)


class BoundedTlsSocket(BoundedSocket, ssl.SSLSocket):
    """The same over TLS."""

    def do_handshake(self, block: bool = False) -> None:
        with _timed(self):
            super().do_handshake(block)


def bounded(context: ssl.SSLContext) -> ssl.SSLContext:
    """Have a TLS context make sockets whose waits end with the scope; returns it."""
    context.sslsocket_class = BoundedTlsSocket
    return context


def client_context(roots: Path | None, whose: str, key: str = "trust") -> ssl.SSLContext:
    """Make a TLS context that verifies the other side, by the roots in a file or by the system's.

    Args:
        roots: The file; None for the system's.
        whose: Whose certificate is verified, as in “the CA's API”.
        key: The configuration's, that names the file.

    Raises:
        ConfigurationError: The file cannot be read or holds none.

    """
    try:
        return bounded(ssl.create_default_context(cafile=str(roots) if roots else None))
    except OSError as error:  # ssl.SSLError is one
        raise ConfigurationError(
            f"cannot load the roots in {roots}" if roots else "cannot load the roots of this machine",
            where=str(roots or ""), said=str(error),
            advice=f"`{key}` must name a PEM file with the root of the certificate of {whose}",
        ) from error  # fmt: skip


def _places(host: str, port: int) -> list[tuple[int, Any]]:
    """Return family and address of each place that a host has: an address has itself, else the system is asked.

    The system's resolver knows no time-out, so it is asked in a thread of its own.
    """
    with suppress(OSError, ValueError):  # the usual case, without the system's resolver
        socket.inet_pton(socket.AF_INET, host)
        if 0 < port < 65_536:
            return [(socket.AF_INET, (host, port))]
    with suppress(OSError, UnicodeError):
        numeric = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM, flags=socket.AI_NUMERICHOST)
        return [(each[0], each[4]) for each in numeric]
    found: list[tuple[int, Any]] = []
    trouble: list[OSError] = []

    def ask() -> None:
        try:
            found.extend((each[0], each[4]) for each in socket.getaddrinfo(host, port, type=socket.SOCK_STREAM))
        except OSError as error:
            trouble.append(error)
        except UnicodeError as error:  # a label that is empty or too long
            trouble.append(socket.gaierror(socket.EAI_NONAME, str(error)))

    thread = threading.Thread(target=ask, daemon=True)
    thread.start()
    left = time_left()
    thread.join(None if left == math.inf else left)
    if trouble:
        raise trouble[0]
    if thread.is_alive():
        raise TimeoutError(f"DNS did not answer in time for {host}")
    return found


def connect(host: str, port: int, seconds: float | None) -> BoundedSocket:
    """Open a connection to a host or an address, trying all of its addresses within `seconds` altogether.

    Raises:
        OSError: None can be reached; TimeoutError where time was what was lacking.

    """
    last: OSError | None = None
    with within(math.inf if seconds is None else seconds):
        for family, place in _places(host, port):
            stream = BoundedSocket(family, socket.SOCK_STREAM)
            try:
                limit = wait_limit()
                stream.settimeout(None if limit == math.inf else limit)
                stream.connect(place)
                stream.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            except OSError as error:
                stream.close()
                last = error
            except BaseException:
                stream.close()
                raise
            else:
                stream.settimeout(seconds)
                return stream
    raise last or OSError(f"{host} has no address")


# HTTP


class Http(HTTPConnection):
    """A connection to an HTTP server, of the standard library; `connect` raises OSError."""

    def __init__(self, host: str, port: int, seconds: float) -> None:
        """Prepare it; `seconds` is for connecting and for each read, beside the scope's end."""
        super().__init__(host, port)
        self._seconds = seconds

    def open(self) -> socket.socket:
        """Return a new connection to the server; OSError."""
        return connect(self.host, self.port, self._seconds)

    def connect(self) -> None:
        """Open it."""
        self.sock = self.open()


class Https(Http):
    """The same over TLS, where another name than the host's may be asked for (SNI, RFC 6066 section 3)."""

    default_port = 443

    def __init__(self, host: str, port: int, seconds: float, context: ssl.SSLContext, name: str) -> None:
        """Prepare it; the context must be one that is `bounded`."""
        super().__init__(host, port, seconds)
        self._context, self._name = context, name

    def connect(self) -> None:
        """Open it and shake hands; ssl.SSLError is an OSError."""
        super().connect()
        self.sock = self._context.wrap_socket(self.sock, server_hostname=self._name)


def read_body(reply: HTTPResponse, limit: int) -> bytes:
    """Read an answer's body, `limit` bytes at most, and unpack what comes packed although that was not asked for.

    Some servers are set up to send nothing else (RFC 9110 section 8.4.1).

    Raises:
        OSError, http.client.HTTPException: It ends before it should, or cannot be unpacked.

    """
    body = b""
    while len(body) < limit and (piece := reply.read1(limit - len(body))):
        body += piece
    if len(body) < limit and reply.length:
        raise IncompleteRead(body, reply.length)
    if reply.headers.get("Content-Encoding", "").strip().lower() not in _PACKED:
        return body
    try:
        return zlib.decompressobj(zlib.MAX_WBITS | 32).decompress(body, limit)  # either form, told by its header
    except zlib.error as error:
        raise OSError(f"the body cannot be unpacked: {error}") from error
