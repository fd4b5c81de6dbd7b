"""A whole Apache httpd configuration: files, conditions, variables and macros resolved, and its virtual hosts."""

import fnmatch
import functools
import posixpath
import re
from collections.abc import Callable, Collection, Iterator, Mapping

import msgspec
from msgspec import Struct, field
from msgspec.structs import replace

from inkstamp.errors import ServerTrouble
from inkstamp.servers.apache.syntax import parse
from inkstamp.servers.common import matches
from inkstamp.servers.interface import Listen, Site
from inkstamp.servers.text import MOST_VALUE, Directive, Tally, Texts, Word, read_once

_DEEPEST = 30
_VARIABLE = re.compile(r"\$\{([A-Za-z0-9_]+)\}")
_EXPORT = re.compile(r"^[ \t]*+(?:export[ \t]++)?([A-Z][A-Z0-9_]*)=(.*)$", re.MULTILINE)
_GLOB = re.compile(r"[*?\[]")
_STATIC = frozenset({"core.c", "core_module", "mod_so.c", "so_module", "http_core.c", "http_module"})
"""Modules that every build has in itself; the others are named by LoadModule or by the program."""


_TURNING_AWAY = frozenset({"403", "404", "410", "gone", "421", "444"})
_TLS_WORDS = ("sslprotocol", "sslciphersuite", "sslcacertificatefile", "sslverifyclient")


class ReaderContext(Struct, frozen=True):
    """What the configuration is read with."""

    main_file: str
    server_root: str
    """Where relative paths start; ends without a slash."""
    built_in: frozenset[str] = frozenset()
    """Modules compiled into the program (`mod_ssl.c`)."""
    version: tuple[int, ...] = (2, 4, 0)
    variables: Mapping[str, str] = field(default_factory=dict)
    """Of the environment that the program is started in."""


class VirtualHost(Struct, frozen=True, dict=True):
    """A `<VirtualHost>`, or the main server where there is none for a name."""

    block: Directive
    outer: tuple[Directive, ...]
    """The directives outside of all sections, which it inherits."""
    listens: tuple[Listen, ...]
    server_root: str

    def own(self, *names: str) -> Iterator[Directive]:
        """Yield its own directives of these names (lower case), in their order."""
        return (each for each in self.block.block or () if each.name.lower() in names)

    def value(self, name: str) -> Directive | None:
        """Return the last directive of that name that holds: its own, else the outer one's."""
        mine = list(self.own(name))
        return mine[-1] if mine else next((each for each in reversed(self.outer) if each.name.lower() == name), None)

    def path(self, name: str) -> str:
        """Return the absolute path that a directive names; empty when it does not stand there."""
        directive = self.value(name)
        if directive is None or not directive.arguments:
            return ""
        return posixpath.join(self.server_root, directive.arguments[0]).rstrip("/") or "/"

    @property
    def certificate_files(self) -> tuple[str, ...]:
        """Absolute paths of all certificate files, its own or inherited."""
        own = list(self.own("sslcertificatefile")) or [each for each in [self.value("sslcertificatefile")] if each]
        return tuple(posixpath.join(self.server_root, each.arguments[0]) for each in own if each.arguments)

    @functools.cached_property
    def names(self) -> tuple[str, ...]:
        """ServerName and ServerAlias as written, in lower case, a port taken away."""
        found = [_bare(each.arguments[0]) for each in self.own("servername") if each.arguments]
        found += [name for each in self.own("serveralias") for name in each.arguments]
        return tuple(dict.fromkeys(name.lower() for name in found))

    @property
    def is_default(self) -> bool:
        """Whether it is there for strange names, where it comes first."""
        return not self.names and not self.turns_away

    @property
    def turns_away(self) -> bool:
        """Whether it tells visitors that there is nothing."""
        return any(set(each.arguments) & _TURNING_AWAY for each in self.own("redirect", "redirectmatch"))

    @property
    def tls(self) -> bool:
        """Whether it speaks TLS."""
        directive = self.value("sslengine")
        return (directive is not None and directive.arguments[:1] and directive.arguments[0].lower() == "on") or False

    def answers(self, name: str) -> bool:
        """Tell whether one of its names matches; `*` and `?` stand for anything (ServerAlias)."""
        return any(own == name or fnmatch.fnmatchcase(name, own) for own in self.names)


