"""A whole nginx configuration: all files, includes resolved, and the virtual hosts in it."""

import operator
import posixpath
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cached_property

import msgspec
from msgspec import Struct, field

from inkstamp.errors import ServerTrouble
from inkstamp.servers.common import matches
from inkstamp.servers.interface import Listen, Place, Site
from inkstamp.servers.nginx.syntax import parse
from inkstamp.servers.text import Directive, Tally, Texts, read_once

BY_EXPRESSION = 3000
"""How well a name matches that only a regular expression has."""
_DEEPEST_INCLUDE = 20
_TLS_WORDS = ("ssl_protocols", "ssl_ciphers", "ssl_client_certificate", "ssl_verify_client", "http2")
_GLOB = re.compile(r"[*?\[]")


class Folders(Struct, frozen=True):
    """Where nginx takes relative paths from."""

    main_file: str
    prefix: str
    """For document roots and most paths; ends without a slash."""
    version: tuple[int, ...] = ()
    """Of the program; empty when it is not known."""

    @property
    def configuration(self) -> str:
        """The folder of the main file: for includes and certificates."""
        return posixpath.dirname(self.main_file)


class Reading(Struct):
    """All files as read, and the directives with includes worked in."""

    folders: Folders
    texts: Texts = field(default_factory=Texts)
    """Text of each file by path; bytes that are no UTF-8 kept as surrogates."""
    directives: tuple[Directive, ...] = ()
    found: "ServerBlocks" = field(default_factory=lambda: ServerBlocks())  # noqa: PLW0108  it is defined below
    """The virtual hosts, once `hosts` was asked for them."""


class ServerBlock(Struct, frozen=True, dict=True):
    """A `server` block, with what it inherits from the `http` block."""

    block: Directive
    outer: Mapping[str, Directive]
    """By name, the first of each of the `http` block's own directives."""
    folders: Folders

    @cached_property
    def _own(self) -> Mapping[str, list[Directive]]:
        """The block's own directives by name, each in their order; many are asked for in turn."""
        found: dict[str, list[Directive]] = {}
        for each in self.block.block or ():
            found.setdefault(each.name, []).append(each)
        return found

    def all(self, name: str) -> Sequence[Directive]:
        """Return the block's own directives of that name, in their order."""
        return self._own.get(name, ())

    def value(self, name: str) -> Directive | None:
        """Return the directive of that name in force: the block's own, else the outer one's."""
        own = self.all(name)
        return own[0] if own else self.outer.get(name)

    @cached_property
    def names(self) -> tuple[str, ...]:
        """All `server_name` arguments as written, in lower case."""
        found = [
            name.lower() if not name.startswith("~") else name
            for directive in self.all("server_name")
            for name in directive.arguments
        ]
        return tuple(dict.fromkeys(found))

    @cached_property
    def listens(self) -> tuple[Listen, ...]:
        """Where it answers; nginx's own default when nothing is said."""
        old_switch = self.value("ssl")
        all_tls = old_switch is not None and old_switch.arguments == ("on",)
        found = tuple(read_listen(each, all_tls=all_tls) for each in self.all("listen"))
        return found or (Listen(address="*", port=80, tls=all_tls),)

    @property
    def certificate_file(self) -> str:
        """Absolute path of the first certificate file; empty when there is none or a variable names it."""
        return self.path("ssl_certificate")

    @property
    def certificate_files(self) -> tuple[str, ...]:
        """Absolute paths of all certificate files, its own or inherited, that no variable names."""
        own = self.all("ssl_certificate") or [each for each in [self.outer.get("ssl_certificate")] if each]
        return tuple(
            self.absolute(each.arguments[0]) for each in own if each.arguments and "$" not in each.arguments[0]
        )

    @property
    def is_nameless(self) -> bool:
        """Whether it has no name that anybody could ask for (`_`, or none)."""
        return not any("." in each.strip(".") for each in self.names)

    def path(self, name: str) -> str:
        """Return the absolute path that a directive names; empty when there is none or a variable names it."""
        directive = self.value(name)
        if directive is None or not directive.arguments or "$" in directive.arguments[0]:
            return ""
        return self.absolute(directive.arguments[0])

    def absolute(self, path: str) -> str:
        """Return the path of a certificate or key as nginx takes it."""
        return posixpath.join(self.folders.configuration, path)

    def rank(self, name: str) -> int | None:
        """Tell how well this block's names match `name`, 0 the best as nginx chooses, None not at all.

        Exact, then `*.name` (the longest), then `name.*` (the longest), then the first regular expression.
        """
        ranks = [rank for own in self.names if (rank := _match(own, name)) is not None]
        return min(ranks, default=None)


