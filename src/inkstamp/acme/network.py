"""What the HTTP library raises, as errors of ours: what is wrong with the way to a CA, and whether it may pass."""

import socket
import ssl
from http.client import HTTPException

from inkstamp.errors import CaProblem, InkStampError, NetworkTrouble
from inkstamp.kept_connections import NotConnected, ProxyTrouble
from inkstamp.printable import one_line
from inkstamp.urls import host_of

_SHOWN = 300
"""Characters of what a stranger says that are told."""
_MOST_SILENT = 2
"""How often a request is repeated that nothing was said to: each takes as long as patience lasts."""
_PROXY_ADVICE = "check https_proxy and no_proxy in the environment, and that the proxy is up"
_RESUMES = "run the command again; it resumes where it stopped"


def may_pass(error: InkStampError, tries: int, *, repeatable: bool) -> bool:
    """Tell whether the same request may do better in a while, after it was repeated so many times."""
    cause = error.__cause__
    of = cause.__cause__ if isinstance(cause, NotConnected) else cause
    if isinstance(of, TimeoutError) and tries >= _MOST_SILENT:
        return False
    if isinstance(error, CaProblem):
        return error.status == 429 or error.status >= 500
    # A connection that broke may have done its work. One that was refused is a CA that is down or a wrong URL:
    # saying so at once helps more than waiting.
    return repeatable and isinstance(cause, OSError | HTTPException) and not _is_of_tls(cause)


def _is_of_tls(cause: object) -> bool:
    """Tell whether TLS itself went wrong, and not just the connection below it."""
    return isinstance(cause, ssl.SSLError) and not isinstance(cause, ssl.SSLEOFError | ssl.SSLZeroReturnError)


def network_trouble(error: Exception, url: str) -> NetworkTrouble:
    """Return the error for a conversation that did not come about."""
    host = host_of(url)
    if isinstance(error, ProxyTrouble):
        return NetworkTrouble(f"cannot reach the CA at {host}: the proxy lets nothing through", where=url,
                              said=error.what, advice=_PROXY_ADVICE)  # fmt: skip
    cause = error.__cause__ or error if isinstance(error, NotConnected) else error
    said = getattr(cause, "strerror", None) or one_line(str(cause) or type(cause).__name__, _SHOWN)
    if isinstance(cause, ssl.SSLCertVerificationError):
        return NetworkTrouble(
            f"the CA's own certificate at {host} is not trusted",
            where=url,
            said=one_line(cause.verify_message, _SHOWN),
            advice="if this CA's API has a private certificate, give its root with `trust` (--trust FILE)",
        )
    what, advice = _told(cause, begun=not isinstance(error, NotConnected))
    return NetworkTrouble(f"cannot reach the CA at {host}{what}", where=url, said=said, advice=advice)


def _told(cause: BaseException, *, begun: bool) -> tuple[str, str]:
    """Return what happened, and what to do about it; `begun` is whether there was a connection."""
    if isinstance(cause, ValueError) or _is_of_tls(cause):
        return "", "check the directory URL"
    if begun:
        return (": it stopped answering" if isinstance(cause, TimeoutError) else ": the connection broke"), _RESUMES
    if isinstance(cause, socket.gaierror):
        return ": its name cannot be looked up", "check the directory URL and this machine's DNS"
    if isinstance(cause, TimeoutError):
        return ": it does not answer", "check the network and any firewall; behind a proxy, set https_proxy"
    return ": the connection failed", "check the directory URL, and that the CA's service is up"
