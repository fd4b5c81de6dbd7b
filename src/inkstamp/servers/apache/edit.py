"""Edits of Apache httpd configuration text that give virtual hosts a certificate, and leave every other byte."""

import posixpath
import re
from collections.abc import Iterator, Sequence

from inkstamp.errors import ServerTrouble
from inkstamp.reach.interface import Host as Machine
from inkstamp.servers.apache.passage import PASSAGE, REDIRECTS
from inkstamp.servers.apache.reading import Reading, VirtualHost
from inkstamp.servers.base import Fitting
from inkstamp.servers.common import REMARK, ProofFolder, which_of
from inkstamp.servers.interface import Listen, Supply
from inkstamp.servers.text import Directive, Splice, indent_at
from inkstamp.servers.tls_policy import PROOF_PATH, TlsSettings

_NEEDS_QUOTES = re.compile(r"[\s\"'\\<>]")
_HTTPS = re.compile(r"https://", re.IGNORECASE)
_HTTPS_PORT = 443
_LOADED = "INKSTAMP_LOADS_TLS"
"""Defined where mod_ssl is loaded by what we wrote."""
_ONE_FILE = (2, 4, 8)
"""From this version on a certificate's file may hold its issuers; before, they stand in a file of their own."""


def quote(value: str) -> str:
    """Write a value so that httpd reads it back the same; ServerTrouble for `${`, which it would fill in."""
    if "${" in value:
        raise ServerTrouble(
            f"Apache would take the ${{ in {value} for a variable",
            where=value,
            advice="choose a data directory without ${ in its path",
        )
    if not _NEEDS_QUOTES.search(value):
        return value
    return '"' + value.replace("\\", "\\\\").replace('"', '\\"') + '"'


def wanted(files: Supply, version: tuple[int, ...]) -> dict[str, str]:
    """Return the directives that name the files, in their order."""
    if version >= _ONE_FILE:
        return {"SSLCertificateFile": files.served, "SSLCertificateKeyFile": files.key}
    return {
        "SSLCertificateFile": files.leaf,
        "SSLCertificateKeyFile": files.key,
        "SSLCertificateChainFile": files.issuers,
    }


def point(host: VirtualHost, text: str, files: Supply, machine: Machine, version: tuple[int, ...]) -> list[Splice]:
    """Make a virtual host that has TLS serve these files.

    Raises:
        ServerTrouble: It has several certificates alike, or names them in a file that others read too.

    """
    splices: list[Splice] = []
    missing = []
    paths = wanted(files, version)
    where = f"{host.block.file}, line {host.block.line}"
    present = [posixpath.join(host.server_root, each.arguments[0]) for each in host.own("sslcertificatefile")
               if each.arguments]  # fmt: skip
    chosen = which_of(machine, present, files, paths["SSLCertificateFile"], where)
    for name, value in paths.items():
        own = list(host.own(name.lower()))
        if chosen is None or chosen >= len(own):
            missing.append(f"{name} {quote(value)}")
            continue
        _check_own(host, own[chosen])
        if own[chosen].arguments != (value,):
            word = own[chosen].words[1]
            splices.append(Splice(own[chosen].file, word.start, word.end, quote(value)))
    if "SSLCertificateChainFile" not in paths:
        splices += [without(each, text) for each in host.own("sslcertificatechainfile") if each.file == host.block.file]
    if missing:
        splices.append(first_lines(host, text, missing))
    return splices


def _check_own(host: VirtualHost, directive: Directive) -> None:
    """Refuse to edit a line that the virtual host only includes: others may read it too."""
    if directive.file != host.block.file or not host.block.start <= directive.start < host.block.end:
        raise ServerTrouble(
            "the line is included, and perhaps read by other virtual hosts too",
            where=f"{directive.file}, line {directive.line}",
            advice=f"move {directive.name} from that file into the <VirtualHost>",
        )


def without(directive: Directive, text: str) -> Splice:
    """Return the edit that takes a directive's whole line out."""
    start = text.rfind("\n", 0, directive.start) + 1
    end = text.find("\n", directive.end) + 1 or len(text)
    return Splice(directive.file, start, end, "")


def first_lines(host: VirtualHost, text: str, lines: Sequence[str]) -> Splice:
    """Return the edit that puts lines at the beginning of a virtual host."""
    end_of_line, indent = style(host, text)
    at = host.block.block_start
    return Splice(host.block.file, at, at, "".join(f"{end_of_line}{indent}{line}" for line in lines))


def style(host: VirtualHost, text: str) -> tuple[str, str]:
    """Return how the virtual host's lines end, and the white space that they begin with."""
    own = [each for each in host.block.block or () if each.file == host.block.file]
    return "\r\n" if "\r\n" in text else "\n", indent_at(text, own[0].start) if own else "    "


