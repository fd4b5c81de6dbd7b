"""Post JSON to a URL, signed (HTTP Message Signatures, RFC 9421, with hmac-sha256), tried again while it may pass."""

import base64
import hashlib
import hmac
from collections.abc import Callable, Mapping
from contextlib import closing
from http.client import HTTPException
from pathlib import Path

from inkstamp import __version__
from inkstamp.deadline import time_left, within
from inkstamp.errors import ConfigurationError, InkStampError, NetworkTrouble
from inkstamp.kept_connections import KeptConnections
from inkstamp.printable import one_line
from inkstamp.transport import at_most, client_context
from inkstamp.urls import web_url

_CONNECT_SECONDS, _READ_SECONDS, _WHOLE = 5.0, 10.0, 20.0
"""To connect, for each read, and for one try from connection to the last header."""
_WAITS = (1.0, 4.0)
"""Seconds before the second and the third try."""
_LABEL = "inkstamp"
_SHOWN = 300


def signed_headers(url: str, body: bytes, key: bytes, key_id: str, created: int) -> Mapping[str, str]:
    """Return the headers that prove who posts what where.

    Content-Digest is RFC 9530's; the signature covers method, target and digest (RFC 9421 sections 2.2 and 2.5).

    Args:
        url: Where to.
        body: What.
        key: The secret that both sides know.
        key_id: What tells the other side which key it is.
        created: Seconds since 1970.

    """
    digest = f"sha-256=:{base64.b64encode(hashlib.sha256(body).digest()).decode()}:"
    covered = f'("@method" "@target-uri" "content-digest");created={created};keyid="{key_id}";alg="hmac-sha256"'
    base = f'"@method": POST\n"@target-uri": {url}\n"content-digest": {digest}\n"@signature-params": {covered}'
    signature = base64.b64encode(hmac.new(key, base.encode(), hashlib.sha256).digest()).decode()
    return {
        "Content-Type": "application/json",
        "User-Agent": f"inkstamp/{__version__}",
        "Content-Digest": digest,
        "Signature-Input": f"{_LABEL}={covered}",
        "Signature": f"{_LABEL}=:{signature}:",
    }


def post(
    url: str, body: bytes, headers: Mapping[str, str], *, trust: Path | None, sleep: Callable[[float], None]
) -> None:
    """Post `body`, three times at most where the other side has trouble of its own.

    Raises:
        NetworkTrouble: It was not taken.
        ConfigurationError: `trust` cannot be read, or the environment names a proxy that is none.

    """
    kept = KeptConnections(
        client_context(trust, "the webhook's server"), connect_seconds=_CONNECT_SECONDS, read_seconds=_READ_SECONDS
    )
    with closing(kept):
        for wait in (*_WAITS, None):
            try:
                with within(_WHOLE), at_most(0):
                    # What it says beside its status is not read.
                    reply = kept.request("POST", web_url(url), body, dict(headers), None)
                said = f"it answers {reply.status}"
                if 200 <= reply.status < 300:
                    return
                passing = reply.status == 429 or reply.status >= 500
            except ConfigurationError:  # of the proxy that the environment names
                raise
            except (HTTPException, OSError, ValueError, InkStampError) as error:
                said, passing = one_line(str(error), _SHOWN), True
            if wait is None or not passing or wait >= time_left():
                break
            sleep(wait)
    raise NetworkTrouble(
        "the webhook did not take the message", where=url, said=said, advice="it is tried again next time"
    )
