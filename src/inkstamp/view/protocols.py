"""What a TLS server is ready to speak: versions, key exchange without forward secrecy, old ciphers, HTTP/2."""

import socket
import time
from collections.abc import Sequence
from dataclasses import dataclass

from OpenSSL import SSL

from inkstamp.pki.names import as_address
from inkstamp.view.handshake import finish
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
_OLD = b"3DES:RC4:NULL:EXPORT:DES:@SECLEVEL=0"


@dataclass(frozen=True, slots=True, kw_only=True)
class Readiness:
    """What one address takes."""

    versions: tuple[str, ...]
    """Of TLS, the oldest first."""
    static: bool
    """Whether it takes key exchange without forward secrecy, where a client offers nothing else."""
    old: bool
    """Whether it takes ciphers that are broken or nearly so, as far as this machine's OpenSSL still knows any."""
    alpn: str
    """What it chooses of HTTP/2 and HTTP/1.1 (RFC 7301); empty for nothing."""


def try_versions(address: str, port: int, name: str, *, upgrade: Upgrade = "") -> Readiness:
    """Shake hands once for each version and each sort of cipher; a handshake that fails is an answer.

    A server that lets some of them hang is left alone after a while: what was not tried counts as not taken.
    """
    end = time.monotonic() + _WHOLE

    def attempt(version: int | None, ciphers: bytes, alpn: Sequence[bytes] = ()) -> SSL.Connection | None:
        if time.monotonic() > end:
            return None
        context = SSL.Context(SSL.TLS_CLIENT_METHOD)
        context.set_verify(SSL.VERIFY_NONE)
        try:
            context.set_cipher_list(ciphers)
        except SSL.Error:
            return None  # this machine's OpenSSL has none of them
        if version is not None:
            context.set_min_proto_version(version)
            context.set_max_proto_version(version)
        if alpn:
            context.set_alpn_protos(list(alpn))
        return _shake(context, (address, port), name, upgrade)

    taken = tuple(told for told, version in VERSIONS if attempt(version, _ANY) is not None)
    before = SSL.TLS1_2_VERSION if "TLS 1.2" in taken else None
    offered = attempt(None, _ANY, (b"h2", b"http/1.1")) if not upgrade else None
    return Readiness(
        versions=taken,
        static=before is not None and attempt(before, _STATIC) is not None,
        old=before is not None and attempt(before, _OLD) is not None,
        alpn=offered.get_alpn_proto_negotiated().decode("ascii", "replace") if offered is not None else "",
    )


def _shake(context: SSL.Context, at: tuple[str, int], name: str, upgrade: Upgrade) -> SSL.Connection | None:
    try:
        with socket.create_connection(at, timeout=_PATIENCE) as stream:
            if ask_for_tls(stream, upgrade, time.monotonic() + _PATIENCE):
                return None
            connection = SSL.Connection(context, stream)
            if not as_address(name):
                connection.set_tlsext_host_name(name.encode("ascii"))
            connection.set_connect_state()
            return None if finish(connection, stream) else connection
    except OSError:
        return None
