"""A listener of our own: proofs and nothing else, to whoever asks, for as long as it is open."""

import http.client
import socket
import subprocess
import time
from datetime import UTC, datetime
from pathlib import Path

import pytest
from cryptography import x509
from hypothesis import given
from hypothesis import strategies as st

from inkstamp.errors import ServerTrouble
from inkstamp.proof.listener import answer_files, answer_handshakes, where_to_listen
from inkstamp.proof.observation import look_at_handshake
from inkstamp.proof.tls_alpn import TlsProof, tls_proof
from inkstamp.proof.web_file import http_proof
from inkstamp.severity import Severity
from inkstamp.standins.nameserver import Nameserver
from inkstamp.standins.ports import free_ports
from inkstamp.view.point import View

NOW = datetime.now(UTC).replace(microsecond=0)
HERE = ("127.0.0.1", "::1")
PROOF = http_proof("a.test", "tok", "tok.thumb")
PATH = "/.well-known/acme-challenge/tok"


def ask(port: int, host: str, path: str = PATH, address: str = "127.0.0.1") -> tuple[int, bytes]:
    connection = http.client.HTTPConnection(address, port, timeout=5)
    connection.request("GET", path, headers={"Host": host})
    reply = connection.getresponse()
    body = reply.read()
    connection.close()
    return reply.status, body


def test_files_are_answered_under_their_name_and_path_and_the_port_is_given_back() -> None:
    (port,) = free_ports(1)
    six = http_proof("::1", "tok", "six")
    listener = answer_files(HERE, port, [PROOF, six])
    assert (
        ask(port, "a.test") == ask(port, f"A.test.:{port}") == ask(port, "a.test", address="::1") == (200, b"tok.thumb")
    )
    assert ask(port, f"[::1]:{port}", address="::1") == (200, b"six")
    for host, path in (("b.test", PATH), ("a.test", PATH + "x"), ("a.test", "/"), ("a.test", "/../../etc/passwd")):
        assert ask(port, host, path) == (404, b"no such proof\n")
    listener.close()
    with (
        socket.create_server(("127.0.0.1", port)),
        pytest.raises(ServerTrouble, match=rf"port {port} is taken by \S+ \(process"),
    ):
        answer_files(HERE, port, [PROOF])
    answer_files(HERE, port, [PROOF]).close()  # what failed half way left no port taken


def test_strangers_who_hold_connections_and_say_nothing_do_not_keep_the_ca_out() -> None:
    (port,) = free_ports(1)
    listener = answer_files(["127.0.0.1"], port, [PROOF])
    strangers = [socket.create_connection(("127.0.0.1", port)) for _ in range(150)]
    strangers[0].sendall(b"\x16\x03\x01 nonsense\r\n\r\n")
    began = time.monotonic()
    assert ask(port, "a.test") == (200, b"tok.thumb")
    assert time.monotonic() - began < 3
    listener.close()
    for each in strangers:
        each.close()


def shown_to_openssl(port: int, name: str, tmp_path: Path, *alpn: str) -> tuple[str, str]:
    """What the `openssl` program is shown: its report, and the certificate as text."""
    done = subprocess.run(
        ["openssl", "s_client", "-connect", f"127.0.0.1:{port}", "-servername", name, *alpn],
        input="", capture_output=True, text=True, timeout=20, check=False,
    )  # fmt: skip
    begin = done.stdout.find("-----BEGIN CERTIFICATE-----")
    if begin < 0:
        return done.stdout + done.stderr, ""
    file = tmp_path / "shown.pem"
    file.write_text(done.stdout[begin:])
    text = subprocess.run(
        ["openssl", "x509", "-in", str(file), "-noout", "-text"], capture_output=True, text=True, check=True
    ).stdout
    return done.stdout, text


def test_openssl_is_shown_the_certificate_of_rfc_8737_by_name_and_only_for_its_protocol(tmp_path: Path) -> None:
    (port,) = free_ports(1)
    proofs = [tls_proof("a.test", "tok.one", NOW), tls_proof("127.0.0.1", "tok.two", NOW)]
    listener = answer_handshakes(["127.0.0.1"], port, proofs)
    report, text = shown_to_openssl(port, "a.test", tmp_path, "-alpn", "acme-tls/1")
    assert "ALPN protocol: acme-tls/1" in report
    assert "DNS:a.test" in text
    assert "1.3.6.1.5.5.7.1.31: critical" in text
    _, text = shown_to_openssl(port, "1.0.0.127.in-addr.arpa", tmp_path, "-alpn", "acme-tls/1")  # RFC 8738 section 6
    assert "IP Address:127.0.0.1" in text
    report, text = shown_to_openssl(port, "a.test", tmp_path, "-alpn", "h2")
    assert "ALPN protocol" not in report
    listener.close()