def _match(own: str, name: str) -> int | None:
    if own == name:
        return 0
    first = own[:1]
    if first == "." and (name == own[1:] or name.endswith(own)):
        return 1000 - len(own)
    if first == "*" and name.endswith(own[1:]) and not name.startswith("*."):
        return 1000 - len(own)
    if own.endswith(".*") and name.startswith(own[:-1]):
        return 2000 - len(own)
    if first == "~" and _expression_matches(own[1:], name):
        return BY_EXPRESSION
    return None


def _expression_matches(expression: str, name: str) -> bool:
    """Tell whether a `~` name matches; nginx's expressions are Perl's, and Python's differ in named groups."""
    return matches(re.sub(r"\(\?<(?![=!])", "(?P<", expression), name, ignore_case=True)


def read_listen(directive: Directive, *, all_tls: bool) -> Listen:
    """Read a `listen` directive; `all_tls` when the old `ssl on` stands beside it."""
    to, *options = directive.arguments or ("*",)
    tls = all_tls or "ssl" in options
    default = "default_server" in options or "default" in options
    if to.startswith("unix:"):
        return Listen(address=to, port=0, tls=tls, default=default)
    if to.isascii() and to.isdigit() and len(to) < 6:
        return Listen(address="*", port=int(to), tls=tls, default=default)
    host, colon, port = to.rpartition(":")
    if not colon or to.endswith("]"):
        host, port = to, "80"
    if not (port.isascii() and port.isdigit() and len(port) < 6):
        raise ServerTrouble(
            f"“listen {to[:80]}” cannot be read",
            where=f"{directive.file}, line {directive.line}",
            advice="fix the line; `nginx -t` says more",
        )
    return Listen(address=host, port=int(port), tls=tls, default=default)


class _Loader:
    """Reads files as includes name them."""

    def __init__(self, reading: Reading, read_file: Callable[[str], bytes], glob: Callable[[str], list[str]]) -> None:
        self._reading = reading
        self._read_file = read_file
        self._glob = glob
        self._resolved: dict[str, tuple[Directive, ...]] = {}
        self._tally = Tally()

    def load(self, path: str, wanted_by: Directive | None) -> tuple[Directive, ...]:
        """Parse one file; `wanted_by` is the include that names it."""
        return parse(read_once(self._reading.texts, path, wanted_by, self._read_file, "nginx"), path)

    def resolve(self, directives: tuple[Directive, ...], depth: int) -> Iterator[Directive]:
        """Yield the directives with every include replaced by what it names."""
        for directive in directives:
            self._tally.take(directive.file, directive.line)
            if directive.name == "include" and directive.block is None and directive.arguments:
                if depth > _DEEPEST_INCLUDE:
                    raise ServerTrouble("includes go in a circle", where=f"{directive.file}, line {directive.line}")
                for path in self._included(directive.arguments[0]):
                    included = self._resolved_file(path, directive, depth + 1)
                    self._tally.take(directive.file, directive.line, len(included))
                    yield from included
            elif directive.block:
                inside = tuple(self.resolve(directive.block, depth))
                same = len(inside) == len(directive.block) and all(map(operator.is_, inside, directive.block))
                yield directive if same else msgspec.structs.replace(directive, block=inside)
            else:
                yield directive

    def _resolved_file(self, path: str, wanted_by: Directive, depth: int) -> tuple[Directive, ...]:
        """Resolve a file once: thousands of blocks may include the same one."""
        if path not in self._resolved:
            self._resolved[path] = tuple(self.resolve(self.load(path, wanted_by), depth))
        return self._resolved[path]

    def _included(self, argument: str) -> list[str]:
        pattern = posixpath.join(self._reading.folders.configuration, argument)
        return self._glob(pattern) if _GLOB.search(pattern) else [pattern]


def read_configuration(
    folders: Folders, read_file: Callable[[str], bytes], glob: Callable[[str], list[str]]
) -> Reading:
    """Read the main file and everything that it includes.

    Raises:
        ServerTrouble: A file is missing or breaks the grammar; names file and line.

    """
    reading = Reading(folders)
    loader = _Loader(reading, read_file, glob)
    reading.directives = tuple(loader.resolve(loader.load(folders.main_file, None), 0))
    return reading


class ServerBlocks(list["ServerBlock"]):
    """All `server` blocks of a configuration, in its order; those with a name are found without going through all."""

    @cached_property
    def by_name(self) -> dict[tuple[str, bool], list["ServerBlock"]]:
        """Those that have a name word for word, by it and by whether they listen with (or without) TLS."""
        found: dict[tuple[str, bool], list[ServerBlock]] = {}
        for host in self:
            for key in dict.fromkeys((name, listen.tls) for name in host.names for listen in host.listens):
                found.setdefault(key, []).append(host)
        return found

    @cached_property
    def with_patterns(self) -> list["ServerBlock"]:
        """Those with a name that stands for several."""
        return [host for host in self if any(name[:1] in ".*~" or name.endswith(".*") for name in host.names if name)]


def hosts(reading: Reading) -> ServerBlocks:
    """Return what `_hosts` does, worked out once."""
    if not reading.found:
        reading.found = ServerBlocks(_hosts(reading))
    return reading.found


