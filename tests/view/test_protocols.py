"""What a TLS server takes is found out with few handshakes, whichever way it is set up."""

from collections.abc import Callable

import pytest
from authority_of_tests import Signer
from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.hazmat.primitives.serialization import Encoding
from OpenSSL import SSL
from tls_server import tls_server

from inkstamp.view.handshake import shake_hands
from inkstamp.view.protocols import VERSIONS, Readiness, try_versions

ECDSA = Signer("site.test", ca=False, names=("site.test",))
RSA = Signer("site.test", ca=False, names=("site.test",), key=rsa.generate_private_key(65_537, 2048))
ALL = tuple(told for told, _ in VERSIONS)


def versions(lowest: int, highest: int, ciphers: bytes = b"DEFAULT") -> Callable[[SSL.Context], None]:
    def settle(context: SSL.Context) -> None:
        context.set_min_proto_version(lowest)
        context.set_max_proto_version(highest)
        context.set_cipher_list(ciphers + b":@SECLEVEL=0")
        context.set_session_id(b"tests")

    return settle


def choosing(chosen: bytes | None, settle: Callable[[SSL.Context], None]) -> Callable[[SSL.Context], None]:
    """Have a protocol chosen by ALPN; none has every client refused that offers any."""

    def choose(_connection: SSL.Connection, offered: list[bytes]) -> bytes:
        if chosen not in offered:
            raise SSL.Error("none of them")
        return chosen

    def both(context: SSL.Context) -> None:
        settle(context)
        context.set_alpn_select_callback(choose)

    return both


TLS1, TLS2, TLS3 = SSL.TLS1_VERSION, SSL.TLS1_2_VERSION, SSL.TLS1_3_VERSION
SERVERS = {
    "usual": (ECDSA, versions(TLS2, TLS3), ALL[2:], "", 7),
    "offers HTTP/2": (ECDSA, choosing(b"h2", versions(TLS2, TLS3)), ALL[2:], "h2", 7),
    "refuses HTTP": (ECDSA, choosing(None, versions(TLS2, TLS3)), ALL[2:], "", 9),
    "newest alone": (ECDSA, choosing(b"h2", versions(TLS3, TLS3)), ALL[3:], "h2", 7),
    "1.2 alone": (ECDSA, choosing(b"h2", versions(TLS2, TLS2)), ALL[2:3], "h2", 7),
    "every version": (ECDSA, versions(TLS1, TLS3), ALL, "", 8),
    "no newer than 1.1": (ECDSA, versions(TLS1, SSL.TLS1_1_VERSION), ALL[:2], "", 6),
    "1.0 and none between": (ECDSA, versions(TLS1, TLS1), ALL[:1], "", 6),
    "static": (RSA, versions(TLS2, TLS2, b"AES128-SHA"), ALL[2:3], "", 9),
    "old ciphers": (
        ECDSA,
        versions(TLS2, TLS2, b"ECDHE-ECDSA-AES128-GCM-SHA256:ECDHE-ECDSA-NULL-SHA"),
        ALL[2:3],
        "",
        8,
    ),
}


@pytest.mark.parametrize("kind", SERVERS)
def test_what_a_server_takes_is_found_with_few_handshakes(kind: str) -> None:
    signer, settle, expected, alpn, most = SERVERS[kind]
    begun: list[int] = []

    def counted(context: SSL.Context) -> None:
        settle(context)
        context.set_info_callback(lambda _c, where, _r: begun.append(1) if where & SSL.SSL_CB_HANDSHAKE_START else None)

    with tls_server(signer, [signer.certificate.public_bytes(Encoding.DER)], counted) as port:
        first = shake_hands("127.0.0.1", port, "site.test")
        begun.clear()
        ready = try_versions("127.0.0.1", port, "site.test", protocol=first.protocol, group=first.group)
        many = len(begun)
        alone: Readiness = try_versions("127.0.0.1", port, "site.test")
    assert ready == alone, "what is known beforehand is not found otherwise"
    assert (ready.versions, ready.alpn) == (expected, alpn)
    assert (ready.static, ready.old) == (kind == "static", kind == "old ciphers")
    assert many <= most
