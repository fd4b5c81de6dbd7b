"""What a lighttpd configuration says: sockets, hosts, and which settings hold for a name."""

import functools
import posixpath
import re
from collections.abc import Callable, Iterator

import msgspec
from msgspec import Struct, field

from inkstamp.errors import ServerTrouble
from inkstamp.servers.common import matches
from inkstamp.servers.interface import Listen
from inkstamp.servers.lighttpd.syntax import parse, plain
from inkstamp.servers.text import MOST_VALUE, Directive, Tally, Texts, Word, read_once

_HOST, _SOCKET, _SCHEME = '$HTTP["host"]', '$SERVER["socket"]', '$HTTP["scheme"]'
_TERM = re.compile(r'"(?:[^"\\]++|\\.)*+"|[A-Za-z0-9_][A-Za-z0-9_.-]*+')
_DEEPEST_INCLUDE = 20
_YES = {"enable", "true"}


class Setting(Struct, frozen=True):
    """An assignment, and the conditions that it stands under, the outermost first."""

    directive: Directive
    conditions: tuple[Directive, ...]

    @property
    def value(self) -> str:
        """Its value; a string without its quotes."""
        text = self.directive.words[-1].value
        return plain(text) if text.startswith('"') else text

    @property
    def host(self) -> Directive | None:
        """The condition on the host that it stands under."""
        return next((each for each in self.conditions if each.name == _HOST), None)


class Reading(Struct):
    """A whole configuration."""

    main_file: str
    texts: Texts = field(default_factory=Texts)
    top: tuple[Directive, ...] = ()
    """With includes in their places, and variables filled in."""
    settings: tuple[Setting, ...] = ()

    def holding(self, name: str, *, tls: bool) -> dict[str, Setting]:
        """Return the settings that hold for a name: the last one of each key whose conditions are met."""
        return {
            each.directive.name: each for each in self.settings
            if all(self._met(condition, name, tls=tls) for condition in each.conditions)
        }  # fmt: skip

    def _met(self, condition: Directive, name: str, *, tls: bool) -> bool:
        if condition.name == _HOST:
            return host_matches(condition, name)
        if condition.name == _SOCKET:
            return self.speaks_tls(condition) is tls
        return condition.name == _SCHEME and condition.arguments[-1] == ("https" if tls else "http")

    def speaks_tls(self, socket: Directive) -> bool:
        """Tell whether a socket has TLS."""
        own = [each for each in socket.block or () if each.name == "ssl.engine"]
        wanted = own or [
            each.directive for each in self.settings if each.directive.name == "ssl.engine" and not each.conditions
        ]
        return bool(wanted) and wanted[-1].words[-1].value.strip('"') in _YES

    @property
    def sockets(self) -> tuple[Directive, ...]:
        """The conditions that open further sockets."""
        return tuple(each for each in self.top if each.name == _SOCKET and each.arguments[:1] == ("==",))

    @property
    def hosts(self) -> tuple[Directive, ...]:
        """The conditions on hosts, wherever they stand."""
        inner = [below for each in self.top if each.block is not None for below in each.find(_HOST)]
        return tuple(each for each in (*self.top, *inner) if each.name == _HOST and each.block is not None)

    def own(self, block: Directive, key: str) -> str:
        """Return what a setting is that stands in a block itself; empty for none."""
        found = [
            each.value for each in self.settings if each.conditions[-1:] == (block,) and each.directive.name == key
        ]
        return found[-1] if found else ""

    def socket_behind(self, host: Directive, key: str) -> Directive | None:
        """Return the socket with TLS whose own setting has the last word, since it stands behind a host's block."""
        order = list(dict.fromkeys(condition for each in self.settings for condition in each.conditions))
        at = order.index(host) if host in order else -1
        behind = [each for each in order[at + 1 :] if each.name == _SOCKET and self.speaks_tls(each)]
        return next((each for each in reversed(behind) if self.own(each, key)), None)

    def plain_value(self, key: str, default: str) -> str:
        """Return what a setting under no condition is."""
        found = [each for each in self.settings if each.directive.name == key and not each.conditions]
        return found[-1].value if found else default

    def listens(self) -> list[Listen]:
        """Return where it answers."""
        bind, port = self.plain_value("server.bind", ""), self.plain_value("server.port", "80")
        first = Directive((Word(_SOCKET, 0, 0), Word("==", 0, 0), Word(f"{bind}:{port}", 0, 0)), (), "", 0, 0, 0)
        return [read_socket(each.arguments[-1], tls=self.speaks_tls(each)) for each in (first, *self.sockets)]


