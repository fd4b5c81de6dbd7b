"""Ask authoritative nameservers directly, and watch until all of them have what is waited for."""

from collections.abc import Iterable

import dns.exception
import dns.flags
import dns.message
import dns.query
import dns.rcode
import dns.rdatatype
from msgspec import Struct

from inkstamp.bulkhead import side_by_side
from inkstamp.clock import Clock
from inkstamp.deadline import poll, time_left, within
from inkstamp.printable import one_line
from inkstamp.view.zones import Zone

_SECONDS = 2.0
"""For one question to one server, retried over TCP where the answer is cut off."""
_AT_ONCE = 16
_ROUND_SECONDS = 30.0
"""For asking all that are left once: those of a zone that keep silent must not hold up the others."""
_SHOWN = 200
_PAUSE = 0.4
"""Seconds between two rounds: waiting ends well within a second of the last server having it."""


class Sought(Struct, frozen=True):
    """A value that every nameserver of a zone should answer with."""

    zone: Zone
    name: str
    kind: str
    """`TXT`, `CNAME` or `CAA`."""
    value: str
    """Of CAA as zone files have it."""


class ServerAnswer(Struct, frozen=True):
    """What one nameserver answered."""

    host: str
    address: str
    values: tuple[str, ...]
    ttl: int
    """Seconds, of the records; 0 when there are none."""
    trouble: str
    """Why there is no answer, as a sentence; empty when there is one."""

    def has(self, sought: Sought) -> bool:
        """Tell whether the value is among the answers."""
        if sought.kind in {"TXT", "CAA", "TLSA"}:
            return sought.value in self.values
        return sought.value.rstrip(".").lower() in self.values


def ask_server(host: str, address: str, port: int, name: str, kind: str) -> ServerAnswer:
    """Ask one nameserver for `name`, without recursion; nothing is raised for trouble."""
    query = dns.message.make_query(name + ".", kind, flags=0, use_edns=0)
    left = time_left(_SECONDS)
    if not left:
        return ServerAnswer(host, address, (), 0, "was not asked: no time was left")
    try:
        reply, _ = dns.query.udp_with_fallback(query, address, timeout=left, port=port)
    except dns.exception.Timeout:
        return ServerAnswer(host, address, (), 0, f"gave no answer within {_SECONDS:.0f} s")
    except (dns.exception.DNSException, OSError, ValueError) as error:
        return ServerAnswer(host, address, (), 0, f"gave no usable answer: {one_line(str(error), _SHOWN)}")
    if reply.rcode() not in {dns.rcode.NOERROR, dns.rcode.NXDOMAIN}:
        return ServerAnswer(host, address, (), 0, f"answered {dns.rcode.to_text(reply.rcode())}")
    if not reply.flags & dns.flags.AA:
        return ServerAnswer(host, address, (), 0, "does not answer with authority for the zone (lame delegation)")
    wanted = dns.rdatatype.from_text(kind)
    sets = [each for each in reply.answer if each.rdtype == wanted and each.name == query.question[0].name]
    values = [_text(record, kind) for each in sets for record in each]
    return ServerAnswer(host, address, tuple(values), min((each.ttl for each in sets), default=0), "")


def _text(record: object, kind: str) -> str:
    if kind == "TXT":
        return b"".join(getattr(record, "strings", ())).decode("utf-8", "replace")
    target = getattr(record, "target", None)
    return str(record) if target is None else str(target.to_text(omit_final_dot=True)).lower()


def watch(sought: Iterable[Sought], port: int, clock: Clock, seconds: float) -> dict[Sought, list[ServerAnswer]]:
    """Ask every nameserver until all answer with all that is sought, for so many seconds at most.

    Returns:
        For each thing sought the last answer of each nameserver; only those that lack it are asked again.

    """
    missing: list[tuple[Sought, str, str]] = [
        (each, host, address) for each in dict.fromkeys(sought) for host, address in each.zone.servers
    ]
    answers: dict[tuple[Sought, str], ServerAnswer] = {}

    def ask(wanted: tuple[Sought, str, str]) -> ServerAnswer:
        each, host, address = wanted
        return ask_server(host, address, port, each.name, each.kind)

    for _ in poll(clock, pause=_PAUSE, seconds=seconds):
        with within(_ROUND_SECONDS):
            told = side_by_side(ask, missing, _AT_ONCE)
        for (each, _, address), answer in zip(missing, told, strict=True):
            answers[each, address] = answer
        missing = [known for known, answer in zip(missing, told, strict=True) if not answer.has(known[0])]
        if not missing:
            break
    found: dict[Sought, list[ServerAnswer]] = {}
    for (each, _), answer in answers.items():
        found.setdefault(each, []).append(answer)
    return found
