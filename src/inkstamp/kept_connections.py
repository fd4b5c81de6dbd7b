"""HTTP requests on connections that are kept for the next one: `http.client` on bounded sockets, by way of a proxy
where the environment names one (`https_proxy`, `no_proxy`).
"""

import base64
import select
import socket
import ssl
import weakref
from collections import deque
from collections.abc import Mapping
from email.message import Message
from http.client import HTTPException, HTTPResponse
from urllib.parse import unquote, urlsplit
from urllib.request import getproxies, proxy_bypass

from msgspec import Struct

from inkstamp.errors import ConfigurationError, InkStampError
from inkstamp.printable import one_line
from inkstamp.transport import Http, Https, connect, read_body
from inkstamp.urls import WebUrl, is_loopback

_MOST_KEPT, _MOST_HOSTS = 16, 16
_SHOWN = 200


class NotConnected(InkStampError):
    """No connection came about, so that nothing of the request was sent; its cause says why."""


class ProxyTrouble(NotConnected):
    """The proxy that the environment names is unreachable, or makes no tunnel."""


class AnswerTooLong(InkStampError):
    """The body is longer than what was to be read at most."""


class HttpReply(Struct, frozen=True):
    """An answer, whatever its status."""

    status: int
    headers: Message
    """Found in either case; of several of one name `get_all` has each."""
    body: bytes


class Proxy(Struct, frozen=True):
    """A proxy that makes tunnels (CONNECT, RFC 9110 section 9.3.6)."""

    host: str
    port: int
    authorization: str = ""
    """What it is told of who we are (Proxy-Authorization, RFC 7617); empty for nothing."""


def read_proxy(url: str) -> Proxy:
    """Read where a proxy is, as `https_proxy` in the environment says it.

    Raises:
        ConfigurationError: It cannot be read, or is to be spoken to in another protocol than HTTP.

    """
    try:
        parts = urlsplit(url if "//" in url else f"http://{url}")
        host, port = parts.hostname or "", parts.port or 80
    except ValueError:
        parts, host, port = urlsplit(""), "", 0
    shown = url.rpartition("@")[2]
    if parts.scheme != "http" or not host:
        raise ConfigurationError(
            f"the proxy {shown} of the environment cannot be used", where="https_proxy",
            advice="set https_proxy to http://HOST:PORT: requests are encrypted in its tunnel all the same",
        )  # fmt: skip
    who = f"{unquote(parts.username)}:{unquote(parts.password or '')}" if parts.username else ""
    return Proxy(host, port, f"Basic {base64.b64encode(who.encode()).decode()}" if who else "")


def proxy_to(host: str) -> Proxy | None:
    """Return the proxy by which the environment has HTTPS go to a host; None for one that is reached directly.

    This machine itself is, whatever the environment says: its own services are not where a proxy would look for them.

    Raises:
        ConfigurationError: As `read_proxy`.

    """
    named = getproxies().get("https")
    return None if not named or is_loopback(host) or proxy_bypass(host) else read_proxy(named)


class _Tunnelled(Https):
    """HTTPS by way of a proxy."""

    def __init__(self, proxy: Proxy, url: WebUrl, seconds: float, context: ssl.SSLContext) -> None:
        super().__init__(url.host, url.usual_port, seconds, context, url.host)
        self._proxy = proxy
        self._target = f"[{url.host}]:{url.usual_port}" if ":" in url.host else f"{url.host}:{url.usual_port}"

    def open(self) -> socket.socket:
        """Connect to the proxy, and have it make the tunnel; ProxyTrouble where it does not."""
        named = f"the proxy {self._proxy.host}:{self._proxy.port} of the environment"
        lines = [f"CONNECT {self._target} HTTP/1.1", f"Host: {self._target}"]
        if self._proxy.authorization:
            lines.append(f"Proxy-Authorization: {self._proxy.authorization}")
        try:
            stream = connect(self._proxy.host, self._proxy.port, self._seconds)
        except (OSError, ValueError) as error:
            raise ProxyTrouble(f"{named} is unreachable: {one_line(str(error), _SHOWN)}") from error
        try:
            stream.sendall("\r\n".join([*lines, "", ""]).encode("ascii"))
            reply = HTTPResponse(stream, method="CONNECT")
            reply.begin()
            reply.close()
        except BaseException as error:
            stream.close()
            if isinstance(error, OSError | HTTPException):
                raise ProxyTrouble(f"{named} does not answer: {one_line(str(error), _SHOWN)}") from error
            raise
        if not 200 <= reply.status < 300:
            stream.close()
            raise ProxyTrouble(f"{named} answers {reply.status} {one_line(reply.reason, _SHOWN)}")
        return stream


