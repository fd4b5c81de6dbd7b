"""Fetch a URL from one chosen address, as a CA validates `http-01` (RFC 8555 section 8.3).

Redirects are followed by name, certificates on the way that are not good are told and passed over (the CA does so
too: the site may be here to get its first one). A look has one end, in time and in bytes, for all of its redirects
together; and no redirect leads it to an address inside of our own network.
"""

import functools
import ssl
from contextlib import closing
from http.client import HTTPException

from msgspec import Struct
from msgspec.structs import replace

from inkstamp.deadline import is_over, within
from inkstamp.errors import UrlTrouble
from inkstamp.pki.names import as_address
from inkstamp.printable import one_line, printable
from inkstamp.transport import Http, Https, at_most, client_context, read_body
from inkstamp.urls import WebUrl, absolute, web_url
from inkstamp.view.addresses import address_book
from inkstamp.view.point import View, careless_context, is_without_way

_SECONDS, LOOK_SECONDS = 5.0, 15.0
"""To connect and between two pieces of an answer; for a whole look with its redirects, their DNS, all bytes."""
MOST_BODY = 65_536
"""Bytes of an answer that are read; a proof has a few dozen."""
_MOST_REDIRECTS = 10
_SHOWN = 200
"""Characters of what a stranger says that are told."""
_OF_PROXIES = ("Via", "X-Cache", "Age")
_AGENT = {"User-Agent": "inkstamp (testing a challenge response before validation)", "Accept": "*/*"}


class Sight(Struct, frozen=True, kw_only=True):
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
    astray: bool = False
    """Whether a redirect leads where no CA follows, which is the trouble."""
    proxy: str = ""
    """What says that a cache or proxy answered (RFC 9110 section 7.6.3, RFC 9111 section 5.1); empty for nothing."""
    untrusted: str = ""
    """Why a certificate on the way would not be believed; empty when none was met or all were good."""
    hsts: str = ""
    """What it says of coming back by HTTPS alone (Strict-Transport-Security, RFC 6797); empty for nothing."""
    no_route: bool = False
    """This machine has no way to that kind of address (no IPv6 here), so nothing is known about it."""
    internal: bool = False
    """Whether it came from an address inside of our own network: what it says is not for strangers' eyes."""

    @property
    def unanswered(self) -> bool:
        """Whether nobody answered at the address at all."""
        return not self.status and len(self.hops) < 2 and not self.untrusted

    @property
    def last(self) -> WebUrl:
        """The URL that the answer is of, or where the last redirect leads that could be read."""
        for each in reversed(self.hops):
            try:
                return web_url(each)
            except UrlTrouble:
                continue
        return WebUrl("", "", "", None, "/")


class _Answer(Struct, frozen=True, kw_only=True):
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


def fetch(url: str, address: str, view: View, limit: int = MOST_BODY, *, seconds: float = LOOK_SECONDS) -> Sight:
    """GET `url` with its first request sent to `address`, following redirects as a CA would.

    Args:
        url: What is asked for; UrlTrouble when it is no web address.
        address: Where the first request goes, whatever it is: it is the site's own.
        view: How the public sees names.
        limit: So many bytes of the answer are read at most.
        seconds: For all of it.

    """
    with within(seconds), at_most(limit):
        return _follow(web_url(url), address, view, limit)


def _follow(first: WebUrl, address: str, view: View, limit: int) -> Sight:
    hops, where, untrusted = [first], address, ""
    while True:
        answer = _get(hops[-1], where, view, limit)
        untrusted = untrusted or answer.untrusted
        seen = Sight(
            address=address,
            hops=tuple(each.text for each in hops),
            status=answer.status,
            body=answer.body,
            trouble=answer.trouble,
            proxy=answer.proxy,
            untrusted=untrusted,
            hsts=answer.hsts,
            no_route=answer.no_route,
            internal=view.is_internal(where),
        )
        if not answer.onward:
            return seen
        try:
            target = web_url(absolute(hops[-1].text, answer.onward))
        except UrlTrouble:
            said = one_line(answer.onward, _SHOWN)
            trouble = f"redirected to {said}, which is no web address"
            return replace(seen, hops=(*seen.hops, said), trouble=trouble, astray=True)
        hops.append(target)
        seen = replace(seen, hops=(*seen.hops, target.text))
        trouble = _why_not_followed(hops, view)
        if not trouble and target.host != hops[-2].host:
            where, trouble = _place_of(target, view)
        if trouble:
            return replace(seen, trouble=trouble, astray=True)


