"""Servers that mean harm, or are broken: each is a finding within its time, and nothing is raised."""

import hashlib
import os
import socket
import ssl
import struct
import time
from collections.abc import Sequence
from contextlib import suppress
from datetime import timedelta

import pytest
from authority_of_tests import NOW, Signer
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding
from hypothesis import given, settings
from hypothesis import strategies as st
from tls_server import Talk, dripping, talking, tls_server

from inkstamp.jobs.checks.served_chain import judge_chain
from inkstamp.pki.certificates import facts, from_der
from inkstamp.pki.chain import Roots
from inkstamp.pki.quality import judge_keys, judge_serial, judge_stapling, judge_transparency
from inkstamp.pki.revocation import crl_urls, read_ocsp
from inkstamp.pki.verifying import second_opinion
from inkstamp.severity import Severity
from inkstamp.view.handshake import shake_hands
from inkstamp.view.protocols import GROUPS, try_versions

ROOT = Signer("Root", days=3650)
MIDDLE = Signer("Middle", ROOT)
LEAF = Signer("site.test", MIDDLE, ca=False, names=("site.test",))
TRUSTED = Roots([ROOT.certificate])


def der(signer: Signer) -> bytes:
    return signer.certificate.public_bytes(Encoding.DER)


def record(kind: int, body: bytes) -> bytes:
    return b"".join(
        struct.pack("!BHH", kind, 0x0303, len(body[at : at + 16_000])) + body[at : at + 16_000]
        for at in range(0, len(body), 16_000)
    )


def message(kind: int, body: bytes) -> bytes:
    return bytes([kind]) + len(body).to_bytes(3, "big") + body


def certificates(ders: Sequence[bytes]) -> bytes:
    """A server's first flight of TLS 1.2 (RFC 5246 section 7.4), in which certificates stand as they are."""
    hello = message(
        2, struct.pack("!H", 0x0303) + os.urandom(32) + b"\0" + b"\xc0\x2b" + b"\0" + b"\0\x05\xff\x01\0\x01\0"
    )
    listed = b"".join(len(each).to_bytes(3, "big") + each for each in ders)
    return record(22, hello) + record(22, message(11, len(listed).to_bytes(3, "big") + listed))


def sending(data: bytes) -> Talk:
    def talk(stream: socket.socket) -> None:
        stream.recv(4096)
        stream.sendall(data)
        stream.shutdown(socket.SHUT_WR)
        stream.recv(4096)

    return talk


def hanging(stream: socket.socket) -> None:
    while stream.recv(4096):
        pass


def closing(stream: socket.socket) -> None:
    stream.recv(4096)


