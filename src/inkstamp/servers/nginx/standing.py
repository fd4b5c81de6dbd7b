"""The standing answer of an nginx.

It is an `if` of the `server` block with `return`: the rewrite module's directives of a block run before a location is
chosen (ngx_http_rewrite_module), so that no location, password or redirect is in its way, whatever a snippet brings.
Method, host and path are tested in one expression, since `if` takes one condition; all else goes its way as before.
"""

import re
from collections.abc import Callable, Iterator, Mapping, Sequence

from inkstamp.errors import ServerTrouble
from inkstamp.servers.base import Fitting
from inkstamp.servers.interface import StandingAnswer
from inkstamp.servers.nginx.passage import plain_block_lines
from inkstamp.servers.nginx.reading import BY_EXPRESSION, ServerBlock, best_hosts
from inkstamp.servers.standing_answer import CHALLENGES, REMARK, TOKEN, but_for_thumbprint, in_place_of
from inkstamp.servers.text import Directive, Splice, indent_at

Answering = Callable[..., list[ServerBlock]]
"""Returns the blocks that answer for a name, with or without `tls`."""
_ASKED, _TOKEN = "$inkstamp_asked", "$inkstamp_token"
_ANY_HOST = "[^ ]*"
_ANSWERS = re.compile(r"\$inkstamp_token\.([A-Za-z0-9_-]+)")


def standing_lines(thumbprint: str, hosts: str = _ANY_HOST) -> list[str]:
    """Return the directives that answer challenges at the hosts that an expression matches."""
    asked = rf"^(?:GET|HEAD) {hosts} {CHALLENGES}(?<{_TOKEN[1:]}>{TOKEN})\z"
    return [
        f'set {_ASKED} "$request_method $host $uri";',
        f'if ({_ASKED} ~ "{asked}") {{ return 200 "{_TOKEN}.{thumbprint}"; }}',
    ]


def plan_standing(
    everything: list[ServerBlock],
    texts: Mapping[str, str],
    wanted: StandingAnswer,
    answering: Answering,
    fitting: Fitting,
) -> tuple[list[Splice], list[ServerBlock]]:
    """Return the edits that make sites answer challenges, and the blocks that get one for plain HTTP beside them.

    Raises:
        ServerTrouble: A name has no site, or the default one, which was not asked for.

    """
    plain, lacking = (_named if wanted.names else _all)(everything, wanted, answering)
    splices: list[Splice] = []
    defaults = _defaults(everything)
    for host in plain:
        guarded = not wanted.default_hosts and id(host.block) in defaults
        listed = _expression(host.names)
        hosts = [listed] if guarded else [_ANY_HOST, listed]
        splices += _put(
            host, texts[host.block.file], [standing_lines(wanted.thumbprint, each) for each in hosts if each]
        )
    for host, names in lacking:
        lines = standing_lines(wanted.thumbprint, _expression(names))
        splices.append(_plain_block(host, texts[host.block.file], names, lines, fitting))
    return splices, [host for host, _ in lacking]


_Meant = tuple[list[ServerBlock], list[tuple[ServerBlock, list[str]]]]
"""Blocks that answer plain HTTP, and those with TLS alone, each with the names that lack plain HTTP."""


def _all(everything: list[ServerBlock], wanted: StandingAnswer, answering: Answering) -> _Meant:
    del answering
    plain, lacking = [], []
    for host in everything:
        if host.is_nameless and not wanted.default_hosts:
            continue
        if any(each.port and not each.tls for each in host.listens):
            plain.append(host)
        elif any(each.port and each.tls for each in host.listens):
            names = [name for name in host.names if not name.startswith("~") and "." in name.strip(".")]
            names = [name for name in names if not best_hosts(everything, name, tls=False)]
            lacking += [(host, names)] if names else []
    return plain, lacking


def _named(everything: list[ServerBlock], wanted: StandingAnswer, answering: Answering) -> _Meant:
    plain: dict[int, ServerBlock] = {}
    lacking: dict[int, tuple[ServerBlock, list[str]]] = {}
    for name in wanted.names:
        found = answering(everything, name, tls=False)
        with_tls = [] if found else answering(everything, name, tls=True)
        for host in (*found, *with_tls):
            if host.rank(name) is None and not wanted.default_hosts:
                raise ServerTrouble(
                    f"{name} is answered by the default virtual host, which answers for any name",
                    where=f"{host.block.file}, line {host.block.line}",
                    advice=f"add {name} to a server_name, or give --default-hosts",
                )
        if not found and not with_tls:
            raise ServerTrouble(
                f"no virtual host answers for {name}", advice="`inkstamp survey` shows what there is",
            )  # fmt: skip
        plain |= {id(host.block): host for host in found}
        for host in with_tls:
            lacking.setdefault(id(host.block), (host, []))[1].append(name)
    return list(plain.values()), list(lacking.values())


