"""The standing answer of an Apache httpd, by its core and mod_alias.

`Redirect 200` ends a request with that status in the fixup phase, and `ErrorDocument 200` says what is sent with it, as
an expression (httpd documentation, since 2.4.13). It is in an `<If>`, the last of all sections that are merged, which
tests method and host; a request that it is not for goes its way. What acts before that phase, the rewriting, proxies
and redirects of a virtual host, is told to leave tokens alone, and mod_rewrite is off, since `.htaccess` files have
rules too.
"""

import re
from collections.abc import Sequence

from inkstamp.errors import ServerTrouble
from inkstamp.servers.apache.edit import add_plain_host, style
from inkstamp.servers.apache.passage import asks_who, first_and_last, has_proxies, spare_redirects
from inkstamp.servers.apache.reading import Reading, VirtualHost, answering
from inkstamp.servers.base import Fitting
from inkstamp.servers.interface import StandingAnswer
from inkstamp.servers.standing_answer import CHALLENGES, REMARK, TOKEN, but_for_thumbprint
from inkstamp.servers.text import Directive, Splice

_LEAST = (2, 4, 13)
"""The first version that takes an expression for ErrorDocument."""
_ANY_TOKEN = rf"^{CHALLENGES}{TOKEN}\z"
_SECTION = rf"^{CHALLENGES}(?<INKSTAMP_TOKEN>{TOKEN})\z"
_ANSWERS = re.compile(r"%\{env:MATCH_INKSTAMP_TOKEN\}\.([A-Za-z0-9_-]+)")
_EXAMPLE = "/.well-known/acme-challenge/x"


def _section(host: VirtualHost, thumbprint: str, hosts: str) -> list[str]:
    there = f" && %{{HTTP_HOST}} =~ m#^{hosts}(?::[0-9]+)?$#i" if hosts else ""
    inside = ["Require all granted", *(["AuthType None"] if asks_who(host) else [])]
    inside += ["<IfModule rewrite_module>", "    RewriteEngine off", "</IfModule>"]
    inside += [f'ErrorDocument 200 "%{{env:MATCH_INKSTAMP_TOKEN}}.{thumbprint}"', "Redirect 200"]
    return [
        f'<LocationMatch "{_SECTION}">',
        f'    <If "%{{REQUEST_METHOD}} =~ /^(GET|HEAD)$/{there}">',
        *(f"        {line}" for line in inside),
        "    </If>",
        "</LocationMatch>",
    ]


def expect_able(reading: Reading) -> None:
    """Raise ServerTrouble where this httpd cannot answer by itself."""
    advice = "let challenge responses be files: http-01 without a standing answer"
    if reading.setting.version < _LEAST:
        raise ServerTrouble(
            f"Apache httpd {'.'.join(map(str, reading.setting.version))} cannot answer challenges by itself, "
            "which takes 2.4.13", where=reading.setting.main_file, advice=advice,
        )  # fmt: skip
    if "alias_module" not in reading.modules and "mod_alias.c" not in reading.setting.built_in:
        raise ServerTrouble(
            "mod_alias is not loaded, which a standing answer needs", where=reading.setting.main_file,
            advice="load it (on Debian: a2enmod alias), then run the command again",
        )  # fmt: skip


def plain_hosts(everything: list[VirtualHost], wanted: StandingAnswer) -> list[VirtualHost]:
    """Return the hosts that are to answer challenges by plain HTTP.

    Raises:
        ServerTrouble: A name has no virtual host, or the default one, which was not asked for.

    """
    if not wanted.names:
        sites = [host for host in everything if not host.tls and not host.turns_away]
        return [host for host in sites if host.names or wanted.default_hosts]
    found: dict[int, VirtualHost] = {}
    for name in wanted.names:
        there = answering(everything, name, tls=False)
        for host in (*there, *([] if there else answering(everything, name, tls=True))):
            if not host.answers(name) and not wanted.default_hosts:
                raise ServerTrouble(
                    f"{name} is answered by the default virtual host, which answers for any name",
                    where=f"{host.block.file}, line {host.block.line}",
                    advice=f"add {name} to a ServerAlias, or give --default-hosts",
                )
        if not there and not answering(everything, name, tls=True):
            raise ServerTrouble(f"no virtual host answers for {name}", advice="`inkstamp survey` shows what there is")
        found |= {id(host.block): host for host in there}
    return list(found.values())


