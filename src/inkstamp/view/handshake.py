"""Shake hands with a TLS server at one address and take the chain as it serves it."""

import select
import socket
import time
from dataclasses import dataclass

from cryptography import x509
from OpenSSL import SSL

_PATIENCE = 8.0
"""Seconds for connection and handshake together."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Served:
    """What one address served in one TLS handshake."""

    address: str
    port: int
    chain: tuple[x509.Certificate, ...] = ()
    """Leaf first, in the order of the server's certificate message; not verified here."""
    protocol: str = ""
    """As in `TLSv1.3`."""
    trouble: str = ""
    """Why there was no handshake, as a sentence; empty when there was one."""


def shake_hands(address: str, port: int, name: str) -> Served:
    """Connect to `address`, ask for `name` (SNI, RFC 6066 section 3) and return what is served."""
    try:
        with socket.create_connection((address, port), timeout=_PATIENCE) as stream:
            return _handshake(stream, address, port, name)
    except TimeoutError:
        return Served(address=address, port=port, trouble=f"no answer within {_PATIENCE:.0f} s")
    except OSError as error:
        return Served(address=address, port=port, trouble=f"no connection: {error.strerror or error}")


def _handshake(stream: socket.socket, address: str, port: int, name: str) -> Served:
    context = SSL.Context(SSL.TLS_CLIENT_METHOD)
    context.set_verify(SSL.VERIFY_NONE)  # what is served is judged afterwards, and shown even when it is bad
    connection = SSL.Connection(context, stream)
    connection.set_tlsext_host_name(name.encode("ascii"))
    connection.set_connect_state()
    stream.setblocking(False)
    deadline = time.monotonic() + _PATIENCE
    while True:
        try:
            connection.do_handshake()
        except (SSL.WantReadError, SSL.WantWriteError) as want:
            left = deadline - time.monotonic()
            reading = isinstance(want, SSL.WantReadError)
            ready = select.select([stream] if reading else [], [] if reading else [stream], [], max(left, 0))
            if not any(ready):
                return Served(address=address, port=port, trouble=f"no TLS answer within {_PATIENCE:.0f} s")
        except SSL.Error as error:
            return Served(address=address, port=port, trouble=f"TLS failed: {_reason(error)}")
        else:
            break
    chain = tuple(certificate.to_cryptography() for certificate in connection.get_peer_cert_chain() or ())
    return Served(address=address, port=port, chain=chain, protocol=connection.get_protocol_version_name())


def _reason(error: SSL.Error) -> str:
    queue = error.args[0] if error.args and isinstance(error.args[0], list) else []
    reasons = [str(entry[-1]) for entry in queue if entry and entry[-1]]
    if reasons:
        return "; ".join(reasons)
    return "the other side closed the connection" if "EOF" in str(error) else str(error) or type(error).__name__