def _defaults(everything: list[ServerBlock]) -> set[int]:
    """Return the blocks (by `id`) to which names that no block has come by plain HTTP, perhaps since they are first."""
    first: dict[tuple[str, int], ServerBlock] = {}
    explicit: dict[tuple[str, int], ServerBlock] = {}
    for each in everything:
        for listen in each.listens:
            first.setdefault((listen.address, listen.port), each)
            if listen.default:
                explicit[listen.address, listen.port] = each
    plain = {(each.address, each.port) for host in everything for each in host.listens if not each.tls}
    return {id((explicit.get(place) or first[place]).block) for place in plain}


def _expression(names: Sequence[str]) -> str:
    """Return the expression for names as `server_name` has them; empty where all of them are expressions."""
    found = []
    for name in names:
        if name.startswith("~") or not re.fullmatch(r"[a-z0-9_.*-]+", name):
            continue
        if name.startswith("."):
            found.append(rf"(?:[^ ]+\.)?{_plain(name[1:])}")
        elif name.startswith("*."):
            found.append(rf"[^ ]+\.{_plain(name[2:])}")
        elif name.endswith(".*"):
            found.append(rf"{_plain(name[:-2])}\.[^ ]+")
        else:
            found.append(_plain(name))
    return f"(?:{'|'.join(found)})" if found else ""


def _plain(name: str) -> str:
    return name.replace(".", r"\.")


def _present(host: ServerBlock) -> list[Directive]:
    """Return what a standing answer consists of in a block."""
    return [
        each for each in host.block.block or ()
        if (each.name == "set" and each.arguments[:1] == (_ASKED,))
        or (each.name == "if" and each.arguments[:1] == (f"({_ASKED}",))
    ]  # fmt: skip


def _put(host: ServerBlock, text: str, choices: Sequence[Sequence[str]]) -> Iterator[Splice]:
    """Put directives at the beginning of a block, or into the place of those that are there.

    Nothing is done where one of the `choices` is there; else it is the first.
    """
    if not choices:
        return
    lines = choices[0]
    present = [each for each in _present(host) if each.file == host.block.file]
    end_of_line = "\r\n" if "\r\n" in text else "\n"
    own = [each for each in host.block.block or () if each.file == host.block.file]
    indent = indent_at(text, own[0].start) if own else indent_at(text, host.block.start) + "    "
    if not present:
        at = host.block.block_start
        added = "".join(f"{end_of_line}{indent}{line}" for line in (REMARK, *lines))
        rest = text[at:].partition("\n")[0].strip()
        yield Splice(host.block.file, at, at, f"{added}{end_of_line}{indent}" if rest else added)
        return
    first = present[0]
    there = text[first.start : present[-1].end]
    made = but_for_thumbprint(there, [f"{end_of_line}{indent}".join(each) for each in choices], _ANSWERS)
    yield from in_place_of(present, text, made)


def _plain_block(host: ServerBlock, text: str, names: Sequence[str], lines: Sequence[str], fitting: Fitting) -> Splice:
    """Put a block for plain HTTP behind one that has TLS alone: it answers challenges, and leads there."""
    end_of_line = "\r\n" if "\r\n" in text else "\n"
    indent = indent_at(text, host.block.start)
    block = plain_block_lines(host, names, lines, fitting)
    at = host.block.end
    return Splice(host.block.file, at, at, "".join(f"{end_of_line}{indent}{line}" for line in ("", REMARK, *block)))


def thumbprints(hosts: Sequence[ServerBlock], name: str) -> frozenset[str]:
    """Return the account keys for which challenges of a name are answered at blocks; none where one needs files."""
    found = [_thumbprint(host, name) for host in hosts]
    return frozenset(found) if all(found) else frozenset()


def answers_for(host: ServerBlock) -> str:
    """Return the account key for which one block answers by plain HTTP challenges of its names; empty for none."""
    if not _present(host) or all(each.tls for each in host.listens):
        return ""  # as of nearly all of thousands
    return next((found for name in host.names if (found := _thumbprint(host, name))), "")


def _thumbprint(host: ServerBlock, name: str) -> str:
    """Return the thumbprint that one block answers with for a name; empty for none."""
    condition = next((each for each in _present(host) if each.name == "if"), None)
    returned = next(condition.find("return"), None) if condition is not None else None
    if condition is None or returned is None or len(returned.arguments) != 2:
        return ""
    answer = _ANSWERS.fullmatch(returned.arguments[1])
    if answer is None:
        return ""
    there = " ".join(condition.arguments)
    asked = [hosts for hosts in (_ANY_HOST, _expression(host.names)) if f"HEAD) {hosts} /" in there]
    rank = host.rank(name)
    is_listed = rank is not None and rank < BY_EXPRESSION
    return answer[1] if _ANY_HOST in asked or (asked and is_listed) else ""