def _hosts(reading: Reading) -> list[ServerBlock]:
    """Return all `server` blocks of the `http` blocks, in nginx's order."""
    found = []
    for http in reading.directives:
        if http.name == "http" and http.block is not None:
            outer = {each.name: each for each in reversed(http.block)}
            found += [
                ServerBlock(each, outer, reading.folders) for each in http.find("server") if each.block is not None
            ]
    return found


def to_site(host: ServerBlock, server: str) -> Site:
    """Say a `server` block in the words that all kinds of server share."""
    tls = any(listen.tls for listen in host.listens)
    return Site(
        server=server,
        names=host.names,
        listens=host.listens,
        root=_root(host, host.block),
        certificate_file=host.certificate_file if tls else "",
        file=host.block.file,
        line=host.block.line,
        key_file=host.path("ssl_certificate_key") if tls else "",
        settings=tuple(_as_written(found) for each in _TLS_WORDS if tls and (found := host.value(each))),
    )


def _as_written(directive: Directive) -> str:
    return " ".join(word.value for word in directive.words)


def best_hosts(all_hosts: list[ServerBlock], name: str, *, tls: bool) -> list[ServerBlock]:
    """Return the blocks that answer for `name` with (or without) TLS, the best match only.

    Several when the same name stands in blocks for different addresses.
    """
    if isinstance(all_hosts, ServerBlocks):
        exact = all_hosts.by_name.get((name, tls))
        if exact:
            return list(exact)
        all_hosts = all_hosts.with_patterns
    ranked = [
        (rank, host)
        for host in all_hosts
        if (rank := host.rank(name)) is not None and any(each.tls is tls for each in host.listens)
    ]
    best = min((rank for rank, _ in ranked), default=None)
    return [host for rank, host in ranked if rank == best]


def default_hosts(all_hosts: list[ServerBlock], port: int, *, tls: bool) -> list[ServerBlock]:
    """Return the blocks that answer at a port for names that no block has, as they are meant to.

    A block that is first, and so the default, but has names of its own is not: it answers for strange names by
    accident. Nor is one that turns everything away with `return`.
    """
    first: dict[str, tuple[Listen, ServerBlock]] = {}
    for host in all_hosts:
        for listen in host.listens:
            if listen.port == port and (listen.address not in first or listen.default):
                first[listen.address] = (listen, host)
    meant = [
        host
        for listen, host in first.values()
        if listen.tls is tls and (listen.default or host.is_nameless) and not any(host.block.find("return"))
    ]
    return list({id(host.block): host for host in meant}.values())


def _root(host: ServerBlock, inner: Directive) -> str:
    directive = next(inner.find("root"), None) or host.value("root")
    if directive is None or not directive.arguments:
        return posixpath.join(host.folders.prefix, "html")
    return posixpath.join(host.folders.prefix, directive.arguments[0])


def names_root(host: ServerBlock, path: str) -> bool:
    """Tell whether a document root or an alias is named for a path."""
    inner, _ = location_of(host, path)
    return any(any(inner.find(each)) for each in ("root", "alias")) or host.value("root") is not None


def location_of(host: ServerBlock, path: str) -> tuple[Directive, str]:
    """Return the innermost prefix location for a path, and its prefix; the block itself when there is none."""
    inner, prefix = host.block, ""
    while True:
        below = [each for each in inner.find("location") if _is_prefix(each, path)]
        if not below:
            return inner, prefix
        inner = max(below, key=lambda each: len(each.arguments[-1]))
        prefix = inner.arguments[-1]


def place_of(host: ServerBlock, parts: tuple[str, ...]) -> Place:
    """Return where nginx takes the file `parts` from, by its best prefix location.

    Regular expressions are not followed: the look at the proof from outside finds out when one is in the way.

    Raises:
        ServerTrouble: A variable is in the way.

    """
    path = "/" + "/".join(parts)
    inner, prefix = location_of(host, path)
    alias = next(inner.find("alias"), None)
    place = Place(_root(host, inner), parts)
    if alias is not None and alias.arguments:
        whole = posixpath.join(host.folders.prefix, alias.arguments[0]) + path[len(prefix) :]
        if whole.endswith(path):
            place = Place(whole[: -len(path)], parts)
        else:
            folder, _, name = whole.rpartition("/")
            place = Place(folder, (name,))
    if "$" in place.root:
        raise ServerTrouble(
            f"the document root {place.root} has a variable in it",
            where=f"{inner.file}, line {inner.line}",
            advice="give the challenge path a location with a fixed root",
        )
    return place


def _is_prefix(location: Directive, path: str) -> bool:
    if location.block is None or not location.arguments or location.arguments[0] in {"~", "~*"}:
        return False
    return path.startswith(location.arguments[-1]) and (location.arguments[0] != "=" or location.arguments[-1] == path)