@pytest.mark.parametrize(
    "talk",
    [
        hanging,
        closing,
        sending(b""),
        sending(os.urandom(50_000)),
        sending(b"HTTP/1.1 200 OK\r\n\r\nhello"),
        sending(record(21, b"\x02\x28")),
        sending(record(22, message(2, b"\0" * 70_000))),
        sending(certificates([b"\x30\x84\x00\x98\x96\x80" + bytes(10_000_000)])),
        sending(certificates([der(LEAF)[:-7], der(MIDDLE)])),
        sending(certificates([b"", b""])),
        sending(certificates([der(LEAF)] * 400)),
        dripping(certificates([der(LEAF)])),
    ],
    ids=["hangs", "closes", "empty", "garbage", "http", "alert", "long hello", "10 MB certificate", "cut certificate",
         "empty certificates", "400 certificates", "drips"],
)  # fmt: skip
def test_a_handshake_with_anything_ends_in_time_with_a_sentence(talk: Talk, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("inkstamp.view.handshake._PATIENCE", 0.6)
    with talking(talk) as port:
        began = time.monotonic()
        served = shake_hands("127.0.0.1", port, "site.test")
        assert time.monotonic() - began < 3
    assert served.chain == ()
    assert served.trouble
    assert served.trouble.isprintable()


@pytest.mark.parametrize("upgrade", ["smtp", "imap", "pop3"])
@pytest.mark.parametrize(
    "talk",
    [
        hanging,
        lambda stream: stream.sendall(b"x" * 100_000),
        lambda stream: stream.sendall(b"* OK\r\n220-\r\n" * 50_000),
        lambda stream: stream.sendall(bytes(range(256)) * 20),
        dripping(b"220 mail.site.test at your service, in a while\r\n"),
    ],
    ids=["hangs", "one line without end", "lines without end", "garbage", "drips"],
)
def test_a_mail_server_that_never_comes_to_tls_is_told_of_in_time(
    upgrade: str, talk: Talk, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("inkstamp.view.handshake._PATIENCE", 0.6)
    with talking(talk) as port:
        began = time.monotonic()
        served = shake_hands("127.0.0.1", port, "site.test", upgrade=upgrade)  # type: ignore[arg-type]
        assert time.monotonic() - began < 3
    assert served.trouble


def signed_anew(signer: Signer, issuer: Signer, old: bytes, new: bytes) -> bytes:
    """Change bytes inside a certificate and sign it again: what no library makes."""
    whole = signer.certificate
    body = whole.tbs_certificate_bytes
    assert body.count(old) == 1
    assert len(old) == len(new)
    changed = body.replace(old, new)
    assert isinstance(issuer.key, ec.EllipticCurvePrivateKey)
    signature = b"\0" + issuer.key.sign(changed, ec.ECDSA(hashes.SHA256()))
    algorithm = bytes.fromhex("300a06082a8648ce3d040302")
    inner = changed + algorithm + b"\x03" + _length(signature) + signature
    return b"\x30" + _length(inner) + inner


def _length(data: bytes) -> bytes:
    if len(data) < 128:
        return bytes([len(data)])
    digits = len(data).to_bytes((len(data).bit_length() + 7) // 8, "big")
    return bytes([0x80 | len(digits)]) + digits


def _negative() -> tuple[Signer, list[bytes]]:
    serial = LEAF.certificate.serial_number
    content = serial.to_bytes(serial.bit_length() // 8 + 1, "big")
    return LEAF, [signed_anew(LEAF, MIDDLE, content, b"\x81" + content[1:]), der(MIDDLE)]


def _bad_time() -> tuple[Signer, list[bytes]]:
    begin = f"{LEAF.certificate.not_valid_before_utc:%y%m%d%H%M%SZ}".encode()
    return LEAF, [signed_anew(LEAF, MIDDLE, begin, b"991399999999Z"), der(MIDDLE)]


def _nul() -> tuple[Signer, list[bytes]]:
    leaf = Signer("site.test", MIDDLE, ca=False, names=("site.test.evil.test",))
    return leaf, [signed_anew(leaf, MIDDLE, b"site.test.evil.test", b"site.test\0evil.test"), der(MIDDLE)]


def _deep() -> tuple[Signer, list[bytes]]:
    chain = [Signer("Level 0", ROOT)]
    for number in range(1, 40):
        chain.append(Signer(f"Level {number}", chain[-1]))
    leaf = Signer("site.test", chain[-1], ca=False, names=("site.test",))
    return leaf, [der(leaf), *(der(each) for each in reversed(chain))]


def _deeper() -> tuple[Signer, list[bytes]]:
    leaf, ders = _deep()
    return leaf, [*ders, *(der(Signer(f"Stranger {number}")) for number in range(60))]


def _loop() -> tuple[Signer, list[bytes]]:
    first, second = Signer("One"), Signer("Two")
    one = Signer("One", second, key=first.key)
    two = Signer("Two", first, key=second.key)
    leaf = Signer("site.test", first, ca=False, names=("site.test",))
    return leaf, [der(leaf), der(one), der(two), der(first), der(second)]


@pytest.mark.parametrize(
    ("made", "topics"),
    [
        (_negative, {"serial", "connection"}),
        (_bad_time, {"connection"}),
        (_nul, {"name"}),
        (_deep, {"trust"}),
        (_deeper, {"connection"}),
        (_loop, {"trust"}),
    ],
    ids=["negative serial", "impossible date", "NUL in the name", "40 deep", "100 certificates", "loop"],
)
def test_odd_certificates_that_a_server_really_serves_are_found_and_named(made: object, topics: set[str]) -> None:
    key, ders = made()  # type: ignore[operator]
    with tls_server(key, ders) as port:
        began = time.monotonic()
        served = shake_hands("127.0.0.1", port, "site.test")
    if not served.chain:
        assert "connection" in topics, served.trouble
        assert served.trouble.isprintable()
        return
    found = list(judge_chain("site.test", served.chain, TRUSTED, NOW).findings)
    found += judge_keys("site.test", served.chain, "x")
    found += [each for each in [judge_serial("site.test", served.chain[0])] if each]
    wrong = {each.topic for each in found if each.severity in {Severity.BAD, Severity.WARN}}
    assert wrong & topics, found
    assert facts(served.chain[0]).names != ("site.test",) or "name" not in topics
    assert time.monotonic() - began < 5


@settings(max_examples=300)
@given(st.lists(st.tuples(st.integers(0, 10_000), st.integers(0, 255)), min_size=1, max_size=6), st.booleans())
def test_a_certificate_with_any_bytes_changed_is_read_or_refused_and_judged_without_a_fall(
    changes: list[tuple[int, int]], middle: bool
) -> None:
    data = bytearray(der(MIDDLE if middle else LEAF))
    for at, byte in changes:
        data[at % len(data)] = byte
    try:
        odd = from_der(bytes(data))
    except ValueError:
        return
    chain = (LEAF.certificate, odd) if middle else (odd, MIDDLE.certificate)
    judge_chain("site.test", chain, TRUSTED, NOW)
    judge_keys("site.test", chain, "x")
    judge_serial("site.test", odd)
    judge_stapling("site.test", odd, stapled=False)
    judge_transparency("site.test", odd)
    second_opinion("site.test", chain, TRUSTED, NOW)
    crl_urls(odd)
    facts(odd)


@settings(max_examples=100)
@given(st.binary(max_size=400))
def test_stapled_bytes_of_any_kind_are_an_answer_or_a_clear_no(data: bytes) -> None:
    with pytest.raises(ValueError, match=r"."):
        read_ocsp(data, LEAF.certificate, MIDDLE.certificate, NOW)


def knows(curve: str) -> bool:
    """Whether the standard library can ask for a group: in Debian 12 it cannot for X25519."""
    with suppress(ssl.SSLError):
        ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT).set_ecdh_curve(curve)
        return True
    return False


def test_a_server_with_a_hybrid_group_is_told_from_one_without_and_sessions_are_taken_up() -> None:
    with tls_server(LEAF, [der(LEAF), der(MIDDLE)]) as port:
        served = shake_hands("127.0.0.1", port, "site.test")
        ready = try_versions("127.0.0.1", port, "site.test")
    assert [hashlib.sha256(each.public_bytes(Encoding.DER)).digest() for each in served.chain] == [
        hashlib.sha256(der(each)).digest() for each in (LEAF, MIDDLE)
    ]
    assert "MLKEM" in served.group, "both sides are the newest OpenSSL here"
    assert ready.groups == tuple(told for told, curve in GROUPS if told != "X25519" or knows(curve))
    assert ready.versions[-2:] == ("TLS 1.2", "TLS 1.3")
    assert ready.resumes is True


def test_an_expired_certificate_of_an_old_root_is_told_where_a_newer_way_holds() -> None:
    old = Signer("Old Root", days=3650)
    crossed = Signer("Root", old, key=ROOT.key, start=NOW - timedelta(days=400), days=30)
    judged = judge_chain("site.test", (LEAF.certificate, MIDDLE.certificate, crossed.certificate), TRUSTED, NOW)
    found, root = judged.findings, judged.root
    (wrong,) = [each for each in found if each.severity is not Severity.OK]
    assert root == "Root"
    assert wrong.severity is Severity.WARN
    assert "expires 2025-11-18T12:00:00Z" in wrong.seen


def test_the_second_verifier_agrees_with_ours_on_what_is_good_and_what_is_not() -> None:
    aki = x509.AuthorityKeyIdentifier.from_issuer_public_key
    signs = x509.KeyUsage(False, False, False, False, False, True, True, False, False)
    root = Signer("Root", days=3650, more=[signs])
    trusted = Roots([root.certificate])
    middle = Signer("Middle", root, more=[aki(root.key.public_key()), signs], path_length=0)
    usage = x509.ExtendedKeyUsage([x509.ObjectIdentifier("1.3.6.1.5.5.7.3.1")])
    leaf = Signer("site.test", middle, ca=False, names=("site.test",), more=[aki(middle.key.public_key()), usage])
    chain = (leaf.certificate, middle.certificate)
    stranger = Roots([Signer("Root").certificate])
    for roots, name, good in ((trusted, "site.test", True), (stranger, "site.test", False), (trusted, "b.test", False)):
        found = judge_chain(name, chain, roots, NOW).findings
        ours = all(each.severity is Severity.OK for each in found)
        assert ours is good
        told = second_opinion(name, chain, roots, NOW)
        assert (not told) is good, told