class Reading(Struct):
    """All files as read, and the directives with everything resolved."""

    setting: ReaderContext
    texts: Texts = field(default_factory=Texts)
    """Text of each file by path; bytes that are no UTF-8 kept as surrogates."""
    directives: tuple[Directive, ...] = ()
    found: "list[VirtualHost]" = field(default_factory=list)
    """The virtual hosts, once `hosts` was asked for them."""
    modules: set[str] = field(default_factory=set)

    def listens(self, but: Collection[str] = ()) -> list[Listen]:
        """Return where the server listens at all, as far as other files than some say."""
        return [
            read_address(each.arguments[0])
            for each in self.directives
            if each.name.lower() == "listen" and each.block is None and each.arguments and each.file not in but
        ]


def read_environment(text: str) -> dict[str, str]:
    """Read what a file like Debian's `envvars` sets, as far as it says so in plain words."""
    found: dict[str, str] = {}
    for name, value in _EXPORT.findall(text):
        plain = value.strip().strip("\"'")
        found[name] = re.sub(r"\$\{?([A-Z_]+)\}?", lambda each: found.get(each[1], ""), plain)[:MOST_VALUE]
    return found


class _Loader:
    """Reads files as includes name them, in the order in which the server does."""

    def __init__(self, reading: Reading, read_file: Callable[[str], bytes], glob: Callable[[str], list[str]]) -> None:
        self._reading = reading
        self._read_file = read_file
        self._glob = glob
        self._variables = dict(reading.setting.variables)
        self._defined: set[str] = set()
        self._tally = Tally()
        self._parse_once = functools.cache(parse)
        self._macros: dict[str, tuple[tuple[str, ...], tuple[Directive, ...]]] = {}

    def load(self, path: str, wanted_by: Directive | None) -> tuple[Directive, ...]:
        text = read_once(self._reading.texts, path, wanted_by, self._read_file, "Apache")
        return self._parse_once(text, path)

    def resolve(self, directives: tuple[Directive, ...], depth: int = 0) -> Iterator[Directive]:
        """Yield what is in force: files included, conditions decided, variables and macros put in."""
        for each in directives:
            self._tally.take(each.file, each.line)
            if depth > _DEEPEST:
                raise ServerTrouble("includes or macros go in a circle", where=f"{each.file}, line {each.line}")
            yield from self._resolve_one(self._filled(each), depth)

    def _resolve_one(self, each: Directive, depth: int) -> Iterator[Directive]:
        name = each.name.lower()
        if name in {"include", "includeoptional"} and each.arguments:
            for path in self._included(each.arguments[0]):
                yield from self.resolve(self.load(path, each), depth + 1)
        elif name == "macro" and each.block is not None and each.arguments:
            self._macros[each.arguments[0].lower()] = (each.arguments[1:], each.block)
        elif name == "use" and each.arguments:
            yield from self.resolve(self._expanded(each), depth + 1)
        elif name in _CONDITIONS and each.block is not None:
            if _CONDITIONS[name](self, each.arguments):
                yield from self.resolve(each.block, depth + 1)
        elif each.block is not None:
            yield msgspec.structs.replace(each, block=tuple(self.resolve(each.block, depth + 1)))
        else:
            self._note(name, each)
            yield each

    def _note(self, name: str, each: Directive) -> None:
        if name == "define" and each.arguments:
            self._defined.add(each.arguments[0])
            if len(each.arguments) > 1:
                self._variables[each.arguments[0]] = each.arguments[1]
        elif name == "undefine" and each.arguments:
            self._defined.discard(each.arguments[0])
            self._variables.pop(each.arguments[0], None)
        elif name == "loadmodule" and len(each.arguments) > 1:
            source = posixpath.basename(each.arguments[1]).removesuffix(".so")
            self._reading.modules |= {each.arguments[0], f"{source}.c"}
        elif name == "serverroot" and each.arguments:
            self._reading.setting = replace(self._reading.setting, server_root=each.arguments[0].rstrip("/"))

    def _filled(self, each: Directive) -> Directive:
        """Return a directive with variables filled in."""
        if not any("${" in word.value for word in each.words):
            return each
        value = self._variables
        words = tuple(
            word._replace(value=_VARIABLE.sub(lambda found: value.get(found[1], found[0]), word.value))
            for word in each.words
        )
        if any(len(word.value) > MOST_VALUE for word in words):
            raise ServerTrouble("a value is too long with its variables", where=f"{each.file}, line {each.line}")
        return msgspec.structs.replace(each, words=words)

    def _expanded(self, use: Directive) -> tuple[Directive, ...]:
        name, *given = use.arguments
        if name.lower() not in self._macros:
            raise ServerTrouble(f"there is no macro “{name}”", where=f"{use.file}, line {use.line}")
        parameters, block = self._macros[name.lower()]
        # The longest first: a parameter may begin with another one's name.
        pairs = sorted(zip(parameters, given, strict=False), key=lambda pair: -len(pair[0]))

        def fill(each: Directive) -> Directive:
            words = []
            for word in each.words:
                text = word.value
                for parameter, value in pairs:
                    text = text.replace(parameter, value) if parameter else text
                    if len(text) > MOST_VALUE:
                        raise ServerTrouble("a macro makes a value too long", where=f"{use.file}, line {use.line}")
                words.append(word._replace(value=text))
            return msgspec.structs.replace(
                each, words=tuple(words), block=None if each.block is None else tuple(fill(b) for b in each.block)
            )

        return tuple(fill(each) for each in block)

    def _included(self, argument: str) -> list[str]:
        path = posixpath.join(self._reading.setting.server_root, argument)
        if _GLOB.search(path):
            return self._glob(path)
        below = self._glob(posixpath.join(path, "*"))
        return below or [path]  # a folder stands for all of its files

    # Conditions

    def is_defined(self, arguments: tuple[str, ...]) -> bool:
        name = arguments[0].removeprefix("!") if arguments else ""
        return (name in self._defined) is not arguments[0].startswith("!") if arguments else False

    def has_module(self, arguments: tuple[str, ...]) -> bool:
        name = arguments[0].removeprefix("!") if arguments else ""
        there = name in self._reading.modules | self._reading.setting.built_in | _STATIC
        return there is not arguments[0].startswith("!") if arguments else False

    def has_file(self, arguments: tuple[str, ...]) -> bool:
        if not arguments:
            return False
        path = posixpath.join(self._reading.setting.server_root, arguments[0].removeprefix("!"))
        return bool(self._glob(path)) is not arguments[0].startswith("!")

    def is_version(self, arguments: tuple[str, ...]) -> bool:
        operator, wanted = ("=", arguments[0]) if len(arguments) == 1 else (*arguments, "", "")[:2]
        bare = operator.lstrip("!")
        mine = self._reading.setting.version
        if bare == "~" or wanted.startswith("/"):
            holds = matches(wanted.strip("/"), ".".join(map(str, mine)))
        else:
            theirs = tuple(int(part) for part in re.findall(r"[0-9]{1,9}", wanted))
            theirs += mine[len(theirs) :] if bare in {"=", "=="} else (0,) * (len(mine) - len(theirs))
            holds = {">": mine > theirs, ">=": mine >= theirs, "<": mine < theirs, "<=": mine <= theirs}.get(
                bare, mine == theirs
            )
        return holds is not operator.startswith("!")


