"""Fetch a URL from one chosen address, as a CA validates `http-01` (RFC 8555 section 8.3).

Redirects are followed by name, certificates on the way that are not good are told and passed over (the CA does so
too: the site may be here to get its first one), and every answer is bounded in size and time.
"""

import functools
import ssl
import time
from dataclasses import dataclass, replace
from urllib.parse import SplitResult, urljoin, urlsplit

import urllib3
from urllib3.exceptions import HTTPError, InsecureRequestWarning, NewConnectionError, SSLError

from inkstamp.pki.names import as_address
from inkstamp.view.addresses import address_book
from inkstamp.view.point import NO_ROUTE, View, careless_context

_CONNECT, _READ, _WHOLE = 5.0, 5.0, 15.0
"""Seconds: to connect, between two pieces of an answer, for all of one answer."""
MOST_BODY = 65_536
"""Bytes of an answer that are read; a proof has a few dozen."""
_MOST_REDIRECTS = 10
_OF_PROXIES = ("Via", "X-Cache", "Age")
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
    """Start of the last answer's body, 64 KiB unless more was asked for."""
    trouble: str = ""
    """Why there was no answer, as a sentence; empty when there was one."""
    proxy: str = ""
    """What says that a cache or proxy answered (RFC 9110 section 7.6.3, RFC 9111 section 5.1); empty for nothing."""
    untrusted: str = ""
    """Why a certificate on the way would not be believed; empty when none was met or all were good."""
    hsts: str = ""
    """What it says of coming back by HTTPS alone (Strict-Transport-Security, RFC 6797); empty for nothing."""
    no_route: bool = False
    """This machine has no way to that kind of address (no IPv6 here), so nothing is known about it."""


@dataclass(frozen=True, slots=True, kw_only=True)
class _Answer:
    """What came of one request."""

    status: int = 0
    body: bytes = b""
    onward: str = ""
    """Where a redirect leads, as it stands there."""
    trouble: str = ""
    proxy: str = ""
    untrusted: str = ""
    hsts: str = ""
    no_route: bool = False


def fetch(url: str, address: str, view: View, limit: int = MOST_BODY) -> Sight:
    """GET `url` with its first request sent to `address`, following redirects as a CA would.

    `limit` bytes of the answer are read at most.
    """
    hops = [url]
    where = address
    untrusted = ""
    while True:
        parts = urlsplit(hops[-1])
        answer = _get(parts, where, view, limit)
        untrusted = untrusted or answer.untrusted
        seen = Sight(
            address=address,
            hops=tuple(hops),
            status=answer.status,
            body=answer.body,
            trouble=answer.trouble,
            proxy=answer.proxy,
            untrusted=untrusted,
            hsts=answer.hsts,
            no_route=answer.no_route,
        )
        if not answer.onward:
            return seen
        target = urljoin(hops[-1], answer.onward)
        trouble = _why_not_followed(hops, target, view)
        if trouble:
            return replace(seen, hops=(*hops, target), trouble=trouble)
        hops.append(target)
        host = urlsplit(target).hostname or ""
        if host != parts.hostname:
            found = address_book(view).look_up(host)
            if not found.all:
                return replace(seen, hops=tuple(hops), trouble=f"redirected to {target}: {found.trouble}")
            where = found.all[0]


def _why_not_followed(hops: list[str], target: str, view: View) -> str:
    """Say why a CA would not follow a redirect (Baseline Requirements section 3.2.2.4.19); empty when it would."""
    try:
        parts = urlsplit(target)
        port = parts.port
    except ValueError:
        return f"redirected to {target}, which is no web address"
    if parts.scheme not in {"http", "https"} or not parts.hostname:
        return f"redirected to {target}, which is no web address"
    if port is not None and port not in {80, 443, view.http_port, view.https_port}:
        return f"redirected to port {port}, where CAs do not follow"
    if as_address(parts.hostname) and parts.hostname != urlsplit(hops[0]).hostname:
        return f"redirected to the address {parts.hostname}, where CAs do not follow: they want a name"
    if target in hops:
        return "the redirects go in a circle"
    return f"more than {_MOST_REDIRECTS} redirects" if len(hops) >= _MOST_REDIRECTS else ""


def _get(parts: SplitResult, address: str, view: View, limit: int) -> _Answer:
    """Ask once; over TLS with the certificate looked at first, and when it is not good, whatever it is."""
    if parts.scheme == "http":
        return _request(parts, address, view, None, limit)
    strict = _request(parts, address, view, _context(view), limit)
    if not strict.untrusted:
        return strict
    urllib3.disable_warnings(InsecureRequestWarning)  # that the certificate is not good is told as a finding
    return replace(_request(parts, address, view, careless_context(), limit), untrusted=strict.untrusted)


def _request(parts: SplitResult, address: str, view: View, context: ssl.SSLContext | None, limit: int) -> _Answer:
    path = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
    timeout = urllib3.Timeout(connect=_CONNECT, read=_READ)
    pool = _pool(parts, address, timeout, view, context)
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
        proxy = next((f"{name}: {reply.headers[name]}" for name in _OF_PROXIES if reply.headers.get(name)), "")
        try:
            if reply.status in {301, 302, 303, 307, 308} and reply.headers.get("Location"):
                return _Answer(status=reply.status, onward=reply.headers["Location"], proxy=proxy)
            body = b""
            while len(body) < limit:
                if time.monotonic() - began > _WHOLE:
                    trouble = f"the answer was not finished after {_WHOLE:.0f} s"
                    return _Answer(status=reply.status, body=body, trouble=trouble, proxy=proxy)
                piece = reply.read1(limit - len(body))
                if not piece:
                    break
                body += piece
            hsts = reply.headers.get("Strict-Transport-Security", "")
            return _Answer(status=reply.status, body=body, proxy=proxy, hsts=hsts)
        finally:
            reply.close()
    except NewConnectionError as error:
        cause = error.__cause__ or error.__context__
        number = getattr(cause, "errno", None)
        trouble = f"no connection: {getattr(cause, 'strerror', None) or cause}"
        return _Answer(trouble=trouble, no_route=number in NO_ROUTE)
    except SSLError as error:
        told = getattr(error.args[0] if error.args else None, "verify_message", "")
        return _Answer(untrusted=told) if told else _Answer(trouble=f"TLS failed: {error}")
    except (HTTPError, OSError) as error:
        return _Answer(trouble=_plain(error))
    finally:
        pool.close()


def _plain(error: Exception) -> str:
    text = str(error)
    if "timed out" in text:
        return f"no answer within {_CONNECT:.0f} s"
    return f"no proper answer: {text}"


def _pool(
    parts: SplitResult, address: str, timeout: urllib3.Timeout, view: View, context: ssl.SSLContext | None
) -> urllib3.HTTPConnectionPool:
    if context is None:
        return urllib3.HTTPConnectionPool(address, parts.port or view.http_port, timeout=timeout)
    checked = context.verify_mode is ssl.CERT_REQUIRED
    return urllib3.HTTPSConnectionPool(
        address,
        parts.port or view.https_port,
        timeout=timeout,
        ssl_context=context,
        server_hostname=parts.hostname,
        assert_hostname=parts.hostname if checked else False,
    )


@functools.cache
def _context(view: View) -> ssl.SSLContext:
    known = view.roots if view.roots is not None and view.roots.is_file() else None
    return ssl.create_default_context(cafile=known)
