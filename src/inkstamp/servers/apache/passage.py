"""Where an Apache httpd takes a file from, what is in a path's way, and the smallest edit that lets it through.

The rewriting of a virtual host comes before redirects, those before aliases, and `<Location>` sections have the last
word on who may see what (httpd documentation, “Configuration Sections”).
"""

import posixpath
import re
from collections.abc import Iterable, Sequence

from inkstamp.errors import ServerTrouble
from inkstamp.servers.apache.reading import VirtualHost
from inkstamp.servers.common import REMARK, matches, obstacle
from inkstamp.servers.interface import Obstacle, Place
from inkstamp.servers.standing_answer import REMARK as STANDING
from inkstamp.servers.text import Directive, Splice, indent_at

_STATUS = re.compile(r"permanent|temp|seeother|gone|\d{3}")
_PROXIES = ("proxypass", "proxypassmatch")
REDIRECTS = ("redirect", "redirectmatch", "redirectpermanent", "redirecttemp")


def place_of(host: VirtualHost, parts: tuple[str, ...]) -> Place | None:
    """Return where the file `parts` lies, by aliases and the document root; None when there is neither."""
    path = "/" + "/".join(parts)
    for alias in _both(host, "alias"):
        if len(alias.arguments) < 2 or not _is_below(path, alias.arguments[0]):
            continue
        prefix, target = alias.arguments[:2]
        whole = posixpath.join(host.server_root, target) + path[len(prefix) :]
        if whole.endswith(path):
            return Place(whole[: -len(path)], parts)
        folder, _, name = whole.rpartition("/")
        return Place(folder, (name,))
    root = host.path("documentroot")
    return Place(root, parts) if root else None


def redirects(host: VirtualHost, path: str) -> bool:
    """Tell whether the path is sent elsewhere, as far as a plain `Redirect` says so."""
    return any(_takes(each, path) for each in host.own(*REDIRECTS))


def _both(host: VirtualHost, *names: str) -> list[Directive]:
    """Return the host's own directives, then those that it inherits: the order in which they count."""
    return [*host.own(*names), *(each for each in host.outer if each.name.lower() in names and each.block is None)]


def _is_below(path: str, prefix: str) -> bool:
    return path == prefix or path.startswith(prefix.rstrip("/") + "/")


def _split(redirect: Directive) -> tuple[str, int]:
    """Return what a redirect takes, a path or an expression, and which of its words that is."""
    at = 1
    known = redirect.name.lower() in {"redirect", "redirectmatch"} and len(redirect.words) > 2
    if known and _STATUS.fullmatch(redirect.words[1].value.lower()):
        at = 2
    return (redirect.words[at].value, at) if at < len(redirect.words) else ("", 0)


def _takes(redirect: Directive, path: str) -> bool:
    taken, at = _split(redirect)
    if not at:
        return False
    return matches(taken, path) if redirect.name.lower() == "redirectmatch" else _is_below(path, taken)


def obstacles(host: VirtualHost, path: str) -> list[Obstacle]:
    """Return what stands in the way of a file at `path`."""
    found = []
    if not any(_lets_rewriting_pass(each, path) for each in list(host.own("rewriterule"))[:1]):
        rules = list(host.own("rewriterule"))
        found += [obstacle(each, f"may be rewritten by `{_text(each)}`") for each in rules[:1] if _is_on(host)]
    found += [
        obstacle(each, f"is redirected by `{_text(each)}`") for each in host.own(*REDIRECTS) if _takes(each, path)
    ]
    for each in _both(host, *_PROXIES):
        prefix = each.arguments[0] if each.arguments else ""
        hit = matches(prefix, path) if each.name.lower() == "proxypassmatch" else _is_below(path, prefix or "\n")
        if hit:
            if each.arguments[1:2] != ("!",):
                found.append(obstacle(each, "is handed to an application"))
            break
    return found


def _text(each: Directive) -> str:
    return " ".join(word.value for word in each.words)


def _is_on(host: VirtualHost) -> bool:
    engine = host.value("rewriteengine")
    return engine is not None and engine.arguments[:1] != () and engine.arguments[0].lower() == "on"


def _lets_rewriting_pass(rule: Directive, path: str) -> bool:
    ends = len(rule.arguments) > 2 and re.search(r"\b(END|L)\b", rule.arguments[2]) is not None
    return ends and rule.arguments[1] == "-" and matches(rule.arguments[0], path)


PASSAGE = re.compile(
    rf"(?m)^[ \t]*(?:{re.escape(REMARK)}|{re.escape(STANDING)})\r?\n"
    r"(?:[ \t]*(?:Alias|ProxyPass|ProxyPassMatch|RewriteRule)[ ][^\n]*well-known[^\n]*(?:\n|\Z)"
    r"|[ \t]*<Location(Match)?[ ][^\n]*well-known[^\n]*\n"
    r"(?:(?![ \t]*</Location)[^\n]*\n)*+[ \t]*</Location(Match)?>[^\n]*(?:\n|\Z))+"
)
"""What `open_way` wrote, or a standing answer, wherever it stands."""


