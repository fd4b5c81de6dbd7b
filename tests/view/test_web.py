"""Fetching as a CA does: redirects followed, every answer bounded, all trouble told in words."""

import socket
import threading
import time
import zlib
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
from msgspec.structs import replace

from inkstamp.errors import NetworkTrouble, ProofFailed
from inkstamp.standins.nameserver import Nameserver
from inkstamp.standins.ports import free_ports
from inkstamp.view.addresses import AddressBook, address_book
from inkstamp.view.fetch import download
from inkstamp.view.handshake import shake_hands
from inkstamp.view.point import View, is_own_address
from inkstamp.view.web import fetch
from inkstamp.view.zones import Zones

URL = "http://site.test/.well-known/acme-challenge/tok"
Script = Callable[[bytes], list[bytes]]


@contextmanager
def scripted(answer: Script, *, pause: float = 0.0) -> Iterator[tuple[View, list[bytes]]]:
    """A server that answers each request with the pieces of `answer`, and a view in which it is the whole public."""
    http_port, dns_port = free_ports(2)
    requests: list[bytes] = []
    listener = socket.create_server(("127.0.0.1", http_port))

    def serve() -> None:
        while True:
            try:
                stream, _ = listener.accept()
            except OSError:
                return
            with stream:
                requests.append(stream.recv(4096))
                try:
                    for piece in answer(requests[-1]):
                        stream.sendall(piece)
                        time.sleep(pause)
                except OSError:
                    continue

    threading.Thread(target=serve, daemon=True).start()
    table = {"site.test": ["127.0.0.1"], "www.site.test": ["127.0.0.1"]}
    try:
        with Nameserver(dns_port, table):
            # Roots of its own, though there are none: its network is a private one, where redirects may lead.
            own = Path("no-roots.pem")
            yield View(resolver=("127.0.0.1", dns_port), http_port=http_port, https_port=1, roots=own), requests
    finally:
        listener.close()


def reply(status: str, body: bytes = b"", *headers: str) -> list[bytes]:
    head = "\r\n".join([f"HTTP/1.1 {status}", f"Content-Length: {len(body)}", "Connection: close", *headers])
    return [head.encode() + b"\r\n\r\n" + body]


def test_the_request_names_the_site_and_goes_to_the_address_that_was_chosen() -> None:
    with scripted(lambda _: reply("200 OK", b"tok.thumb")) as (view, requests):
        sight = fetch(URL, "127.0.0.1", view)
    assert (sight.status, sight.body, sight.hops) == (200, b"tok.thumb", (URL,))
    head = requests[0].decode().lower()
    assert head.startswith("get /.well-known/acme-challenge/tok http/1.1")
    assert "host: site.test\r\n" in head


def test_a_redirect_is_followed_by_name() -> None:
    def answer(request: bytes) -> list[bytes]:
        if b"www.site.test" in request:
            return reply("200 OK", b"here")
        return reply("301 Moved", b"", "Location: //www.site.test/other")

    with scripted(answer) as (view, _):
        sight = fetch(URL, "127.0.0.1", view)
    assert sight.hops == (URL, "http://www.site.test/other")
    assert sight.body == b"here"


@pytest.mark.parametrize(
    ("location", "told"),
    [
        (URL, "circle"),
        ("http://nobody.test/", "NXDOMAIN"),
        ("ftp://site.test/x", "no web address"),
        ("javascript:alert(1)", "no web address"),
        ("http://site.test:2/x", "redirected to port 2, where CAs do not follow"),
        ("https://site.test/x", "no connection: Connection refused"),
        ("http://127.0.0.1/x", "redirected to the address 127.0.0.1"),
        ("http://site.test:99999999/x", "no web address"),
    ],
)
def test_a_redirect_that_leads_nowhere_is_told(location: str, told: str) -> None:
    with scripted(lambda _: reply("302 Found", b"", f"Location: {location}")) as (view, _):
        sight = fetch(URL, "127.0.0.1", view)
    assert told in sight.trouble
    assert sight.body == b""


def test_redirects_without_end_are_given_up() -> None:
    counter = iter(range(100))
    with scripted(lambda _: reply("302 Found", b"", f"Location: /{next(counter)}")) as (view, requests):
        sight = fetch(URL, "127.0.0.1", view)
    assert "more than 10 redirects" in sight.trouble
    assert len(requests) == 10