def add_tls(host: VirtualHost, reading: Reading, files: Supply, fitting: Fitting) -> list[Splice]:
    """Return the edits that put a virtual host with TLS behind a plain one: the same content, but for what leads to it.

    Raises:
        ServerTrouble: mod_ssl is neither loaded nor found.

    """
    text = reading.texts[host.block.file]
    end_of_line, indent = style(host, text)
    https_port, manner = fitting.https_port, fitting.manner
    addresses = addresses_of(host, fitting)
    loading = _module_lines(reading)
    around = [*loading, *listen_lines(new_listens(host, reading, fitting), https_port, guarded=bool(loading))]
    head = f"<VirtualHost {' '.join(f'{address}:{https_port}' for address in addresses)}>"
    protocols = " ".join(f"+{each}" for each in manner.policy.protocols)
    tls = [
        "SSLEngine on",
        *(f"{name} {quote(value)}" for name, value in wanted(files, reading.setting.version).items()),
    ]
    tls += [f"SSLProtocol -all {protocols}", *_manner_lines(manner)]
    body = _body(host, text).strip("\r\n")
    lines = ["", *around, head, *(f"{indent}{line}" for line in tls), body, "</VirtualHost>"]
    behind = Splice(host.block.file, host.block.end, host.block.end, end_of_line + end_of_line.join(lines))
    if not manner.redirect or any(leading_to_https(host)):
        return [behind]
    return [first_lines(host, text, redirect_lines(reading, https_port)), behind]


def _manner_lines(manner: TlsSettings) -> Iterator[str]:
    if manner.http2:
        yield "Protocols h2 http/1.1"
    if manner.policy.ciphers:
        yield f"SSLCipherSuite {manner.policy.ciphers}"
    if manner.client_roots:
        yield f"SSLCACertificateFile {quote(manner.client_roots)}"
        yield "SSLVerifyClient require"
    if manner.hsts_days:
        yield f'Header always set Strict-Transport-Security "{manner.hsts}"'


def redirect_lines(reading: Reading, https_port: int) -> list[str]:
    """Return what sends plain HTTP to HTTPS, but for proofs; ServerTrouble where mod_rewrite is not loaded."""
    if "rewrite_module" not in reading.modules and "mod_rewrite.c" not in reading.setting.built_in:
        raise ServerTrouble(
            "mod_rewrite is not loaded, which the redirect to HTTPS needs",
            where=reading.setting.main_file,
            advice="load it (on Debian: a2enmod rewrite), or go without the redirect",
        )
    port = "" if https_port == _HTTPS_PORT else f":{https_port}"
    path = PROOF_PATH.replace(".", "\\.")
    return [
        "RewriteEngine on",
        f"RewriteCond %{{REQUEST_URI}} !^{path}",
        # The name without its port, as the visitor asked for it.
        "RewriteCond %{HTTP_HOST} ^([^:]+)",
        f"RewriteRule ^ https://%1{port}%{{REQUEST_URI}} [R=301,L,NE]",
    ]


def _body(host: VirtualHost, text: str) -> str:
    """Return the body of the virtual host, without redirects to HTTPS and what opens the challenge path."""
    closing = text.rfind("\n", 0, host.block.end)
    start, end = host.block.block_start, closing if closing > host.block.block_start else host.block.block_start
    taken = sorted((splice.start, splice.end) for splice in (without(each, text) for each in leading_to_https(host)))
    pieces, at = [], start
    for begin, stop in taken:
        pieces.append(text[at:begin])
        at = min(stop, end)
    pieces.append(text[at:end])
    return PASSAGE.sub("", "".join(pieces))


def leading_to_https(host: VirtualHost) -> Iterator[Directive]:
    """Yield the lines of a virtual host that lead to HTTPS, with their conditions."""
    conditions: list[Directive] = []
    for each in host.block.block or ():
        name = each.name.lower()
        if each.file != host.block.file:
            continue
        if name == "rewritecond":
            conditions.append(each)
            continue
        to_https = any(_HTTPS.match(argument) for argument in each.arguments)
        if to_https and name == "rewriterule":
            yield from conditions
            yield each
        elif to_https and name in REDIRECTS:
            yield each
        conditions = []


def _module_lines(reading: Reading) -> list[str]:
    """Return what loads mod_ssl where nothing else does.

    The guard makes them harmless when somebody loads it with the server's own means later, and each file that needs it
    says it for itself: another one may be taken out. What listens then is not ours to say, so the same guard is around
    that (`listen_lines`).
    """
    if "mod_ssl.c" in reading.setting.built_in or _is_loaded_elsewhere(reading):
        return []
    folders = [
        posixpath.dirname(each.arguments[1])
        for each in reading.directives
        if each.name.lower() == "loadmodule" and len(each.arguments) > 1
    ]
    if not folders:
        raise ServerTrouble(
            "mod_ssl is not loaded, and no other module shows where it would be",
            where=reading.setting.main_file,
            advice="load it (on Debian: a2enmod ssl), then run the command again",
        )
    load = f"    LoadModule ssl_module {quote(folders[0] + '/mod_ssl.so')}"
    return ["<IfModule !ssl_module>", load, f"    Define {_LOADED}", "</IfModule>"]


def _is_loaded_elsewhere(reading: Reading) -> bool:
    """Tell whether mod_ssl is loaded by something that is not one of our guards."""
    ours = _with_guards(reading)
    return any(
        each.name.lower() == "loadmodule" and each.arguments[:1] == ("ssl_module",) and each.file not in ours
        for each in reading.directives
    )