class KeptConnections:
    """Connections to some servers; safe to share between threads."""

    def __init__(self, context: ssl.SSLContext, *, connect_seconds: float, read_seconds: float) -> None:
        """Begin; nothing is opened yet.

        Args:
            context: For TLS; one that is `bounded`.
            connect_seconds: For a connection with its handshake.
            read_seconds: For each read and write.

        """
        self._context = context
        self._connect_seconds, self._read_seconds = connect_seconds, read_seconds
        self._kept: dict[tuple[str, str, int], deque[Http]] = {}
        weakref.finalize(self, _close_all, self._kept)

    def request(
        self, method: str, url: WebUrl, body: bytes | None, headers: dict[str, str], most: int | None
    ) -> HttpReply:
        """Send a request and return its answer; redirects are answers.

        Args:
            method: As HTTP has it.
            url: Where to; user information in it is not used.
            body: What is sent with it.
            headers: Beside Host.
            most: Bytes of the body that are read; None where it is not read at all.

        Raises:
            NotConnected: Nothing was sent.
            ConfigurationError: What the environment names as a proxy is none.
            AnswerTooLong: The body has more than `most` bytes.
            OSError, http.client.HTTPException: The connection broke, or what came is no HTTP.
            ValueError: A header cannot be sent.

        """
        place = (url.scheme, url.host, url.usual_port)
        connection = self._take(place) or self._opened(url)
        try:
            connection.request(method, url.target, body, {"Host": url.authority, **headers})
            reply = connection.getresponse()
            content = read_body(reply, most + 1) if most is not None else b""
            if most is not None and len(content) > most:
                raise AnswerTooLong(f"the answer is longer than {most} bytes")
        except BaseException:
            connection.close()  # what is left unread must not be taken for the next answer
            raise
        ended = most is not None and not reply.will_close and (reply.isclosed() or reply.length == 0)
        reply.close()  # which leaves the connection open
        self._keep(place, connection, ended=ended)
        return HttpReply(reply.status, reply.headers, content)

    def _opened(self, url: WebUrl) -> Http:
        connection: Http
        if url.scheme == "http":
            connection = Http(url.host, url.usual_port, self._connect_seconds)
        elif (proxy := proxy_to(url.host)) is None:
            connection = Https(url.host, url.usual_port, self._connect_seconds, self._context, url.host)
        else:
            connection = _Tunnelled(proxy, url, self._connect_seconds, self._context)
        try:
            connection.connect()
        except BaseException as error:
            connection.close()
            if isinstance(error, OSError | HTTPException | ValueError):  # ValueError: a name that cannot be asked for
                raise NotConnected(str(error)) from error
            raise
        connection.sock.settimeout(self._read_seconds)
        return connection

    def _take(self, place: tuple[str, str, int]) -> Http | None:
        """Return a kept connection that the other side has not closed; None where there is none."""
        kept = self._kept.get(place, deque())
        while True:
            try:
                connection = kept.pop()
            except IndexError:
                return None
            if not _has_more(connection):
                return connection
            connection.close()

    def _keep(self, place: tuple[str, str, int], connection: Http, *, ended: bool) -> None:
        if ended and (place in self._kept or len(self._kept) < _MOST_HOSTS):
            kept = self._kept.setdefault(place, deque())
            if len(kept) < _MOST_KEPT:
                kept.append(connection)
                return
        connection.close()

    def close(self) -> None:
        """Close all connections that are not in use."""
        _close_all(self._kept)


def _close_all(by_place: Mapping[tuple[str, str, int], deque[Http]]) -> None:
    for kept in by_place.values():
        while kept:
            kept.pop().close()


def _has_more(connection: Http) -> bool:
    """Tell whether anything came after the last answer: that the other side has closed, or what is no answer."""
    if connection.sock is None:
        return True
    waiting = select.poll()  # select(2) knows no descriptor above 1023
    waiting.register(connection.sock, select.POLLIN)
    return bool(waiting.poll(0))
