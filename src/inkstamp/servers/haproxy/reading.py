"""What an HAProxy configuration says of TLS: where it listens, and which certificates it loads there."""

import posixpath
from collections.abc import Iterator
from typing import Literal

from msgspec import Struct

from inkstamp.errors import ServerTrouble
from inkstamp.reach.interface import Host
from inkstamp.servers.haproxy.syntax import parse
from inkstamp.servers.interface import Listen
from inkstamp.servers.text import Directive, Texts, Word, read_once

SECTIONS = {"global", "defaults", "frontend", "backend", "listen", "userlist", "peers", "mailers", "resolvers",
             "program", "http-errors", "ring", "cache", "fcgi-app", "log-forward", "crt-store", "traces"}  # fmt: skip
"""What sections of the configuration begin with."""
_BESIDE = (".key", ".issuer", ".ocsp", ".sctl")
"""Ends the names of files that go with a certificate and are none."""


class Source(Struct, frozen=True):
    """What a `bind` loads certificates from."""

    kind: Literal["file", "folder", "list"]
    path: str
    """Absolute, without a slash at its end."""
    word: Word
    """Where it stands in the `bind`."""


class Bind(Struct, frozen=True):
    """One `bind` line."""

    line: Directive
    listens: tuple[Listen, ...]
    sources: tuple[Source, ...]

    @property
    def tls(self) -> bool:
        """Whether it answers with TLS."""
        return any(word.value == "ssl" for word in self.line.words)


class Loaded(Struct, frozen=True):
    """A certificate that a `bind` loads."""

    path: str
    source: Source
    entry: Directive | None
    """Its line in a crt-list."""
    filters: tuple[str, ...] = ()
    """The names that the crt-list gives it; empty for those of the certificate."""


class Reading(Struct, frozen=True):
    """A whole configuration."""

    texts: Texts
    """By path: the main file, and the crt-lists."""
    main_file: str
    binds: tuple[Bind, ...]
    socket: str
    """A stats socket in the file system at which an administrator may speak; empty when there is none."""
    loaded: dict[int, tuple[Loaded, ...]]
    """By the offset of a `bind`, what it loads."""


def read_configuration(main_file: str, host: Host) -> Reading:
    """Read the configuration and the crt-lists that it names.

    Raises:
        ServerTrouble: A file cannot be read, or a line not be understood.

    """
    texts = Texts()
    lines = parse(read_once(texts, main_file, None, host.read, "HAProxy"), main_file)
    base, socket, section = "", "", ""
    binds = []
    for line in lines:
        if line.name in SECTIONS:
            section = line.name
        elif section == "global" and line.name == "crt-base" and line.arguments:
            base = line.arguments[0]
        elif section == "global" and line.arguments[:1] == ("socket",) and line.name == "stats":
            socket = _admin_socket(line) or socket
        elif section in {"frontend", "listen"} and line.name == "bind" and line.arguments:
            binds.append(Bind(line, tuple(_listens(line)), tuple(_sources(line, base, host))))
    loaded = {each.line.start: tuple(_load(each, texts, host)) for each in binds if each.tls}
    return Reading(texts, main_file, tuple(binds), socket, loaded)


def _admin_socket(line: Directive) -> str:
    path = line.arguments[1].removeprefix("unix@") if len(line.arguments) > 1 else ""
    admin = any(line.arguments[at : at + 2] == ("level", "admin") for at in range(len(line.arguments)))
    return path if admin and path.startswith("/") else ""


def _listens(line: Directive) -> Iterator[Listen]:
    tls = "ssl" in line.arguments
    both = "v4v6" in line.arguments
    for each in line.arguments[0].split(","):
        text = each.removeprefix("ipv4@").removeprefix("ipv6@")
        if text.startswith(("/", "unix@", "abns@", "fd@", "sockpair@")):
            yield Listen(address=text, port=0, tls=tls)
            continue
        address, _, ports = text.rpartition(":")
        first, _, last = ports.partition("-")
        if not first.isdigit():
            continue
        six = ":" in address or each.startswith("ipv6@")
        address = address.strip("[]")
        address = f"[{address or '::'}]" if six else address if address not in {"", "0.0.0.0"} else "*"  # noqa: S104
        for port in range(int(first), min(int(last or first), int(first) + 100) + 1):
            yield Listen(address=address, port=port, tls=tls)
            if both and address == "[::]":
                yield Listen(address="*", port=port, tls=tls)


def _sources(line: Directive, base: str, host: Host) -> Iterator[Source]:
    for before, word in zip(line.words, line.words[1:], strict=False):
        if before.value not in {"crt", "crt-list"}:
            continue
        path = (
            word.value if word.value.startswith("/") or before.value == "crt-list" else posixpath.join(base, word.value)
        )
        if "$" in path:
            raise ServerTrouble(
                f"{path} names a file by a variable of the environment, which is not known here",
                where=f"{line.file}, line {line.line}",
                advice="write the path itself",
            )
        path = path.rstrip("/")
        if before.value == "crt-list":
            yield Source("list", path, word)
        else:
            yield Source("folder" if host.glob(f"{path}/.") else "file", path, word)


def _load(bind: Bind, texts: Texts, host: Host) -> Iterator[Loaded]:
    for source in bind.sources:
        if source.kind == "file":
            yield Loaded(source.path, source, None)
        elif source.kind == "folder":
            for path in host.glob(f"{source.path}/*"):
                if not path.endswith(_BESIDE):
                    yield Loaded(path, source, None)
        else:
            for entry in parse(read_once(texts, source.path, bind.line, host.read, "HAProxy"), source.path):
                yield Loaded(entry.name, source, entry, tuple(_filters(entry)))


def _filters(entry: Directive) -> Iterator[str]:
    inside = False
    for word in entry.arguments:
        if word.startswith("["):
            inside = True
        if not inside and not word.startswith("!"):
            yield word
        if word.endswith("]"):
            inside = False
