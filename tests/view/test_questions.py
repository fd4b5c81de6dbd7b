"""Questions to a DNS resolver: the short way over UDP, and what becomes of answers that are none."""

import socket
import socketserver
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager

import dns.exception
import dns.flags
import dns.message
import dns.query
import dns.rcode
import dns.resolver
import dns.rrset
import pytest
from dns.rdatatype import RdataType

from inkstamp.deadline import within
from inkstamp.standins.ports import free_ports
from inkstamp.view.point import View
from inkstamp.view.questions import ask, ask_each, make_resolver

Script = Callable[[dns.message.Message], list[bytes]]
"""Datagrams that answer a question."""


@contextmanager
def resolver_that(answers: Script, over_tcp: Script = lambda _: []) -> Iterator[tuple[View, list[dns.message.Message]]]:
    """A resolver on loopback that answers as the script says."""
    (port,) = free_ports(1)
    asked: list[dns.message.Message] = []

    class Datagram(socketserver.BaseRequestHandler):
        def handle(self) -> None:
            data, stream = self.request
            asked.append(dns.message.from_wire(data))
            for each in answers(asked[-1]):
                stream.sendto(each, self.client_address)

    class Stream(socketserver.BaseRequestHandler):
        def handle(self) -> None:
            question, _ = dns.query.receive_tcp(self.request)
            for each in over_tcp(question):
                self.request.sendall(len(each).to_bytes(2, "big") + each)

    place = ("127.0.0.1", port)
    with socketserver.UDPServer(place, Datagram) as udp, socketserver.TCPServer(place, Stream) as tcp:
        threads = [threading.Thread(target=each.serve_forever, args=(0.01,)) for each in (udp, tcp)]
        for each in threads:
            each.start()
        yield View(resolver=place), asked
        udp.shutdown()
        tcp.shutdown()
        for each in threads:
            each.join()


def answer(question: dns.message.Message, *records: str, rcode: int = 0, flags: int = 0) -> bytes:
    """Answer with records as zone files have them, and with what answers have beside these."""
    made = dns.message.make_response(question)
    made.flags |= flags
    made.set_rcode(dns.rcode.Rcode(rcode))
    for each in records:
        name, kind, value = each.split(" ", 2)
        made.answer.append(dns.rrset.from_text(name, 60, "IN", kind, value))
    soa = "ns1.site.test. host.site.test. 1 60 60 3600 60"
    made.authority.append(dns.rrset.from_text("site.test.", 60, "IN", "SOA", soa))
    made.additional.append(dns.rrset.from_text("ns1.site.test.", 60, "IN", "A", "127.0.0.1"))
    return made.to_wire()


def of_type(question: dns.message.Message, **records: str) -> bytes:
    kind = RdataType.to_text(question.question[0].rdtype)
    return answer(question, *([f"site.test. {kind} {records[kind]}"] if kind in records else []))


def test_the_types_of_a_name_are_asked_for_in_one_go_and_each_has_its_own_answer() -> None:
    with resolver_that(lambda asked: [of_type(asked, A="127.0.0.1", TXT='"one" "two"')]) as (view, asked):
        resolver = make_resolver(view)
        six, four, text = ask_each(resolver, "site.test", (RdataType.AAAA, RdataType.A, RdataType.TXT))
    assert (six.known, six.records, six.trouble) == (True, (), "")
    assert [each.address for each in four.records] == ["127.0.0.1"]
    assert [each.strings for each in text.records] == [(b"one", b"two")]
    assert len(asked) == len({each.id for each in asked}) == 3


def test_an_alias_is_followed_as_far_as_the_answer_does_and_a_name_that_does_not_exist_is_told() -> None:
    def script(asked: dns.message.Message) -> list[bytes]:
        if asked.question[0].name.to_text() == "none.site.test.":
            return [answer(asked, rcode=dns.rcode.NXDOMAIN)]
        return [answer(asked, "site.test. CNAME www.site.test.", "www.site.test. A 127.0.0.7")]

    with resolver_that(script) as (view, _):
        resolver = make_resolver(view)
        assert [each.address for each in ask(resolver, "site.test", RdataType.A).records] == ["127.0.0.7"]
        none = ask(resolver, "none.site.test", RdataType.A)
    assert (none.known, none.records, none.trouble) == (True, (), "none.site.test does not exist in DNS (NXDOMAIN)")


def test_signatures_count_as_good_where_the_resolver_says_so() -> None:
    for flag in (dns.flags.AD, 0):
        with resolver_that(lambda asked, flag=flag: [answer(asked, flags=flag)]) as (view, _):  # type: ignore[misc]
            assert ask(make_resolver(view), "site.test", RdataType.A).secure is bool(flag)


