"""Fetch a URL from one chosen address, as a CA validates `http-01` (RFC 8555 section 8.3).

Redirects are followed by name, certificates on the way are not verified (the CA does not either: the site may
be here to get its first one), and every answer is bounded in size and time.
"""

import ssl
import time
from dataclasses import dataclass
from urllib.parse import SplitResult, urljoin, urlsplit

import urllib3
from urllib3.exceptions import HTTPError, NewConnectionError, SSLError

from inkstamp.view.addresses import address_book
from inkstamp.view.point import View

_CONNECT, _READ, _WHOLE = 5.0, 5.0, 15.0
"""Seconds: to connect, between two pieces of an answer, for all of one answer."""
_MOST_BODY = 65_536
_MOST_REDIRECTS = 10
_AGENT = {"User-Agent": "inkstamp (looking at a proof before the CA does)", "Accept": "*/*"}


@dataclass(frozen=True, slots=True, kw_only=True)
class Sight:
    """What was seen when a URL was fetched from one address."""

    address: str
    """The address the first request went to."""
    hops: tuple[str, ...]
    """The URLs fetched, the first one first; more than one when there were redirects."""
    status: int = 0
    """HTTP status of the last answer; 0 when there was none."""
    body: bytes = b""
    """Start of the last answer's body, 64 KiB at most."""
    trouble: str = ""
    """Why there was no answer, as a sentence; empty when there was one."""
    no_route: bool = False
    """This machine has no way to that kind of address (no IPv6 here), so nothing is known about it."""


def fetch(url: str, address: str, view: View) -> Sight:
    """GET `url` with its first request sent to `address`, following redirects as the public would."""
    hops = [url]
    where = address
    while True:
        parts = urlsplit(hops[-1])
        if parts.scheme not in {"http", "https"} or not parts.hostname:
            return Sight(
                address=address, hops=tuple(hops), trouble=f"redirected to {hops[-1]}, which is no web address"
            )
        status, body, onward, trouble, no_route = _get(parts, where, view)
        if not onward:
            return Sight(
                address=address, hops=tuple(hops), status=status, body=body, trouble=trouble, no_route=no_route
            )
        target = urljoin(hops[-1], onward)
        if target in hops:
            return Sight(address=address, hops=(*hops, target), status=status, trouble="the redirects go in a circle")
        hops.append(target)
        if len(hops) > _MOST_REDIRECTS:
            return Sight(
                address=address, hops=tuple(hops), status=status, trouble=f"more than {_MOST_REDIRECTS} redirects"
            )
        host = urlsplit(target).hostname or ""
        if host and host != parts.hostname:
            found = address_book(view).look_up(host)
            if not found.all:
                return Sight(address=address, hops=tuple(hops), trouble=f"redirected to {target}: {found.trouble}")
            where = found.all[0]


def _get(parts: SplitResult, address: str, view: View) -> tuple[int, bytes, str, str, bool]:
    """One request; returns status, start of the body, redirect target, trouble and whether there is no route."""
    path = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
    timeout = urllib3.Timeout(connect=_CONNECT, read=_READ)
    pool = _pool(parts, address, timeout, view)
    began = time.monotonic()
    try:
        reply = pool.request(
            "GET",
            path,
            headers={**_AGENT, "Host": parts.netloc},
            redirect=False,
            retries=False,
            preload_content=False,
            timeout=timeout,
        )
        try:
            if reply.status in {301, 302, 303, 307, 308} and reply.headers.get("Location"):
                return reply.status, b"", reply.headers["Location"], "", False
            body = b""
            while len(body) < _MOST_BODY:
                if time.monotonic() - began > _WHOLE:
                    return reply.status, body, "", f"the answer was not finished after {_WHOLE:.0f} s", False
                piece = reply.read1(_MOST_BODY - len(body))
                if not piece:
                    break
                body += piece
            return reply.status, body, "", "", False
        finally:
            reply.close()
    except NewConnectionError as error:
        cause = error.__cause__ or error.__context__
        number = getattr(cause, "errno", None)
        return 0, b"", "", f"no connection: {getattr(cause, 'strerror', None) or cause}", number in {97, 99, 101}
    except SSLError as error:
        return 0, b"", "", f"TLS failed: {error}", False
    except (HTTPError, OSError) as error:
        return 0, b"", "", _plain(error), False
    finally:
        pool.close()


def _plain(error: Exception) -> str:
    text = str(error)
    if "timed out" in text:
        return f"no answer within {_CONNECT:.0f} s"
    return f"no proper answer: {text}"


def _pool(parts: SplitResult, address: str, timeout: urllib3.Timeout, view: View) -> urllib3.HTTPConnectionPool:
    if parts.scheme == "http":
        return urllib3.HTTPConnectionPool(address, parts.port or view.http_port, timeout=timeout)
    context = ssl.create_default_context()
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    return urllib3.HTTPSConnectionPool(
        address,
        parts.port or view.https_port,
        timeout=timeout,
        ssl_context=context,
        server_hostname=parts.hostname,
        assert_hostname=False,
    )
