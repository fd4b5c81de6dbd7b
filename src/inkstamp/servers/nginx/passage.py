"""What keeps a path of an nginx from being answered by a file, and the smallest edit that lets it through.

The rewrite module's directives of a `server` block run before a location is chosen (ngx_http_rewrite_module), so a
location alone does not pass a `return` there; an `if` with `break` before it does.
"""

import re
from collections.abc import Iterator, Sequence

from inkstamp.errors import ServerTrouble
from inkstamp.servers.base import Fitting
from inkstamp.servers.common import REMARK, ProofFolder, matches, obstacle
from inkstamp.servers.interface import Obstacle
from inkstamp.servers.nginx.edit import HTTPS, add_lines, quote
from inkstamp.servers.nginx.reading import ServerBlock, location_of
from inkstamp.servers.text import Directive, Splice, indent_at

_REWRITES = ("return", "rewrite", "if")
_HANDLERS = {
    "proxy_pass": "is handed to an application",
    "fastcgi_pass": "is handed to an application",
    "uwsgi_pass": "is handed to an application",
    "scgi_pass": "is handed to an application",
    "grpc_pass": "is handed to an application",
    "auth_basic": "asks for a password",
    "auth_request": "asks another program for permission",
    "deny": "is denied",
    "return": "is answered by `return`",
    "rewrite": "is rewritten",
    "try_files": "is answered by `try_files`, perhaps with a page for whatever is missing",
}
_INHERITED = ("auth_basic", "auth_request", "deny")


def redirects(host: ServerBlock, path: str) -> bool:
    """Tell whether the block answers everything with `return`, before any location is looked at."""
    return any(host.block.find("return")) and not _lets_pass(host, path)


def rewrites(host: ServerBlock, path: str) -> bool:
    """Tell whether the block may send the path elsewhere, perhaps on a condition."""
    return bool(_rewriting(host)) and not _lets_pass(host, path)


def obstacles(host: ServerBlock, path: str) -> list[Obstacle]:
    """Return what stands in the way of a file at `path`, in the order in which nginx meets it."""
    found = []
    if not _lets_pass(host, path):
        found = [obstacle(each, _told(each)) for each in _rewriting(host)]
    inner, prefix = location_of(host, path)
    if not (inner.arguments and inner.arguments[0] == "^~"):
        found += [
            obstacle(each, f"falls under the location for {each.arguments[1]}") for each in _expressions(host, path)
        ]
    handlers = [each for each in inner.block or () if each.name in _HANDLERS] if inner is not host.block else []
    handlers += [
        inherited
        for name in _INHERITED
        if not any(each.name == name for each in handlers) and (inherited := host.value(name)) is not None
    ]
    found += [
        obstacle(each, f"{_HANDLERS[each.name]}{f' (location {prefix})' if prefix else ''}")
        for each in handlers
        if each.arguments != ("off",)
    ]
    return found


def _told(directive: Directive) -> str:
    if directive.name == "return":
        return f"is answered by `return {' '.join(directive.arguments)}`"
    return f"may be taken elsewhere by `{directive.name} {' '.join(directive.arguments)}`"


def _rewriting(host: ServerBlock) -> list[Directive]:
    return [each for each in host.block.block or () if each.name in _REWRITES]


def _lets_pass(host: ServerBlock, path: str) -> bool:
    """Tell whether the first of the block's rewriting directives is an `if` that breaks off for this path."""
    first = next(iter(_rewriting(host)), None)
    if first is None or first.name != "if" or not any(first.find("break")):
        return False
    match = re.fullmatch(r"\(\$uri ~\*? (.+)\)", " ".join(first.arguments))
    return match is not None and matches(match[1].strip('" '), path)


def _expressions(host: ServerBlock, path: str) -> Iterator[Directive]:
    """Yield the regular expression locations that take the path away from prefixes without `^~`."""
    for each in host.block.find("location"):
        if len(each.arguments) == 2 and each.arguments[0] in {"~", "~*"} and matches(each.arguments[1], path):
            yield each


def open_way(host: ServerBlock, text: str, path: str, root: str) -> Splice:
    """Return the edit of a block that answers the folder `path` (with slashes at both ends) with files below `root`.

    Raises:
        ServerTrouble: There is a location for that folder already.

    """
    for each in host.block.find("location"):
        if each.arguments and each.arguments[-1] == path and each.arguments[0] not in {"~", "~*"}:
            raise ServerTrouble(
                f"there is a location for {path} already",
                where=f"{each.file}, line {each.line}",
                advice="correct that one: it should name the folder with `root`, and nothing else",
            )
    lines = [REMARK]
    rewriting = [each for each in _rewriting(host) if each.file == host.block.file]
    if rewriting:
        lines.append(f'if ($uri ~ "^{path.replace(".", chr(92) + ".")}") {{ break; }}')
    lines.append(f"location ^~ {path} {{ {' '.join(_location_lines(host, root))} }}")
    if not rewriting:
        return add_lines(host, text, lines)
    first = rewriting[0]
    gap = ("\r\n" if "\r\n" in text else "\n") + indent_at(text, first.start)
    return Splice(host.block.file, first.start, first.start, "".join(line + gap for line in lines))


def plain_block(host: ServerBlock, text: str, names: Sequence[str], proofs: ProofFolder, fitting: Fitting) -> Splice:
    """Return the edit that puts a block for plain HTTP behind one that has TLS alone: it shows proofs, and leads there.

    Args:
        host: The block with TLS.
        text: Its file's text.
        names: Those of its names that are to be answered.
        proofs: What is shown there.
        fitting: The ports as the public sees them.

    """
    end_of_line = "\r\n" if "\r\n" in text else "\n"
    indent = indent_at(text, host.block.start)
    shown = f"location ^~ {proofs.path} {{ root {quote(proofs.root)}; }}"
    lines = plain_block_lines(host, names, [shown], fitting)
    at = host.block.end
    return Splice(host.block.file, at, at, "".join(f"{end_of_line}{indent}{line}" for line in ("", REMARK, *lines)))


def plain_block_lines(host: ServerBlock, names: Sequence[str], inside: Sequence[str], fitting: Fitting) -> list[str]:
    """Return a block for plain HTTP at the addresses of one that has TLS: it leads there but for what is `inside`."""
    port = "" if fitting.https_port == HTTPS else f":{fitting.https_port}"
    addresses = dict.fromkeys(each.address for each in host.listens if each.tls and each.port)
    listens = [str(fitting.http_port) if each == "*" else f"{each}:{fitting.http_port}" for each in addresses]
    return [
        "server {",
        *(f"    listen {each};" for each in listens),
        f"    server_name {' '.join(names)};",
        *(f"    {line}" for line in inside),
        f"    location / {{ return 301 https://$host{port}$request_uri; }}",
        "}",
    ]


def _location_lines(host: ServerBlock, root: str) -> list[str]:
    lines = [f"root {quote(root)};"]
    if host.value("deny") is not None:
        lines.append("allow all;")
    lines += [f"{name} off;" for name in ("auth_basic", "auth_request") if host.value(name) is not None]
    return lines