_CONDITIONS: dict[str, Callable[[_Loader, tuple[str, ...]], bool]] = {
    "ifdefine": _Loader.is_defined,
    "ifmodule": _Loader.has_module,
    "iffile": _Loader.has_file,
    "ifversion": _Loader.is_version,
}


def read_configuration(
    setting: ReaderContext, read_file: Callable[[str], bytes], glob: Callable[[str], list[str]]
) -> Reading:
    """Read the main file and everything that it includes.

    Raises:
        ServerTrouble: A file is missing or breaks the grammar; names file and line.

    """
    reading = Reading(setting)
    loader = _Loader(reading, read_file, glob)
    reading.directives = tuple(loader.resolve(loader.load(setting.main_file, None)))
    return reading


def hosts(reading: Reading) -> list[VirtualHost]:
    """Return what `_hosts` does, worked out once."""
    if not reading.found:
        reading.found = _hosts(reading)
    return reading.found


def _hosts(reading: Reading) -> list[VirtualHost]:
    """Return all virtual hosts in the server's order; the main server alone when there is none."""
    outer = tuple(each for each in reading.directives if each.block is None)
    root = reading.setting.server_root
    found = [
        VirtualHost(each, outer, tuple(read_address(word) for word in each.arguments), root)
        for each in reading.directives
        if each.block is not None and each.name.lower() == "virtualhost"
    ]
    if not found:
        main = Directive((Word("main", 0, 0),), outer, reading.setting.main_file, 1, 0, 0)
        found = [VirtualHost(main, outer, tuple(reading.listens()), root)]
    return [replace(host, listens=tuple(replace(each, tls=host.tls) for each in host.listens)) for host in found]