def _with_guards(reading: Reading) -> set[str]:
    return {each.file for each in reading.directives if each.name.lower() == "define" and _LOADED in each.arguments}


def new_listens(host: VirtualHost, reading: Reading, fitting: Fitting) -> list[str]:
    """Return the addresses on which the server does not listen yet for a virtual host's TLS.

    What listens for its plain HTTP tells which: where that is one address, the others may be somebody else's.
    """
    port = fitting.https_port
    ours = set() if _is_loaded_elsewhere(reading) else _with_guards(reading)
    taken = [listen for listen in reading.listens(but=ours) if listen.port == port]
    plain = [each.address for each in reading.listens() if each.port in {each.port for each in host.listens}]
    found: list[str] = []
    for address in addresses_of(host, fitting):
        wanted = (plain or ["*"]) if address == "*" else [address]
        wanted = ["*"] if "*" in wanted else wanted
        found += [each for each in wanted if not any(_answers(listen, each) for listen in taken)]
    return list(dict.fromkeys(found))


def addresses_of(host: VirtualHost, fitting: Fitting) -> list[str]:
    """Return where a plain virtual host answers, and so where it is to answer with TLS."""
    listens = [each for each in host.listens if each.port in {0, fitting.http_port}] or list(host.listens)
    return list(dict.fromkeys(each.address for each in listens))


def listen_lines(addresses: Sequence[str], https_port: int, *, guarded: bool) -> list[str]:
    """Return what has the server listen; `guarded` where mod_ssl is loaded by ourselves.

    The usual means of loading it often bring their own line with them, and the server does not start with two.
    """
    lines = []
    for address in addresses:
        line = f"Listen {https_port}" if address == "*" else f"Listen {address}:{https_port}"
        if not guarded:
            lines.append(line)
            continue
        once = f"{_LOADED}_" + re.sub(r"[^0-9A-Za-z]", "_", line.removeprefix("Listen "))
        lines += [f"<IfDefine {_LOADED}>", f"    <IfDefine !{once}>", f"        Define {once}", f"        {line}"]
        lines += ["    </IfDefine>", "</IfDefine>"]
    return lines


def lacking_listens(host: VirtualHost, reading: Reading, fitting: Fitting) -> list[str]:
    """Return the addresses of a virtual host with TLS at which the server does not listen for plain HTTP."""
    taken = [listen for listen in reading.listens() if listen.port == fitting.http_port]
    if taken and any(each.address == "*" for each in host.listens):
        return []
    addresses = dict.fromkeys(each.address for each in host.listens)
    return [each for each in addresses if not any(_answers(listen, each) for listen in taken)]


def add_plain(host: VirtualHost, text: str, names: Sequence[str], proofs: ProofFolder, fitting: Fitting) -> Splice:
    """Return the edit that puts a host for plain HTTP behind one that has TLS alone: it shows proofs, and leads there.

    Args:
        host: The virtual host with TLS.
        text: Its file's text.
        names: Those of its names that are to be answered.
        proofs: What is shown there.
        fitting: The ports as the public sees them.

    """
    path = proofs.path
    inside = [
        f'Alias "{path}" "{proofs.root.rstrip("/")}{path}"',
        f'<Location "{path}">',
        "    Require all granted",
        "</Location>",
    ]
    leads = "^(?!" + path.replace(".", "\\.") + ")(.*)$"
    return add_plain_host(host, text, names, inside, fitting, remark=REMARK, leads=leads)


def add_plain_host(
    host: VirtualHost,
    text: str,
    names: Sequence[str],
    inside: Sequence[str],
    fitting: Fitting,
    *,
    remark: str,
    leads: str,
) -> Splice:
    """Return the edit that puts a host for plain HTTP behind one that has TLS alone.

    Args:
        host: The virtual host with TLS.
        text: Its file's text.
        names: Those of its names that are to be answered.
        inside: What it answers by itself.
        fitting: The ports as the public sees them.
        remark: Says why it is there.
        leads: The expression of the paths, its first group, that are led to HTTPS.

    """
    end_of_line, indent = style(host, text)
    port = "" if fitting.https_port == _HTTPS_PORT else f":{fitting.https_port}"
    addresses = dict.fromkeys(each.address for each in host.listens)
    lines = [
        "",
        remark,
        f"<VirtualHost {' '.join(f'{each}:{fitting.http_port}' for each in addresses)}>",
        f"{indent}ServerName {names[0]}",
        *([f"{indent}ServerAlias {' '.join(names[1:])}"] if names[1:] else []),
        *(f"{indent}{line}" for line in inside),
        f'{indent}RedirectMatch permanent "{leads}" "https://{names[0]}{port}$1"',
        "</VirtualHost>",
    ]
    return Splice(host.block.file, host.block.end, host.block.end, "".join(f"{end_of_line}{line}" for line in lines))


def _answers(listen: Listen, address: str) -> bool:
    return listen.address in {address, "*"}