@pytest.mark.parametrize("wbits", [31, 15], ids=["gzip", "deflate"])
def test_a_body_that_comes_packed_is_unpacked_and_no_further_than_it_is_read(wbits: int) -> None:
    packer = zlib.compressobj(wbits=wbits)
    packed = packer.compress(b"tok.thumb" + bytes(10_000_000)) + packer.flush()
    coding = f"Content-Encoding: {'gzip' if wbits == 31 else 'deflate'}"
    with scripted(lambda _: reply("200 OK", packed, coding)) as (view, _):
        sight = fetch(URL, "127.0.0.1", view)
    assert (sight.trouble, sight.body[:9], len(sight.body)) == ("", b"tok.thumb", 65_536)


def test_an_answer_without_end_is_cut_off() -> None:
    endless = [b"HTTP/1.1 200 OK\r\n\r\n", *[b"x" * 65_536] * 200]
    with scripted(lambda _: endless) as (view, _):
        sight = fetch(URL, "127.0.0.1", view)
    assert sight.status == 200
    assert len(sight.body) == 65_536


@pytest.mark.parametrize(
    "pieces",
    [[b"SSH-2.0-OpenSSH_9\r\n"], [b"HTTP/1.1 200 OK\r\nContent-Length: 50\r\n\r\nshort"], [b""],
     [b"HTTP/1.1 abc\r\n\r\n"], [b"\x15\x03\x01\x00\x02\x02\x46"]],
    ids=["another protocol", "cut short", "closed", "no status", "tls"],
)  # fmt: skip
def test_what_is_no_http_is_told_and_nothing_is_raised(pieces: list[bytes]) -> None:
    with scripted(lambda _: pieces) as (view, _):
        sight = fetch(URL, "127.0.0.1", view)
    assert sight.trouble.startswith("no proper answer")


