"""What the HTTP library raises, as errors of ours: what is wrong with the way to a CA, and whether it may pass."""

from urllib3.exceptions import (
    ConnectTimeoutError,
    NameResolutionError,
    NewConnectionError,
    ProtocolError,
    ReadTimeoutError,
    SSLError,
)
from urllib3.exceptions import TimeoutError as HttpTimeout

from inkstamp.errors import CaProblem, InkStampError, NetworkTrouble
from inkstamp.printable import one_line
from inkstamp.urls import host_of

_SHOWN = 300
"""Characters of what a stranger says that are told."""
_MOST_SILENT = 2
"""How often a request is repeated that nothing was said to: each takes as long as patience lasts."""


def may_pass(error: InkStampError, tries: int, *, repeatable: bool) -> bool:
    """Tell whether the same request may do better in a while, after it was repeated so many times."""
    if isinstance(error.__cause__, HttpTimeout) and tries >= _MOST_SILENT:
        return False
    if isinstance(error, CaProblem):
        return error.status == 429 or error.status >= 500
    # A connection that broke may have done its work. One that was refused is a CA that is down or a wrong URL:
    # saying so at once helps more than waiting.
    return repeatable and isinstance(error.__cause__, ProtocolError | ReadTimeoutError)


_NETWORK = (
    (NameResolutionError, "its name cannot be looked up", "check the directory URL and this machine's DNS"),
    (ConnectTimeoutError, "it does not answer", "check the network and any firewall in between"),
    (NewConnectionError, "the connection failed", "check the directory URL, and that the CA's service is up"),
    (ReadTimeoutError, "it stopped answering", "run the command again; it resumes where it stopped"),
    (ProtocolError, "the connection broke", "run the command again; it resumes where it stopped"),
)


def network_trouble(error: Exception, url: str) -> NetworkTrouble:
    """Return the error for a conversation that did not come about."""
    host = host_of(url)
    text = one_line(str(error), _SHOWN)
    if isinstance(error, SSLError) and "CERTIFICATE_VERIFY_FAILED" in text:
        reason = text.partition("certificate verify failed: ")[2].partition(" (_ssl")[0] or text
        return NetworkTrouble(
            f"the CA's own certificate at {host} is not trusted",
            where=url,
            said=reason,
            advice="if this CA's API has a private certificate, give its root with `trust` (--trust FILE)",
        )
    for kind, what, advice in _NETWORK:
        if isinstance(error, kind):
            cause = error.__cause__ or error.__context__
            said = getattr(cause, "strerror", None) or one_line(str(cause or error), _SHOWN)
            return NetworkTrouble(f"cannot reach the CA at {host}: {what}", where=url, said=said, advice=advice)
    return NetworkTrouble(f"cannot reach the CA at {host}", where=url, said=text, advice="check the directory URL")