def test_a_handshake_is_judged_as_the_ca_will(tmp_path: Path) -> None:
    http_port, https_port, dns_port = free_ports(3)
    view = View(resolver=("127.0.0.1", dns_port), http_port=http_port, https_port=https_port)
    mine, other = tls_proof("a.test", "tok.one", NOW), tls_proof("a.test", "tok.other", NOW)
    assert tmp_path.exists()
    with Nameserver(dns_port, {"a.test": ["127.0.0.1"]}):
        (refused,) = look_at_handshake(mine, view)
        listener = answer_handshakes(["127.0.0.1"], https_port, [mine])
        (seen,) = look_at_handshake(mine, view)
        (wrong,) = look_at_handshake(other, view)
        listener.close()
        (nobody,) = look_at_handshake(tls_proof("b.test", "x", NOW), view)
    assert [each.severity for each in (refused, seen, wrong, nobody)] == [
        Severity.BAD,
        Severity.OK,
        Severity.BAD,
        Severity.BAD,
    ]
    assert "Connection refused" in refused.seen
    assert "another certificate" in wrong.seen
    assert "NXDOMAIN" in nobody.seen


@given(st.sampled_from(["a.test", "xn--bcher-kva.test", "192.0.2.1", "2001:db8::1"]), st.text("abc.-_", min_size=1))
def test_a_proof_is_shown_by_its_own_certificate_and_by_no_other(name: str, authorization: str) -> None:
    proof = tls_proof(name, authorization, NOW)
    again = tls_proof(name, authorization, NOW)
    assert proof.is_shown_by(again.certificate)  # whatever key it has
    for other in (tls_proof(name, authorization + "x", NOW), tls_proof("z.test", authorization, NOW)):
        assert not proof.is_shown_by(other.certificate)
    assert "key" not in repr(proof)
    assert isinstance(proof, TlsProof)
    assert isinstance(proof.certificate, x509.Certificate)


@pytest.mark.parametrize(
    ("addresses", "bound"),
    [
        (["127.0.0.1"], ("127.0.0.1",)),
        (["127.0.0.1", "127.0.0.1", "::1"], ("127.0.0.1", "::1")),
        (["192.0.2.1"], ("0.0.0.0",)),
        (["127.0.0.1", "192.0.2.1", "::1"], ("0.0.0.0", "::1")),
        (["2001:db8::1", "::1", "127.0.0.1"], ("::", "127.0.0.1")),
        ([], ()),
    ],
)
def test_own_addresses_are_bound_one_by_one_and_a_foreign_one_means_all_of_its_family(
    addresses: list[str], bound: tuple[str, ...]
) -> None:
    assert where_to_listen(addresses) == bound


def test_the_ca_gets_through_beside_three_hundred_slow_strangers() -> None:
    (port,) = free_ports(1)
    listener = answer_files(HERE, port, [PROOF])
    strangers = []
    try:
        for number in range(300):
            stranger = socket.create_connection(("127.0.0.1", port), timeout=5)
            stranger.sendall(b"GET / HTTP/1.1\r\nX: ")
            strangers.append(stranger)
            if number % 60 == 0:
                assert ask(port, "a.test", address="::1") == (200, b"tok.thumb")
        assert ask(port, "a.test") == (200, b"tok.thumb")
    finally:
        for each in strangers:
            each.close()
        listener.close()


def test_a_stranger_who_drips_is_cut_off_after_ten_seconds_in_all(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("inkstamp.proof.listener._WHOLE", 0.5)
    (port,) = free_ports(1)
    listener = answer_files(HERE, port, [PROOF])
    began = time.monotonic()
    with socket.create_connection(("127.0.0.1", port), timeout=10) as stranger:
        stranger.sendall(b"GET / HTTP/1.1\r\nX: ")
        stranger.settimeout(0.05)
        while time.monotonic() - began < 10:
            try:
                stranger.sendall(b"a")
                if stranger.recv(100) == b"":
                    break
            except TimeoutError:
                continue
            except OSError:
                break
    assert time.monotonic() - began < 5
    listener.close()
