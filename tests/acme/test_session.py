"""Conversations with a CA that break: told in words, repeated where that is safe, never where it is not."""

import re
import socket
import ssl
import threading
import time
from collections import deque
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
from authority_of_tests import NOW
from hand_clock import HandClock
from world import make_tls_pair

from inkstamp.acme import problems
from inkstamp.acme.resources import Problem
from inkstamp.acme.session import Reply, Session, Signer
from inkstamp.errors import CaMisbehaved, CaProblem, ConfigurationError, NetworkTrouble
from inkstamp.pki import keys
from inkstamp.pki.kinds import KeyKind

SIGNER = Signer(keys.make(KeyKind.ECDSA_P256), "https://localhost/account/1")
NONCE = "Replay-Nonce: bm9uY2U"


def reply(status: str, body: bytes = b"{}", *headers: str) -> bytes:
    head = "\r\n".join([f"HTTP/1.1 {status}", f"Content-Length: {len(body)}", NONCE, *headers])
    return head.encode() + b"\r\n\r\n" + body


def whole_request(stream: ssl.SSLSocket) -> bytes:
    """Read one request, head and body; empty when the client is done."""
    data = b""
    while b"\r\n\r\n" not in data:
        piece = stream.recv(65_536)
        if not piece:
            return b""
        data += piece
    head, _, body = data.partition(b"\r\n\r\n")
    length = re.search(rb"content-length: (\d+)", head.lower())
    while length and len(body) < int(length[1]):
        body += stream.recv(65_536)
    return head


@contextmanager
def scripted(folder: Path, answers: list[bytes]) -> Iterator[tuple[Session, HandClock, list[str]]]:
    """A CA over TLS that gives these answers, one a request; an empty one hangs up instead."""
    cert, key = make_tls_pair(folder, "localhost")
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(cert, key)
    listener = socket.create_server(("127.0.0.1", 0))
    port = listener.getsockname()[1]
    asked: list[str] = []
    directory = b'{"newNonce":"https://localhost:%d/n","newAccount":"https://localhost:%d/a","newOrder":"x"}'

    def serve() -> None:
        while True:
            try:
                plain, _ = listener.accept()
                stream = context.wrap_socket(plain, server_side=True)
            except OSError:
                return
            with stream:
                while (request := whole_request(stream)) and answers:
                    asked.append(request.split(b"\r\n")[0].decode().rpartition(" ")[0])
                    if request.startswith(b"GET"):
                        stream.sendall(reply("200 OK", directory % (port, port)))
                        continue
                    answer = answers.pop(0)
                    if not answer:
                        break
                    stream.sendall(answer)

    threading.Thread(target=serve, daemon=True).start()
    clock = HandClock(NOW)
    session = Session(f"https://localhost:{port}/directory", trust=cert, clock=clock)
    session.directory()
    try:
        yield session, clock, asked
    finally:
        session.close()
        listener.close()


def post(session: Session, *, repeatable: bool = True) -> Reply:
    return session.post(
        "order", session.directory_url.replace("directory", "order"), None, SIGNER, repeatable=repeatable
    )


def test_a_connection_that_breaks_is_made_anew_where_repeating_is_harmless(tmp_path: Path) -> None:
    with scripted(tmp_path, [b"", reply("200 OK")]) as (session, clock, asked):
        session._nonces.extend(["one", "two"])
        assert post(session).status == 200
    assert asked.count("POST /order") == 2
    assert clock.slept == [1.0]


def test_an_order_is_never_asked_for_twice_because_a_connection_broke(tmp_path: Path) -> None:
    with (
        scripted(tmp_path, [b"", reply("200 OK")]) as (session, clock, asked),
        pytest.raises(NetworkTrouble, match="the connection broke") as caught,
    ):
        post(session, repeatable=False)
    assert asked.count("POST /order") == 1
    assert "run the command again" in caught.value.advice
    assert clock.slept == []


def test_trouble_is_waited_out_with_growing_pauses_and_given_up_at_last(tmp_path: Path) -> None:
    busy = reply("503 Busy", b"<h1>busy</h1>", "Content-Type: text/html")
    with scripted(tmp_path, [busy] * 20) as (session, clock, _), pytest.raises(CaProblem, match="503") as caught:
        post(session)
    assert clock.slept == [1.0, 2.0, 4.0, 8.0, 16.0, 30.0]
    assert "<h1>busy</h1>" in caught.value.said


def test_a_refusal_is_not_repeated(tmp_path: Path) -> None:
    body = b'{"type":"urn:ietf:params:acme:error:unauthorized","detail":"no"}'
    answers = [reply("403 No", body, "Content-Type: application/problem+json"), reply("200 OK")]
    with scripted(tmp_path, answers) as (session, clock, _), pytest.raises(CaProblem) as caught:
        post(session)
    assert (caught.value.kind, caught.value.status, clock.slept) == ("unauthorized", 403, [])


def test_a_nonce_that_a_thread_asks_for_is_taken_by_no_other(tmp_path: Path) -> None:
    class Raided(deque[str]):
        def append(self, _nonce: str, /) -> None:
            """Lose it: another thread is faster."""

    with scripted(tmp_path, [reply("200 OK", b""), reply("200 OK")]) as (session, _, asked):
        session._nonces = Raided()
        assert post(session).status == 200
    assert asked[1:] == ["HEAD /n", "POST /order"]