def test_a_silent_server_is_given_up_after_seconds(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("inkstamp.view.web._SECONDS", 0.2)
    with scripted(lambda _: [b"HTTP/1.1 200 OK\r\n", b"X: y\r\n"], pause=1) as (view, _):
        sight = fetch(URL, "127.0.0.1", view)
    assert "no answer within" in sight.trouble


def test_an_address_of_a_family_without_a_way_is_not_held_against_the_site(monkeypatch: pytest.MonkeyPatch) -> None:
    def unreachable(*_: object, **__: object) -> None:
        raise OSError(101, "Network is unreachable")

    monkeypatch.setattr(socket.socket, "connect", unreachable)
    sight = fetch(URL, "2001:db8::1", View())
    assert sight.no_route
    assert "Network is unreachable" in sight.trouble


def test_addresses_are_asked_for_once_in_a_while_and_every_answer_is_told_in_words() -> None:
    (port,) = free_ports(1)
    table: dict[str, list[str]] = {"six.test": ["::1", "127.0.0.2", "127.0.0.1"], "none.test": []}
    view = View(resolver=("127.0.0.1", port))
    book = AddressBook(view)
    with Nameserver(port, table) as server:
        found = book.look_up("six.test")
        assert found.all == ("::1", "127.0.0.1", "127.0.0.2")
        asked = server.asked
        assert book.look_up("six.test") == found
        assert server.asked == asked
        assert book.look_up("none.test").trouble == "none.test exists in DNS and has no address"
        assert "NXDOMAIN" in book.look_up("gone.test").trouble
        table["gone.test"] = server.table["gone.test"] = ["127.0.0.1"]
        assert book.look_up("gone.test").all == ("127.0.0.1",)  # what failed is asked for anew
    assert address_book(view) is address_book(view)


def test_a_handshake_that_fails_is_told_in_words(monkeypatch: pytest.MonkeyPatch) -> None:
    (port,) = free_ports(1)
    assert "Connection refused" in shake_hands("127.0.0.1", port, "site.test").trouble
    with scripted(lambda _: [b"HTTP/1.1 400 Bad Request\r\n\r\n"]) as (view, _):
        served = shake_hands("127.0.0.1", view.http_port, "site.test")
    assert served.trouble.startswith("TLS failed")
    assert served.chain == ()
    monkeypatch.setattr("inkstamp.view.handshake._PATIENCE", 0.2)
    with scripted(lambda _: [], pause=0) as (view, _), socket.create_server(("127.0.0.1", 0)) as silent:
        told = shake_hands("127.0.0.1", silent.getsockname()[1], "site.test").trouble
        assert "no TLS answer within" in told or "no answer within" in told


def test_a_handshake_with_a_family_that_this_machine_has_no_way_to_says_just_that(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    def unreachable(*_: object, **__: object) -> None:
        raise OSError(101, "Network is unreachable")

    monkeypatch.setattr(socket.socket, "connect", unreachable)
    served = shake_hands("2001:db8::1", 443, "site.test")
    assert served.no_route
    assert "Network is unreachable" in served.trouble


def test_own_addresses_are_told_from_others() -> None:
    assert is_own_address("127.0.0.1")
    assert not is_own_address("192.0.2.1")
    assert not is_own_address("2001:db8::1")


@pytest.mark.parametrize("onward", ["http://www.site.test/x", "http://127.0.0.1/x", "http://[::1]/x"])
def test_in_the_public_view_no_redirect_leads_to_an_address_inside_of_our_own_network(onward: str) -> None:
    with scripted(lambda _: reply("302 Found", b"", f"Location: {onward}")) as (view, requests):
        sight = fetch(URL, "127.0.0.1", replace(view, roots=None))
    assert len(requests) == 1
    assert "not one of the public Internet" in sight.trouble or "where CAs do not follow" in sight.trouble
    assert sight.internal, "what a site's own private address says is not for strangers' eyes"


@pytest.mark.parametrize("location", ["http://[", "http://[::1", "//[", "http://a:x/", "http://a:99999/"])
def test_a_redirect_to_what_is_no_url_is_told_and_not_followed(location: str) -> None:
    with scripted(lambda _: reply("301 Moved", b"", f"Location: {location}")) as (view, _):
        sight = fetch(URL, "127.0.0.1", view)
    assert sight.trouble
    assert len(sight.hops) == 2


RHYTHMS = {
    "a header without end": [b"HTTP/1.1 200 OK\r\nX: ", *[b"a"] * 400],
    "headers without end": [b"HTTP/1.1 200 OK\r\n", *[b"X: a\r\n"] * 400],
    "continue, continue": [b"HTTP/1.1 100 Continue\r\n\r\n"] * 400,
    "a chunk's size without end": [b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n", *[b"0"] * 400],
    "a chunk's extension without end": [b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n1;", *[b"x"] * 400],
    "trailers without end": [b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n", *[b"X: a\r\n"] * 400],
    "a body without end": [b"HTTP/1.1 200 OK\r\n\r\n", *[b"a"] * 400],
    "silence": [b"", *[b""] * 400],
}


@pytest.mark.parametrize("rhythm", RHYTHMS)
def test_a_look_has_one_end_in_whatever_rhythm_a_server_answers(rhythm: str) -> None:
    with scripted(lambda _: RHYTHMS[rhythm], pause=0.02) as (view, _):
        began = time.monotonic()
        sight = fetch(URL, "127.0.0.1", view, seconds=0.6)
    assert time.monotonic() - began < 3
    assert sight.trouble


def test_a_flood_is_cut_off_by_its_bytes() -> None:
    flood = [b"HTTP/1.1 200 OK\r\n", *[b"X-%d: " % number + b"a" * 60_000 + b"\r\n" for number in range(90)]]
    with scripted(lambda _: flood) as (view, _):
        assert fetch(URL, "127.0.0.1", view).trouble


@pytest.mark.parametrize(
    ("url", "told"),
    [
        ("http://127.0.0.1/ca.der", "not one of the public Internet"),
        ("http://[::ffff:10.0.0.1]/ca.der", "not one of the public Internet"),
        ("http://site.test/ca.der", "not one of the public Internet"),
        ("http://192.31.196.9:8080/ca.der", "port 8080 is not one of the web's"),
        ("http://192.31.196.9:22/ca.der", "port 22 is not one of the web's"),
        ("http://[", ""),
        ("gopher://site.test/", "no address of the web"),
    ],
)
def test_no_certificate_has_us_ask_inside_of_our_own_network_or_at_another_port(url: str, told: str) -> None:
    with scripted(lambda _: reply("200 OK", b"inside")) as (view, requests):
        with pytest.raises(NetworkTrouble) as caught:
            download(url, replace(view, roots=None))
        assert told in caught.value.said
        assert requests == []


def test_a_zone_with_many_silent_nameservers_is_given_up_in_one_time(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("inkstamp.view.zones._ZONE_SECONDS", 1.0)
    (port,) = free_ports(1)

    class Silent(Nameserver):
        def answer(self, data: bytes, limit: int) -> bytes:
            return b"" if data[13:15] == b"ns" else super().answer(data, limit)

    with Silent(port, {}) as nameserver:
        nameserver.records["zone.test", "SOA"] = ["ns0.zone.test. a.zone.test. 1 1 1 1 1"]
        nameserver.records["zone.test", "NS"] = [f"ns{number}.zone.test." for number in range(64)]
        began = time.monotonic()
        with pytest.raises(ProofFailed):
            Zones(View(resolver=("127.0.0.1", port))).of("zone.test")
        assert time.monotonic() - began < 5
