"""URLs that strangers write: in redirects, in a CA's answers, in certificates. One place that reads them.

The standard library refuses some texts with ValueError, at once or when a part is asked for; here that is our own
error.
"""

import ipaddress
from typing import NamedTuple
from urllib.parse import SplitResult, urljoin, urlsplit

from inkstamp.errors import UrlTrouble
from inkstamp.printable import one_line

_LONGEST = 8192
_SHOWN = 120
_PORTS = {"http": 80, "https": 443}


class WebUrl(NamedTuple):
    """An HTTP or HTTPS URL in its parts."""

    text: str
    scheme: str
    host: str
    """Lower case, an IPv6 address without brackets."""
    port: int | None
    """None where the URL names none."""
    target: str
    """Path and query, as a request asks for them; never empty."""

    @property
    def authority(self) -> str:
        """Host and port as the URL says them (RFC 3986 section 3.2), for the Host header; without user information."""
        host = f"[{self.host}]" if ":" in self.host else self.host
        return host if self.port is None else f"{host}:{self.port}"

    @property
    def usual_port(self) -> int:
        """The port that counts in the real Internet."""
        return self.port if self.port is not None else _PORTS[self.scheme]


def absolute(base: str, reference: str) -> str:
    """Return the URL that `reference` means where it stands in a document at `base` (RFC 3986 section 5.2).

    Raises:
        UrlTrouble: It is none that can be read.

    """
    if len(reference) > _LONGEST:
        raise _unreadable(reference, f"it has {len(reference)} characters")
    try:
        joined = urljoin(base, reference)
        _ = urlsplit(joined).port
    except ValueError as error:
        raise _unreadable(reference, str(error)) from error
    if not joined.isascii() or not joined.isprintable() or " " in joined:
        raise _unreadable(reference, "it holds characters that a URL cannot have")
    return joined


def web_url(text: str) -> WebUrl:
    """Read an absolute HTTP or HTTPS URL.

    Raises:
        UrlTrouble: It is none.

    """
    parts = _split(text)
    try:
        host, port = (parts.hostname or "").lower(), parts.port
    except ValueError as error:
        raise _unreadable(text, str(error)) from error
    if parts.scheme not in _PORTS or not host or port == 0:
        raise _unreadable(text, "it is no address of the web")
    if not text.isascii() or not text.isprintable() or " " in text:
        raise _unreadable(text, "it holds characters that a URL cannot have")
    target = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
    return WebUrl(text, parts.scheme, host, port, target)


def host_of(url: str) -> str:
    """Return the host and port that a URL names, for a message; empty for one that cannot be read."""
    try:
        return one_line(urlsplit(url).netloc.rpartition("@")[2], _SHOWN)
    except ValueError:
        return ""


def is_loopback(host: str) -> bool:
    """Tell whether a host, as a URL names it, is this machine itself: `localhost`, or a loopback address."""
    try:
        return host == "localhost" or ipaddress.ip_address(host).is_loopback
    except ValueError:
        return False


def _split(text: str) -> SplitResult:
    if len(text) > _LONGEST:
        raise _unreadable(text, f"it has {len(text)} characters")
    try:
        return urlsplit(text)
    except ValueError as error:
        raise _unreadable(text, str(error)) from error


def _unreadable(text: str, why: str) -> UrlTrouble:
    return UrlTrouble(f"the URL “{one_line(text, _SHOWN)}” cannot be used", where=one_line(text, _SHOWN), said=why)
