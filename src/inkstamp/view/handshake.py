"""Shake hands with a TLS server at one address and take the chain as it serves it."""

import select
import socket
import time
from functools import lru_cache

from cryptography import x509
from msgspec import Struct
from OpenSSL import SSL, crypto

from inkstamp.deadline import time_left
from inkstamp.pki.certificates import MOST_CERTIFICATES, from_der
from inkstamp.pki.names import as_address
from inkstamp.printable import one_line
from inkstamp.transport import connect
from inkstamp.view.point import is_without_way
from inkstamp.view.upgrade import Upgrade, ask_for_tls

_CIPHERS = {"rsa": b"aRSA", "ecdsa": b"aECDSA"}
"""Those with certificates of that sort (openssl-ciphers(1))."""
_SHOWN = 200
_PATIENCE = 8.0
"""Seconds for connection and handshake together."""


class Served(Struct, frozen=True, kw_only=True):
    """What one address served in one TLS handshake."""

    address: str
    port: int
    chain: tuple[x509.Certificate, ...] = ()
    """Leaf first, in the order of the server's certificate message; not verified here."""
    protocol: str = ""
    """As in `TLSv1.3`."""
    group: str = ""
    """How the keys were agreed on, by the name of the group (RFC 8446 section 4.2.7); empty where it is not known."""
    stapled: bytes = b""
    """The OCSP answer that came with it (RFC 6066 section 8); empty for none."""
    trouble: str = ""
    """Why there was no handshake, as a sentence; empty when there was one."""
    no_route: bool = False
    """This machine has no way to that kind of address (no IPv6 here), so nothing is known about it."""
    unanswered: bool = False
    """Whether nobody answered there at all."""
    refused: bool = False
    """Whether one of the two sides ended the handshake, so that its versions or ciphers may be why."""


def shake_hands(
    address: str, port: int, name: str, *, alpn: bytes = b"", upgrade: Upgrade = "", algorithm: str = ""
) -> Served:
    """Connect to `address`, ask for `name` (SNI, RFC 6066 section 3; none when empty) and return what is served.

    With `alpn`, just that protocol is offered (RFC 7301), and a server that does not choose it is a trouble; with
    `upgrade`, TLS is asked for in that protocol first. With `algorithm` (`rsa`, `ecdsa`) just certificates with such a
    key are taken, which TLS 1.2 alone lets a client say by its ciphers.
    """
    try:
        with connect(address, port, _PATIENCE) as stream:
            trouble = ask_for_tls(stream, upgrade, time.monotonic() + _PATIENCE)
            if trouble:
                return Served(address=address, port=port, trouble=trouble)
            return _handshake(stream, (address, port), name, alpn, algorithm)
    except TimeoutError:
        return Served(address=address, port=port, trouble=f"no answer within {_PATIENCE:.0f} s", unanswered=True)
    except (OSError, UnicodeError) as error:  # UnicodeError: a name that cannot be asked for
        number, said = getattr(error, "errno", None), getattr(error, "strerror", None) or str(error)
        no_route = is_without_way(address, number)
        return Served(address=address, port=port, trouble=f"no connection: {said}", no_route=no_route, unanswered=True)


def _handshake(stream: socket.socket, at: tuple[str, int], name: str, alpn: bytes, algorithm: str) -> Served:
    address, port = at
    try:
        connection = client_of(_context(alpn, algorithm), stream, name)
    except SSL.Error:  # this machine's OpenSSL has no such ciphers
        return Served(address=address, port=port, trouble=f"this machine cannot ask for {algorithm} certificates")
    stapled: list[bytes] = []
    connection.set_app_data(stapled)
    connection.request_ocsp()
    unfinished = finish(connection, stream)
    if unfinished is not None:
        return Served(address=address, port=port, trouble=unfinished.trouble, refused=not unfinished.silent)
    if alpn and connection.get_alpn_proto_negotiated() != alpn:
        return Served(address=address, port=port, trouble=f"answers with TLS and does not know {alpn.decode()}")
    try:
        chain = _readable(connection)
    except ValueError as error:
        said = one_line(str(error), _SHOWN)
        return Served(address=address, port=port, trouble=f"serves what cannot be read as a chain: {said}")
    return Served(
        address=address,
        port=port,
        chain=chain,
        protocol=connection.get_protocol_version_name(),
        group=connection.get_group_name() or "",
        stapled=b"".join(stapled),
    )


@lru_cache(maxsize=16)  # making one takes as long as half a handshake
def _context(alpn: bytes, algorithm: str) -> SSL.Context:
    context = SSL.Context(SSL.TLS_CLIENT_METHOD)
    context.set_verify(SSL.VERIFY_NONE)  # what is served is judged afterwards, and shown even when it is bad
    if alpn:
        context.set_alpn_protos([alpn])
    if algorithm:
        context.set_max_proto_version(SSL.TLS1_2_VERSION)
        context.set_cipher_list(_CIPHERS[algorithm])
    context.set_ocsp_client_callback(_keep_stapled)
    return context


def _keep_stapled(connection: SSL.Connection, answer: bytes, _data: object) -> bool:
    connection.get_app_data().append(answer)
    return True


def _readable(connection: SSL.Connection) -> tuple[x509.Certificate, ...]:
    """Return what was served when all of it can be read; ValueError says which one cannot, or how many there are."""
    served = connection.get_peer_cert_chain(as_cryptography=False) or ()
    if len(served) > MOST_CERTIFICATES:
        raise ValueError(f"it has more than {MOST_CERTIFICATES} certificates")
    found = []
    for number, each in enumerate(served, start=1):
        try:
            found.append(from_der(crypto.dump_certificate(crypto.FILETYPE_ASN1, each)))
        except (ValueError, crypto.Error) as error:
            raise ValueError(f"certificate {number} is malformed ({error})") from error
    return tuple(found)


def client_of(context: SSL.Context, stream: socket.socket, name: str) -> SSL.Connection:
    """Return the client's side of a handshake that has not begun, asking for `name` unless it is empty."""
    connection = SSL.Connection(context, stream)
    if name and not as_address(name):  # RFC 6066 section 3 knows names alone
        connection.set_tlsext_host_name(name.encode("ascii"))
    connection.set_connect_state()
    return connection


class Unfinished(Struct, frozen=True):
    """Why a handshake came to nothing."""

    trouble: str
    """As a sentence."""
    silent: bool
    """Whether the other side just said nothing more."""


def finish(connection: SSL.Connection, stream: socket.socket) -> Unfinished | None:
    """Carry a handshake through, on either side; returns why it came to nothing, None when it is done."""
    stream.setblocking(False)
    waiting = select.poll()  # select(2) knows no descriptor above 1023
    deadline = time.monotonic() + time_left(_PATIENCE)
    while True:
        try:
            connection.do_handshake()
        except (SSL.WantReadError, SSL.WantWriteError) as want:
            left = deadline - time.monotonic()
            waiting.register(stream, select.POLLIN if isinstance(want, SSL.WantReadError) else select.POLLOUT)
            if left <= 0 or not waiting.poll(left * 1000):
                return Unfinished(f"no TLS answer within {_PATIENCE:.0f} s", silent=True)
        except SSL.Error as error:
            return Unfinished(f"TLS failed: {_reason(error)}", silent=False)
        else:
            return None


def _reason(error: SSL.Error) -> str:
    queue = error.args[0] if error.args and isinstance(error.args[0], list) else []
    reasons = [str(entry[-1]) for entry in queue if entry and entry[-1]]
    if reasons:
        return "; ".join(reasons)
    return "the other side closed the connection" if "EOF" in str(error) else str(error) or type(error).__name__