def _bare(server_name: str) -> str:
    """Return a ServerName without its scheme and port."""
    host = server_name.rpartition("//")[2]
    return host[1:].partition("]")[0] if host.startswith("[") else host.partition(":")[0]


def read_address(word: str) -> Listen:
    """Read `address:port`, or either of them, as Listen and <VirtualHost> have it; port 0 for any."""
    host, colon, port = word.rpartition(":")
    if not colon or word.endswith("]"):
        host, port = ("*", word) if word.isdigit() else (word, "0")
    host = "*" if host in {"_default_", ""} else host
    number = int(port) if port.isascii() and port.isdigit() and len(port) < 6 else 0
    return Listen(address=host, port=number, tls=False)


def answering(everything: list[VirtualHost], name: str, *, tls: bool) -> list[VirtualHost]:
    """Return the hosts that answer for `name` with (or without) TLS: for each address and port, the first match.

    Where no host has the name, that is the first one at each address and port, as far as it has no name of its own,
    since a host with names answers for strange ones by accident, and does not turn everything away.
    """
    found: dict[Listen, VirtualHost] = {}
    for host in everything:
        if host.tls is tls and host.answers(name):
            for listen in host.listens:
                found.setdefault(listen, host)
    if not found and not name.startswith("*."):
        for host in everything:
            for listen in host.listens:
                found.setdefault(replace(listen, tls=False), host)
        found = {listen: host for listen, host in found.items() if host.tls is tls and host.is_default}
    return list({id(host.block): host for host in found.values()}.values())


def to_site(host: VirtualHost, server: str) -> Site:
    """Say a virtual host in the words that all kinds of server share."""
    return Site(
        server=server,
        names=host.names,
        listens=host.listens,
        root=host.path("documentroot"),
        certificate_file=host.path("sslcertificatefile") if host.tls else "",
        file=host.block.file,
        line=host.block.line,
        key_file=(host.path("sslcertificatekeyfile") or host.path("sslcertificatefile")) if host.tls else "",
        chain_file=host.path("sslcertificatechainfile") if host.tls else "",
        settings=tuple(
            " ".join(word.value for word in found.words)
            for each in _TLS_WORDS
            if host.tls and (found := host.value(each))
        ),
    )
