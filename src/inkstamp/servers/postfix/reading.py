"""Postfix's `main.cf` and `master.cf` (postconf(5), master(5)), with the positions of what they set."""

import re
from collections.abc import Callable, Iterator, Sequence
from itertools import pairwise

from msgspec import Struct

from inkstamp.servers.interface import Listen
from inkstamp.servers.text import LONGEST_LINE, MOST_VALUE, Directive, Tally, Texts, Word, lines_of, read_once
from inkstamp.view.upgrade import Upgrade

_PORTS = {"smtp": 25, "submission": 587, "smtps": 465, "submissions": 465}
_DEFAULTS = {
    "inet_interfaces": "all",
    "inet_protocols": "all",
    "smtpd_tls_security_level": "",
    "smtpd_use_tls": "no",
    "smtpd_enforce_tls": "no",
    "smtpd_tls_wrappermode": "no",
}
_YES = {"yes", "true"}
_MOST_STEPS = 20
_BLANK = " \t\r\v\f"


class Service(Struct, frozen=True):
    """One service of `master.cf` that speaks SMTP over the network."""

    line: Directive
    options: tuple[Directive, ...]
    """Its `-o name=value`: two words each."""


class Reading(Struct, frozen=True):
    """The two files."""

    texts: Texts
    main_file: str
    parameters: dict[str, Directive]
    """By name, the one that counts: two words, name and value."""
    services: tuple[Service, ...]

    def value(self, name: str, service: Service | None = None) -> str:
        """Return what a parameter is, for a service if one is named, with other parameters put in."""
        own = [each for each in (service.options if service else ()) if each.name == name]
        found = own[-1] if own else self.parameters.get(name)
        text = found.arguments[0] if found is not None else _DEFAULTS.get(name, "")
        for _ in range(_MOST_STEPS):
            wanted = re.search(r"\$(?:\{(\w+)\}|\((\w+)\)|(\w+))", text)
            if wanted is None:
                break
            known = self.parameters.get(next(filter(None, wanted.groups())))
            text = text[: wanted.start()] + (known.arguments[0] if known else "") + text[wanted.end() :]
            if len(text) > MOST_VALUE:
                break
        return " ".join(text.split())


def read_configuration(main_file: str, read_file: Callable[[str], bytes]) -> Reading:
    """Read `main.cf` and the `master.cf` beside it; ServerTrouble when one cannot be read."""
    texts = Texts()
    main = read_once(texts, main_file, None, read_file, "Postfix")
    beside = f"{main_file.rpartition('/')[0]}/master.cf"
    master = read_once(texts, beside, None, read_file, "Postfix")
    parameters = {each.name: each for each in _parameters(main, main_file)}
    return Reading(texts, main_file, parameters, tuple(_services(master, beside)))


def _logical_lines(text: str, file: str) -> Iterator[tuple[int, int, int]]:
    """Yield begin, end and number of each logical line: white space at its beginning continues the one before."""
    begin = end = number = -1
    tally = Tally()
    for count, at, line in lines_of(text, file):
        bare = line.strip(_BLANK)
        if bare and not bare.startswith("#"):
            if line[0] not in _BLANK and begin >= 0:
                tally.take(file, number, 3)
                yield begin, end, number
                begin = -1
            if begin < 0:
                begin, number = at, count
            end = at + len(line.rstrip(_BLANK))
    if begin >= 0:
        yield begin, end, number


def _parameters(text: str, file: str) -> Iterator[Directive]:
    for begin, end, number in _logical_lines(text, file):
        name, equals, value = text[begin:end].partition("=")
        if not equals:
            continue
        left = end - len(value.lstrip()) if value.strip() else end
        # Remarks within a value are no part of it.
        kept = "\n".join(line for line in value.strip().split("\n") if not line.strip().startswith("#"))
        words = (Word(name.strip(), begin, begin + len(name.rstrip())), Word(kept, left, end))
        yield Directive(words, None, file, number, begin, end)


def _services(text: str, file: str) -> Iterator[Service]:
    for begin, end, number in _logical_lines(text, file):
        found = [
            Word(each[0], begin + each.start(), begin + each.end())
            for each in re.finditer(r"\{[^{}]*\}|[^ \t\r\n\v\f]+", text[begin : min(end, begin + LONGEST_LINE)])
        ]
        if len(found) < 8 or found[1].value != "inet" or found[7].value not in {"smtpd", "postscreen"}:
            continue
        line = Directive(tuple(found), None, file, number, begin, end)
        yield Service(line, tuple(_options(found[8:], text, file, number)))


def _options(words: Sequence[Word], text: str, file: str, number: int) -> Iterator[Directive]:
    for before, word in pairwise(words):
        if before.value != "-o":
            continue
        inner = text[word.start : word.end].strip("{}")
        at = word.start + text[word.start : word.end].index(inner) if inner else word.start
        name, equals, value = inner.partition("=")
        if equals:
            start = at + len(name) + 1 + len(value) - len(value.lstrip())
            stop = start + len(value.strip())
            yield Directive(
                (Word(name.strip(), at, at + len(name)), Word(value.strip(), start, stop)),
                None, file, number, word.start, word.end,
            )  # fmt: skip


def listens(reading: Reading, service: Service) -> list[Listen]:
    """Return where a service answers, and whether and how TLS begins there."""
    text = service.line.name
    host, _, port_name = text.rpartition(":")
    port = (
        int(port_name)
        if port_name.isascii() and port_name.isdigit() and len(port_name) < 6
        else _PORTS.get(port_name, 0)
    )
    wrapped = reading.value("smtpd_tls_wrappermode", service) in _YES
    level = reading.value("smtpd_tls_security_level", service)
    asked = level not in {"", "none"} or bool(
        not level and {reading.value("smtpd_use_tls", service), reading.value("smtpd_enforce_tls", service)} & _YES
    )
    upgrade: Upgrade = "" if wrapped else "smtp"
    addresses = [host] if host else _addresses(reading)
    return [Listen(address=each, port=port, tls=wrapped or asked, upgrade=upgrade) for each in addresses]


def _addresses(reading: Reading) -> list[str]:
    """Return the addresses of `inet_interfaces`, as they are written elsewhere."""
    protocols = reading.value("inet_protocols")
    four, six = protocols != "ipv6", protocols in {"all", "ipv6", "ipv4, ipv6", "ipv6, ipv4"}
    found: list[str] = []
    for each in reading.value("inet_interfaces").replace(",", " ").split():
        if each in {"all", "loopback-only"}:
            every = ("*", "[::]") if each == "all" else ("127.0.0.1", "[::1]")
            found += [address for address, wanted in zip(every, (four, six), strict=True) if wanted]
        else:
            found.append(f"[{each.strip('[]')}]" if ":" in each else each)
    return found