def lacking_plain(everything: list[VirtualHost], wanted: StandingAnswer) -> list[tuple[VirtualHost, list[str]]]:
    """Return the hosts with TLS of names that nothing answers by plain HTTP, each with these names."""
    found: dict[int, tuple[VirtualHost, list[str]]] = {}
    for host in everything:
        if host.tls and host.names:
            asked = [name for name in wanted.names if host.answers(name)] if wanted.names else host.names
            names = [name for name in asked if not answering(everything, name, tls=False)]
            if names:
                found[id(host.block)] = host, names
    return list(found.values())


def answer_at(host: VirtualHost, text: str, wanted: StandingAnswer, *, is_first: bool) -> list[Splice]:
    """Return the edits that make a host answer challenges; none where it does already.

    Args:
        host: A virtual host for plain HTTP.
        text: Its file's text.
        wanted: What it is to answer.
        is_first: Whether names that no host has come to it.

    """
    guarded = bool(host.names) and not wanted.default_hosts and is_first
    listed = _expression(host.names)
    choices = [_section(host, wanted.thumbprint, each) for each in ([listed] if guarded else ["", listed])]
    end_of_line, indent = style(host, text)
    present = _present(host)
    if present is not None:
        there = text[present.start : present.end]
        made = but_for_thumbprint(there, [f"{end_of_line}{indent}".join(each) for each in choices], _ANSWERS)
        return [] if there == made else [Splice(present.file, present.start, present.end, made)]
    return [
        *first_and_last(host, text, _leave_alone(host), [REMARK, *choices[0]]),
        *spare_redirects(host, _EXAMPLE, f"^{CHALLENGES}{TOKEN}$"),
    ]


def _leave_alone(host: VirtualHost) -> list[str]:
    """Return what keeps the rewriting and the proxies of a host from taking tokens."""
    lines = [f'ProxyPassMatch "{_ANY_TOKEN}" !'] if has_proxies(host) else []
    # Rules are met in their order, and conditions belong to the rule that follows them: this one goes first.
    lines += [f'RewriteRule "{_ANY_TOKEN}" - [END]'] if any(host.own("rewriterule")) else []
    return [REMARK, *lines] if lines else []


def plain_host(host: VirtualHost, text: str, names: Sequence[str], wanted: StandingAnswer, fitting: Fitting) -> Splice:
    """Return the edit that puts a host for plain HTTP behind one that has TLS alone: it answers challenges."""
    inside = _section(host, wanted.thumbprint, _expression(names))
    spared = rf"^(?!{CHALLENGES}{TOKEN}$)(.*)$"
    return add_plain_host(host, text, names, inside, fitting, remark=REMARK, leads=spared)


def first_hosts(everything: list[VirtualHost]) -> set[int]:
    """Return the hosts (by `id` of their blocks) to which names that no host has come: the first of each address."""
    first: dict[tuple[str, int], VirtualHost] = {}
    for each in everything:
        for listen in each.listens:
            first.setdefault((listen.address, listen.port), each)
    return {id(each.block) for each in first.values()}


def _expression(names: Sequence[str]) -> str:
    """Return the expression for names as ServerName and ServerAlias have them."""
    plain = [name for name in names if re.fullmatch(r"[a-z0-9_.*?-]+", name)]
    made = [name.replace(".", r"\.").replace("*", "[^:]*").replace("?", "[^:]") for name in plain]
    return f"(?:{'|'.join(made)})"


def _present(host: VirtualHost) -> Directive | None:
    """Return the section of a standing answer, where a host has one of its own."""
    found = [each for each in host.own("locationmatch") if each.arguments[:1] == (_SECTION,)]
    return found[0] if found and found[0].file == host.block.file else None


def thumbprints(everything: list[VirtualHost], name: str) -> frozenset[str]:
    """Return the account keys for which challenges of a name are answered; none where a host needs files."""
    found = [_thumbprint(host, name) for host in answering(everything, name, tls=False)]
    return frozenset(found) if all(found) else frozenset()


def answers_for(host: VirtualHost) -> str:
    """Return the account key for which a host answers by plain HTTP challenges of its names; empty for none."""
    if host.tls or _present(host) is None:
        return ""  # as of nearly all of thousands
    return next((found for name in host.names if (found := _thumbprint(host, name))), "")


def _thumbprint(host: VirtualHost, name: str) -> str:
    section = _present(host)
    condition = next((each for each in section.block or () if each.name.lower() == "if"), None) if section else None
    document = next((each for each in (condition.block or () if condition else ())
                     if each.name.lower() == "errordocument" and len(each.arguments) == 2), None)  # fmt: skip
    answer = _ANSWERS.fullmatch(document.arguments[1]) if document is not None else None
    if answer is None or condition is None:
        return ""
    tested = " ".join(condition.arguments)
    is_for_it = "HTTP_HOST" not in tested or (_expression(host.names) in tested and host.answers(name))
    return answer[1] if is_for_it else ""