def _place_of(target: WebUrl, view: View) -> tuple[str, str]:
    """Return the address that a redirect to another name leads to, or why it is not followed there."""
    found = address_book(view).look_up(target.host)
    if not found.all:
        return "", f"redirected to {target.text}: {found.trouble}"
    allowed = [each for each in found.all if not view.is_internal(each)]
    if not allowed:
        return "", f"redirected to {target.text}, whose address {found.all[0]} is not one of the public Internet"
    return allowed[0], ""


def _why_not_followed(hops: list[WebUrl], view: View) -> str:
    """Say why a CA would not follow a redirect (Baseline Requirements section 3.2.2.4.19); empty when it would."""
    target = hops[-1]
    if target.port is not None and target.port not in {80, 443, view.http_port, view.https_port}:
        return f"redirected to port {target.port}, where CAs do not follow"
    if as_address(target.host) and target.host != hops[0].host:
        return f"redirected to the address {target.host}, where CAs do not follow: they want a name"
    if target.text in {each.text for each in hops[:-1]}:
        return "the redirects go in a circle"
    return f"more than {_MOST_REDIRECTS} redirects" if len(hops) > _MOST_REDIRECTS else ""


def _get(url: WebUrl, address: str, view: View, limit: int) -> _Answer:
    """Ask once; over TLS with the certificate looked at first, and when it is not good, whatever it is."""
    if url.scheme == "http":
        return _request(url, address, view, None, limit)
    strict = _request(url, address, view, _context(view), limit)
    if not strict.untrusted:
        return strict
    return replace(_request(url, address, view, careless_context(), limit), untrusted=strict.untrusted)


def _request(url: WebUrl, address: str, view: View, context: ssl.SSLContext | None, limit: int) -> _Answer:
    with closing(_connection(url, address, view, context)) as connection:
        try:
            connection.connect()
        except ssl.SSLCertVerificationError as error:
            return _Answer(untrusted=one_line(error.verify_message, _SHOWN))
        except ssl.SSLError as error:
            return _Answer(trouble=f"TLS failed: {one_line(str(error), _SHOWN)}")
        except TimeoutError as error:
            return _Answer(trouble=_plain(error, begun=False))
        except (OSError, ValueError) as error:  # ValueError: a name that cannot be asked for
            trouble = f"no connection: {getattr(error, 'strerror', None) or one_line(str(error), _SHOWN)}"
            return _Answer(trouble=trouble, no_route=is_without_way(address, getattr(error, "errno", None)))
        return _asked(connection, url, limit)


def _asked(connection: Http, url: WebUrl, limit: int) -> _Answer:
    """Ask on an open connection."""
    status, proxy = 0, ""
    try:
        connection.request("GET", url.target, headers={**_AGENT, "Host": url.authority})
        reply = connection.getresponse()
        status, headers = reply.status, reply.headers
        proxy = next((printable(f"{name}: {headers[name]}") for name in _OF_PROXIES if headers.get(name)), "")
        if status in {301, 302, 303, 307, 308} and headers.get("Location"):
            return _Answer(status=status, onward=headers["Location"], proxy=proxy)
        hsts = headers.get("Strict-Transport-Security", "")
        return _Answer(status=status, body=read_body(reply, limit), proxy=proxy, hsts=printable(hsts))
    except (HTTPException, OSError, ValueError) as error:  # ValueError: headers that cannot be read
        return _Answer(status=status, proxy=proxy, trouble=_plain(error, begun=bool(status)))


def _plain(error: Exception, *, begun: bool) -> str:
    if is_over():
        return "the answer was not finished in time" if begun else "no answer in time"
    if isinstance(error, TimeoutError):
        return f"no answer within {_SECONDS:.0f} s"
    return f"no proper answer: {one_line(str(error) or type(error).__name__, _SHOWN)}"


def _connection(url: WebUrl, address: str, view: View, context: ssl.SSLContext | None) -> Http:
    port = view.port_of(url.scheme, url.port)
    if context is None:
        return Http(address, port, _SECONDS)
    return Https(address, port, _SECONDS, context, url.host)


@functools.cache
def _context(view: View) -> ssl.SSLContext:
    known = view.roots if view.roots is not None and view.roots.is_file() else None
    return client_context(known, "web servers", "roots")
