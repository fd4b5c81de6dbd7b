"""What a TLS server is ready to speak: versions, key exchange, old ciphers, HTTP/2, sessions taken up again."""

import contextlib
import ssl
import time
from collections.abc import Iterator
from functools import lru_cache

from msgspec import Struct
from OpenSSL import SSL

from inkstamp.deadline import time_left
from inkstamp.pki.names import as_address
from inkstamp.transport import connect
from inkstamp.view.handshake import client_of, finish
from inkstamp.view.point import careless_context
from inkstamp.view.upgrade import Upgrade, ask_for_tls

VERSIONS = (
    ("TLS 1.0", SSL.TLS1_VERSION),
    ("TLS 1.1", SSL.TLS1_1_VERSION),
    ("TLS 1.2", SSL.TLS1_2_VERSION),
    ("TLS 1.3", SSL.TLS1_3_VERSION),
)
_PATIENCE, _WHOLE = 5.0, 20.0
"""Seconds: to connect, and for all handshakes together."""
_ANY = b"ALL:@SECLEVEL=0"
_STATIC = b"kRSA:!NULL:!3DES:@SECLEVEL=0"
GROUPS = (("X25519", "X25519"), ("P-256", "prime256v1"), ("P-384", "secp384r1"))
"""What they are called, and what OpenSSL calls them."""
_TICKET_SECONDS = 0.25
"""How long a TLS 1.3 server may take to send its tickets, which come behind the handshake."""
_OLD = b"3DES:RC4:NULL:EXPORT:DES:@SECLEVEL=0"


class Readiness(Struct, frozen=True, kw_only=True):
    """What one address takes."""

    versions: tuple[str, ...]
    """Of TLS, the oldest first."""
    static: bool
    """Whether it accepts key exchange without forward secrecy, where a client offers nothing else."""
    old: bool
    """Whether it takes ciphers that are broken or nearly so, as far as this machine's OpenSSL still knows any."""
    alpn: str
    """What it chooses of HTTP/2 and HTTP/1.1 (RFC 7301); empty for nothing."""
    groups: tuple[str, ...]
    """Of those tried one by one, the groups in which it agrees on keys (RFC 8446 section 4.2.7)."""
    resumes: bool | None
    """Whether it takes up a session that was begun before; None where that was not tried."""


def try_versions(address: str, port: int, name: str, *, upgrade: Upgrade = "", protocol: str = "") -> Readiness:
    """Shake hands once for each version and each sort of cipher; a handshake that fails is an answer.

    `protocol` is the version of a handshake before, as in `TLSv1.3`, which is not tried again; empty for none. A server
    that lets some handshakes hang is left alone after a while: what was not tried counts as not taken.
    """
    end = time.monotonic() + time_left(_WHOLE)
    seen = protocol.replace("TLSv", "TLS ")

    def attempt(version: int | None, ciphers: bytes, alpn: tuple[bytes, ...] = ()) -> SSL.Connection | None:
        if time.monotonic() > end:
            return None
        context = _context(version, ciphers, alpn)
        return _shake(context, (address, port), name, upgrade) if context is not None else None

    taken = tuple(told for told, version in VERSIONS if told == seen or attempt(version, _ANY) is not None)
    before = SSL.TLS1_2_VERSION if "TLS 1.2" in taken else None
    offered = attempt(None, _ANY, (b"h2", b"http/1.1")) if not upgrade else None
    sessions = _Sessions(address, port, name, upgrade, end)
    newest = "TLS 1.3" in taken
    return Readiness(
        versions=taken,
        static=before is not None and attempt(before, _STATIC) is not None,
        old=before is not None and attempt(before, _OLD) is not None,
        alpn=offered.get_alpn_proto_negotiated().decode("ascii", "replace") if offered is not None else "",
        # Before TLS 1.3 a group that is not offered also forbids certificates on that curve: nothing would be learnt.
        groups=tuple(told for told, curve in GROUPS if newest and sessions.agrees_in(curve)),
        resumes=sessions.are_resumed(newest=before is None) if newest or before is not None else None,
    )


@lru_cache(maxsize=32)  # making one takes as long as a third of a handshake
def _context(version: int | None, ciphers: bytes, alpn: tuple[bytes, ...]) -> SSL.Context | None:
    """Return what offers just that; None where this machine's OpenSSL has none of the ciphers."""
    context = SSL.Context(SSL.TLS_CLIENT_METHOD)
    context.set_verify(SSL.VERIFY_NONE)
    try:
        context.set_cipher_list(ciphers)
    except SSL.Error:
        return None
    if version is not None:
        context.set_min_proto_version(version)
        context.set_max_proto_version(version)
    if alpn:
        context.set_alpn_protos(list(alpn))
    return context


class _Sessions(Struct, frozen=True):
    """Sessions with one address, by the standard library: pyOpenSSL can neither choose groups nor tell resumption."""

    address: str
    port: int
    name: str
    upgrade: Upgrade
    end: float
    """By `time.monotonic`: when to try no more."""

    def agrees_in(self, curve: str) -> bool:
        """Tell whether keys are agreed on where nothing but that group is offered."""
        context = careless_context()
        context.minimum_version = ssl.TLSVersion.TLSv1_3
        try:
            context.set_ecdh_curve(curve)
        except (ValueError, ssl.SSLError):
            return False  # this machine's OpenSSL does not know it
        with self._begun(context) as session:
            return session is not None

    def are_resumed(self, *, newest: bool) -> bool | None:
        """Tell whether a second handshake takes the first one's session up; by TLS 1.3 where `newest`, else 1.2."""
        context = careless_context()
        if not newest:
            context.maximum_version = ssl.TLSVersion.TLSv1_2
        with self._begun(context) as first:
            if first is None:
                return None
            if newest:
                with contextlib.suppress(OSError):  # nothing is sent but tickets, and they are read on the way
                    first.settimeout(_TICKET_SECONDS)
                    first.recv(1)
            begun = first.session
        with self._begun(context, begun) as again:
            return again is not None and again.session_reused is True

    @contextlib.contextmanager
    def _begun(self, context: ssl.SSLContext, session: ssl.SSLSession | None = None) -> Iterator[ssl.SSLSocket | None]:
        """Shake hands; None where that fails."""
        left = self.end - time.monotonic()
        with contextlib.ExitStack() as stack:
            begun = None
            with contextlib.suppress(OSError):  # a handshake that fails is an answer
                if left > 0:
                    patience = min(_PATIENCE, left)
                    plain = stack.enter_context(connect(self.address, self.port, patience))
                    if not ask_for_tls(plain, self.upgrade, time.monotonic() + patience):
                        plain.settimeout(patience)
                        named = None if not self.name or as_address(self.name) else self.name
                        begun = stack.enter_context(context.wrap_socket(plain, server_hostname=named, session=session))
            yield begun


def _shake(context: SSL.Context, at: tuple[str, int], name: str, upgrade: Upgrade) -> SSL.Connection | None:
    try:
        with connect(*at, _PATIENCE) as stream:
            if ask_for_tls(stream, upgrade, time.monotonic() + _PATIENCE):
                return None
            connection = client_of(context, stream, name)
            return None if finish(connection, stream) else connection
    except OSError:
        return None