def open_way(host: VirtualHost, text: str, path: str, root: str) -> list[Splice]:
    """Return the edits of a host that answer the folder `path` (slashes at both ends) with files below `root`.

    Raises:
        ServerTrouble: It is open already, the host stands in a macro, or a redirect cannot be changed.

    """
    block = host.block
    where = f"{block.file}, line {block.line}"
    if any(each.arguments[:1] == (path,) for each in host.own("alias")):
        raise ServerTrouble(f"there is an Alias for {path} already", where=where, advice="correct that one")
    expression = "^" + path.replace(".", r"\.")
    first = [REMARK, f'Alias "{path}" "{root.rstrip("/")}{path}"']
    if has_proxies(host):
        first.append(f'ProxyPass "{path}" !')
    if any(host.own("rewriterule")):
        # Rules are met in their order, and conditions belong to the rule that follows them: this one goes first.
        first.append(f'RewriteRule "{expression}" - [END]')
    # Of several <Location> sections that match, the last one has the last word.
    last = [REMARK, f'<Location "{path}">', "    Require all granted"]
    if asks_who(host):
        last.append("    AuthType None")
    last += ["    SetHandler default-handler", "</Location>"]
    return [*first_and_last(host, text, first, last), *spare_redirects(host, path + "x", expression)]


def first_and_last(host: VirtualHost, text: str, first: Sequence[str], last: Sequence[str]) -> list[Splice]:
    """Return the edits that put lines at the beginning of a host, and others at its end."""
    block = host.block
    end_of_line = "\r\n" if "\r\n" in text else "\n"
    indent = indent_at(text, block.block[0].start) if block.block and block.block[0].file == block.file else "    "
    return [
        Splice(block.file, at, at, "".join(f"{end_of_line}{indent}{line}" for line in lines))
        for at, lines in ((block.block_start, first), (_line_before(text, block.end), last))
        if lines
    ]


def spare_redirects(host: VirtualHost, path: str, expression: str) -> list[Splice]:
    """Return the edits by which a host's redirects that take a path leave those alone that an expression matches."""
    return [splice for each in host.own(*REDIRECTS) if _takes(each, path) for splice in _spare(each, expression)]


def has_proxies(host: VirtualHost) -> bool:
    """Tell whether a host hands requests to applications."""
    return any(_both(host, *_PROXIES))


def asks_who(host: VirtualHost) -> bool:
    """Tell whether a host asks visitors who they are."""
    return any(each.name.lower() == "authtype" for each in _inside(host.block))


def _line_before(text: str, offset: int) -> int:
    """Return the offset of the end of the line before the one that `offset` is in."""
    at = text.rfind("\n", 0, offset)
    return at - 1 if text[at - 1 : at] == "\r" else at


def _inside(block: Directive) -> Iterable[Directive]:
    for each in block.block or ():
        yield each
        yield from _inside(each)


def _spare(redirect: Directive, expression: str) -> list[Splice]:
    """Change a redirect so that it leaves the paths alone that `expression` (which begins with `^`) matches."""
    taken, at = _split(redirect)
    word, name = redirect.words[at], redirect.words[0]
    spared = f"(?!{expression[1:]})"
    if redirect.name.lower() == "redirectmatch":
        if not taken.startswith("^"):
            raise ServerTrouble(
                f"the expression {taken} cannot be limited to other paths",
                where=f"{redirect.file}, line {redirect.line}",
                advice="begin it with ^, then run the command again",
            )
        return [Splice(redirect.file, word.start, word.end, f'"^{spared}{taken[1:]}"')]
    splices = [
        _renamed(redirect, name.start),
        Splice(redirect.file, word.start, word.end, f'"^{spared}{_all(taken)}"'),
    ]
    for target in redirect.words[at + 1 : at + 2]:  # `Redirect gone /path` has none
        onward = target.value.replace("$", r"\$")
        splices.append(Splice(redirect.file, target.start, target.end, f'"{onward}$1"'))
    return splices


def _all(prefix: str) -> str:
    """Return the expression for a path and all below it, with what is below as `$1`."""
    return re.escape(prefix).replace("\\-", "-") + ("(.*)$" if prefix.endswith("/") else "(/.*|)$")


def _renamed(redirect: Directive, start: int) -> Splice:
    name = redirect.name
    status = {"redirectpermanent": " permanent", "redirecttemp": " temp"}.get(name.lower(), "")
    return Splice(redirect.file, start, start + len(name), f"RedirectMatch{status}")