def read_socket(text: str, *, tls: bool) -> Listen:
    """Read `address:port`, `:port` or `[v6]:port`."""
    host, _, port = text.rpartition(":")
    if not port.isdigit():
        return Listen(address=text, port=0, tls=tls)
    return Listen(address="*" if host in {"", "0.0.0.0"} else host, port=int(port), tls=tls)  # noqa: S104


def host_matches(condition: Directive, name: str) -> bool:
    """Tell whether a condition on the host is met by a name."""
    operator, wanted = condition.arguments[:2]
    return {
        "==": name == wanted,
        "=^": name.startswith(wanted),
        "=$": name.endswith(wanted),
        "=~": matches(wanted, name),
        "!=": name != wanted,
        "!~": not matches(wanted, name),
    }.get(operator, False)


def read_configuration(main_file: str, read_file: Callable[[str], bytes], glob: Callable[[str], list[str]]) -> Reading:
    """Read the main file and everything that it includes; ServerTrouble when a file cannot be read or understood."""
    reading = Reading(main_file)
    variables: dict[str, str] = {"var.CWD": "."}
    tally = Tally()
    parse_once = functools.cache(parse)

    def resolve(directives: tuple[Directive, ...], depth: int) -> Iterator[Directive]:
        for each in directives:
            tally.take(each.file, each.line)
            if each.block is not None:
                yield msgspec.structs.replace(each, block=tuple(resolve(each.block, depth)))
                continue
            value = _joined(each, variables)
            if each.name == "include":
                yield from included(value, each, depth)
            elif each.name != "include_shell":  # what a program would write is not known
                if each.name.startswith("var."):
                    variables[each.name] = value
                yield msgspec.structs.replace(each, words=(*each.words[:-1], each.words[-1]._replace(value=value)))

    def included(value: str, by: Directive, depth: int) -> Iterator[Directive]:
        if depth > _DEEPEST_INCLUDE:
            raise ServerTrouble("includes go in a circle", where=f"{by.file}, line {by.line}")
        pattern = posixpath.join(posixpath.dirname(main_file), plain(value))
        for path in glob(pattern) if set(pattern) & set("*?[") else [pattern]:
            text = read_once(reading.texts, path, by, read_file, "lighttpd")
            yield from resolve(parse_once(text, path), depth + 1)

    text = read_once(reading.texts, main_file, None, read_file, "lighttpd")
    reading.top = tuple(resolve(parse(text, main_file), 0))
    reading.settings = tuple(_flat(reading.top, ()))
    return reading


def _joined(each: Directive, variables: dict[str, str]) -> str:
    """Return a value with variables filled in and strings joined; other values as they are written."""
    text = each.words[-1].value
    if text.startswith("(") or ("+" not in text and not text.startswith("var.")):
        return text
    terms = [variables.get(term, term) for term in _TERM.findall(text)]
    if not all(term.startswith('"') for term in terms):
        return text
    if sum(map(len, terms)) > MOST_VALUE:
        raise ServerTrouble("a value is too long with its variables", where=f"{each.file}, line {each.line}")
    return '"' + "".join(term[1:-1] for term in terms) + '"'


def _flat(directives: tuple[Directive, ...], conditions: tuple[Directive, ...]) -> Iterator[Setting]:
    for each in directives:
        if each.block is None:
            yield Setting(each, conditions)
        else:
            yield from _flat(each.block, (*conditions, each))
