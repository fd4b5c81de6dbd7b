"""What a Dovecot configuration says of TLS: certificates by name, and where it listens."""

import functools
import posixpath
from collections.abc import Callable, Iterator

from msgspec import Struct

from inkstamp.servers.dovecot.syntax import parse
from inkstamp.servers.interface import Listen
from inkstamp.servers.text import Directive, Tally, Texts, read_once
from inkstamp.view.upgrade import Upgrade

_USUAL: dict[str, tuple[tuple[str, int, bool], ...]] = {
    "imap": (("imap", 143, False), ("imaps", 993, True)),
    "pop3": (("pop3", 110, False), ("pop3s", 995, True)),
    "submission": (("submission", 587, False),),
}
"""By protocol, its listeners: name, port, whether TLS begins at once (service defaults)."""
_SPOKEN: dict[str, Upgrade] = {"imap": "imap", "pop3": "pop3", "submission": "smtp"}
_MOST_DEPTH = 20


class Reading(Struct, frozen=True):
    """A whole configuration."""

    texts: Texts
    main_file: str
    top: tuple[Directive, ...]
    """All settings and sections, included ones in their places."""

    def last(self, *names: str) -> Directive | None:
        """Return the last setting of one of these names at the top: that one counts."""
        return next((each for each in reversed(self.top) if each.name in names and each.block is None), None)

    def value(self, name: str, default: str = "") -> str:
        """Return what a setting at the top is."""
        found = self.last(name)
        return found.arguments[0] if found is not None and found.arguments else default

    @property
    def keys(self) -> tuple[str, str, str]:
        """How certificate and key are named, and what stands before a path: releases since 2.4 say it differently."""
        new = self.last("dovecot_config_version") is not None
        return ("ssl_server_cert_file", "ssl_server_key_file", "") if new else ("ssl_cert", "ssl_key", "<")

    @property
    def named(self) -> tuple[Directive, ...]:
        """The sections for names that clients ask for (SNI)."""
        return tuple(each for each in self.top if each.name == "local_name" and each.block is not None)


def read_configuration(main_file: str, read_file: Callable[[str], bytes], glob: Callable[[str], list[str]]) -> Reading:
    """Read the configuration and all that it includes; ServerTrouble when a file cannot be read or understood."""
    texts = Texts()
    tally = Tally()
    parse_once = functools.cache(parse)

    def included(path: str, by: Directive | None, depth: int) -> Iterator[Directive]:
        for each in parse_once(read_once(texts, path, by, read_file, "Dovecot"), path):
            tally.take(each.file, each.line)
            if each.name not in {"!include", "!include_try"} or depth >= _MOST_DEPTH:
                yield each
                continue
            pattern = posixpath.join(posixpath.dirname(path), each.arguments[0] if each.arguments else "")
            for found in glob(pattern) or ([pattern] if each.name == "!include" else []):
                yield from included(found, each, depth + 1)

    return Reading(texts, main_file, tuple(included(main_file, None, 0)))


def path_of(setting: Directive | None) -> str:
    """Return the file that a setting of a certificate names; empty for none."""
    return setting.arguments[0].removeprefix("<").strip() if setting is not None and setting.arguments else ""


def listens(reading: Reading) -> list[Listen]:
    """Return where mail is fetched from or handed in, and whether and how TLS begins there."""
    spoken: list[str] = []
    for each in reading.top:
        if each.name == "protocols" and each.block is None and each.arguments:
            words = each.arguments[0].split()
            spoken = [*(spoken if "$protocols" in words else []), *words]
    addresses = [
        {"*": "*", "::": "[::]"}.get(each, f"[{each}]" if ":" in each else each)
        for each in reading.value("listen", "*, ::").replace(",", " ").split()
    ]
    allowed = reading.value("ssl", "yes") != "no"
    return [
        Listen(address=address, port=port, tls=allowed, upgrade="" if at_once else _SPOKEN[protocol])
        for protocol in dict.fromkeys(spoken or _USUAL) if protocol in _USUAL
        for own, port, at_once in _listeners(reading, protocol)
        for address in (own or addresses)
    ]  # fmt: skip


def _listeners(reading: Reading, protocol: str) -> Iterator[tuple[list[str], int, bool]]:
    """Yield address (empty for those of all), port and whether TLS begins at once."""
    found = {
        " ".join(each.arguments): each
        for service in reading.top if service.name == "service" and service.arguments == (f"{protocol}-login",)
        for each in service.find("inet_listener")
    }  # fmt: skip
    for name, usual, at_once in _USUAL[protocol]:
        port, address = _own(found.pop(name, None), "port", str(usual)), ""
        yield from _listener(port, address, "yes" if at_once else "no")
    for each in found.values():
        yield from _listener(_own(each, "port", "0"), _own(each, "address", ""), _own(each, "ssl", "no"))


def _own(section: Directive | None, name: str, default: str) -> str:
    settings = list(section.find(name)) if section is not None else []
    return settings[-1].arguments[0] if settings and settings[-1].arguments else default


def _listener(port: str, address: str, ssl: str) -> Iterator[tuple[list[str], int, bool]]:
    if port.isascii() and port.isdigit() and len(port) < 6 and int(port):
        yield address.replace(",", " ").split(), int(port), ssl == "yes"