def test_a_ca_that_takes_no_nonce_is_given_up(tmp_path: Path) -> None:
    body = b'{"type":"urn:ietf:params:acme:error:badNonce"}'
    stale = reply("400 Bad", body, "Content-Type: application/problem+json")
    with (
        scripted(tmp_path, [stale] * 50) as (session, _, asked),
        pytest.raises(CaMisbehaved, match="rejects its own nonces"),
    ):
        post(session)
    assert asked.count("POST /order") == 20


@pytest.mark.parametrize(
    ("headers", "relation", "links"),
    [
        (['Link: <https://ca.test/2>;rel="alternate"'], "alternate", ("https://ca.test/2",)),
        (['Link: <a>; rel=up, <b>;rel="alternate"', 'Link: <c>;title="x, y";rel=alternate'], "alternate", ("/b", "/c")),
        (['Link: <a>;rel="next"'], "alternate", ()),
        ([], "next", ()),
    ],
)
def test_links_are_found_by_their_relation(
    tmp_path: Path, headers: list[str], relation: str, links: tuple[str, ...]
) -> None:
    """RFC 8288: one header or several, quoted or not."""
    with scripted(tmp_path, [reply("200 OK", b"{}", *headers)]) as (session, _, _asked):
        found = post(session).links(relation)
        base = session.directory_url.removesuffix("/directory")
        assert found == tuple(f"{base}{each}" if each.startswith("/") else each for each in links), "absolute ones"


@pytest.mark.parametrize("url", ["http://ca.test/d", "ca.test", "file:///etc/passwd", ""])
def test_only_https_is_spoken(tmp_path: Path, url: str) -> None:
    with pytest.raises(ConfigurationError, match="not https"):
        Session(url, trust=None, clock=HandClock(NOW))
    with scripted(tmp_path, [b"unused"]) as (session, _, _asked), pytest.raises(CaMisbehaved, match="not https"):
        session.post("order", url, None, SIGNER)


@pytest.mark.parametrize("place", ["https://ca.test:{}/a", "https://ca{}.test/a"], ids=["ports", "hosts"])
def test_a_ca_that_names_ever_more_places_is_asked_at_sixteen_and_no_more(place: str) -> None:
    session = Session("https://ca.test/directory", trust=None, clock=HandClock(NOW))
    for number in range(16):
        assert session._way_to(place.format(7000 + number))
    assert session._way_to(place.format(7000)), "one that is known"
    with pytest.raises(CaMisbehaved, match="more than 16 hosts"):
        session._way_to(place.format(8000))


def test_a_ca_that_hangs_is_waited_for_no_longer_than_patience_has_it(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("inkstamp.acme.session._READ_SECONDS", 0.2)
    head = f"HTTP/1.1 200 OK\r\n{NONCE}\r\nContent-Length: 100\r\n\r\n".encode()  # and nothing more
    began = time.monotonic()
    with (
        scripted(tmp_path, [head] * 20) as (session, clock, asked),
        pytest.raises(NetworkTrouble, match="stopped") as end,
    ):
        post(session)
    assert time.monotonic() - began < 10
    assert sum(clock.slept) <= 90
    assert asked.count("POST /order") == len(clock.slept) + 1
    assert "resumes where it stopped" in end.value.advice


@pytest.mark.parametrize("kind", sorted(problems._ADVICE))
def test_every_problem_that_is_registered_has_advice_of_its_own_and_unknown_ones_are_shown_whole(kind: str) -> None:
    """RFC 8555 section 6.7, and what RFC 8739, 9115, 9773, 9799 and profiles have registered since."""
    known = Problem(type=f"urn:ietf:params:acme:error:{kind}", detail="tide tables")
    told = problems.as_error(known, "refused", where="x")
    assert told.kind == kind
    assert told.said == f"{kind}: tide tables"
    assert len(told.advice) > 15
    moon = "https://ca.test/problems/moon"
    strange = Problem(type=moon, title="Moon", detail="wrong phase", instance="https://ca.test/m")
    shown = problems.as_error(strange, "refused", where="x", links=("https://ca.test/help",))
    for each in (moon, "wrong phase", "https://ca.test/m", "https://ca.test/help"):
        assert each in shown.said


def test_no_registered_problem_lacks_advice() -> None:
    of_the_rfc = """accountDoesNotExist alreadyRevoked badCSR badNonce badPublicKey badRevocationReason
        badSignatureAlgorithm caa compound connection dns externalAccountRequired incorrectResponse invalidContact
        malformed orderNotReady rateLimited rejectedIdentifier serverInternal tls unauthorized unsupportedContact
        unsupportedIdentifier userActionRequired"""
    since = """autoRenewalCanceled autoRenewalExpired autoRenewalCancellationInvalid autoRenewalRevocationNotSupported
        unknownDelegation alreadyReplaced onionCAARequired invalidProfile"""
    assert set(f"{of_the_rfc} {since}".split()) == set(problems._ADVICE)