def changed(wire: bytes, at: int, value: int) -> bytes:
    return wire[:at] + bytes([wire[at] ^ value]) + wire[at + 1 :]


@pytest.mark.parametrize(
    "forged",
    [
        lambda asked: changed(answer(asked, "site.test. A 127.0.0.66"), 1, 0xFF),  # another identifier
        lambda asked: changed(answer(asked, "site.test. A 127.0.0.66"), 14, 0x01),  # of another name
        lambda asked: answer(asked, "site.test. A 127.0.0.66")[:7],  # shorter than a header
        lambda _: b"",
    ],
    ids=["identifier", "question", "cut", "empty"],
)
def test_what_does_not_answer_our_question_is_passed_over(forged: Callable[[dns.message.Message], bytes]) -> None:
    with resolver_that(lambda asked: [forged(asked), answer(asked, "site.test. A 127.0.0.1")]) as (view, _):
        found = ask(make_resolver(view), "site.test", RdataType.A)
    assert [each.address for each in found.records] == ["127.0.0.1"]


@pytest.mark.parametrize(
    "broken",
    [
        lambda asked: answer(asked, "site.test. A 127.0.0.66", flags=dns.flags.TC),  # does not fit
        lambda asked: changed(answer(asked, "site.test. A 127.0.0.66"), 2, 0x80),  # no answer at all
        lambda asked: changed(answer(asked, "site.test. A 127.0.0.66"), 38, 0xFF),  # cannot be read
    ],
    ids=["truncated", "a question", "malformed"],
)
def test_an_answer_that_cannot_be_taken_as_it_is_is_asked_for_again(
    broken: Callable[[dns.message.Message], bytes],
) -> None:
    def script(asked: dns.message.Message) -> list[bytes]:
        numbers.append(asked.id)
        return [broken(asked) if len(numbers) == 1 else answer(asked, "site.test. A 127.0.0.1", flags=again)]

    numbers: list[int] = []
    again = dns.flags.TC if broken(dns.message.make_query("site.test.", "A"))[2] & 0x02 else 0
    with resolver_that(script, lambda asked: [answer(asked, "site.test. A 127.0.0.1")]) as (view, _):
        found = ask(make_resolver(view), "site.test", RdataType.A)
    assert [each.address for each in found.records] == ["127.0.0.1"], found


def test_a_resolver_that_fails_or_floods_or_keeps_silent_is_told_within_the_time_there_is() -> None:
    failed: Script = lambda asked: [answer(asked, rcode=dns.rcode.SERVFAIL)]  # noqa: E731
    flood: Script = lambda asked: [changed(answer(asked), 1, 0xFF)] * 200  # noqa: E731
    for script, told in ((failed, "SERVFAIL"), (flood, "gave no answer"), (lambda _: [], "gave no answer")):
        with resolver_that(script) as (view, _), within(1.5):
            began = time.monotonic()
            found = ask(make_resolver(view), "site.test", RdataType.A)
            assert time.monotonic() - began < 5
        assert not found.known
        assert told in found.trouble


def test_the_second_resolver_is_asked_where_the_first_keeps_silent() -> None:
    with resolver_that(lambda asked: [of_type(asked, A="127.0.0.1")]) as (view, _):
        resolver = make_resolver(view)
        silent = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        silent.bind(("127.0.0.9", resolver.port))
        resolver.nameservers, resolver.timeout = ["127.0.0.9", "127.0.0.1"], 0.2
        with silent:
            found = ask(resolver, "site.test", RdataType.A)
    assert [each.address for each in found.records] == ["127.0.0.1"]


def test_where_nobody_listens_it_is_not_waited_as_long_as_for_one_that_is_slow(monkeypatch: pytest.MonkeyPatch) -> None:
    given: list[float] = []

    def resolve(*_: object, lifetime: float, **__: object) -> None:
        given.append(lifetime)
        raise dns.exception.Timeout

    monkeypatch.setattr(dns.resolver.Resolver, "resolve", resolve)
    (port,) = free_ports(1)
    nobody = make_resolver(View(resolver=("127.0.0.1", port)))
    found = ask(nobody, "site.test", RdataType.A)
    assert not found.known
    assert "gave no answer" in found.trouble
    with resolver_that(lambda question: [answer(question, rcode=dns.rcode.SERVFAIL)]) as (view, _):
        ask(make_resolver(view), "site.test", RdataType.A)
    assert given[0] <= 2.0 < given[1]
