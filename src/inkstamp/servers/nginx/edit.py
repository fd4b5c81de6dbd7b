"""Edits of nginx configuration text that leave every other byte as it is."""

import re
from collections.abc import Sequence

from inkstamp.errors import ServerTrouble
from inkstamp.servers.base import Fitting
from inkstamp.servers.interface import Supply
from inkstamp.servers.nginx.reading import ServerBlock, read_listen
from inkstamp.servers.text import Directive, Splice, indent_at
from inkstamp.servers.tls_edits import without
from inkstamp.servers.tls_policy import PROOF_PATH, TlsSettings

_NEEDS_QUOTES = re.compile(r"[\s;{}#\"'\\]")
HTTPS = 443
HTTP2_APART = (1, 25, 1)
"""From this version on HTTP/2 has a directive of its own, and is no word of `listen`."""
PASSPHRASES = "ssl_password_file"
HSTS_VARIABLE = "$inkstamp_hsts"
PROOFS_PASS = f'if ($uri ~ "^{PROOF_PATH.replace(".", chr(92) + ".")}") {{ break; }}'
"""Ends the conditions of a block for proofs, which CAs ask for by plain HTTP."""
_REST_OF_LINE = re.compile(r"[ \t]*(#[^\n]*)?(?=\r?\n)")


def quote(value: str) -> str:
    """Write a value so that nginx reads it back the same; ServerTrouble for a `$`, which it would expand."""
    if "$" in value:
        raise ServerTrouble(
            f"nginx would take the $ in {value} for a variable",
            where=value,
            advice="choose a data directory without a $ in its path",
        )
    if not _NEEDS_QUOTES.search(value):
        return value
    return '"' + value.replace("\\", "\\\\").replace('"', '\\"') + '"'


def set_value(directive: Directive, value: str) -> list[Splice]:
    """Change the one argument of a directive; nothing when it is that already."""
    if directive.arguments == (value,):
        return []
    word = directive.words[1]
    return [Splice(directive.file, word.start, word.end, quote(value))]


def add_lines(host: ServerBlock, text: str, lines: Sequence[str]) -> Splice:
    """Insert directives, a line each, behind the block's last own `listen`, or at its beginning.

    Args:
        host: The `server` block; it stands in `text`.
        text: Its file's text.
        lines: Directives with their semicolons.

    """
    block = host.block
    own = [each for each in block.block or () if each.file == block.file]
    anchor = next((each for name in ("listen", "server_name") for each in reversed(own) if each.name == name), None)
    end_of_line = "\r\n" if "\r\n" in text else "\n"
    if anchor is None:
        at = block.block_start
        indent = indent_at(text, own[0].start) if own else indent_at(text, block.start) + "    "
    else:
        indent = indent_at(text, anchor.start)
        at = anchor.end
        rest = _REST_OF_LINE.match(text, at)
        if rest:
            at = rest.end()  # a comment on the anchor's line stays with it
    inserted = "".join(f"{end_of_line}{indent}{line}" for line in lines)
    return Splice(block.file, at, at, inserted)


def tls_listens(host: ServerBlock, taken: set[tuple[str, int]], fitting: Fitting) -> list[str]:
    """Return the `listen` lines that give a plain block TLS where it answers plain HTTP now.

    Args:
        host: The block.
        taken: Addresses and ports that some block of the configuration listens on already.
        fitting: The ports of plain HTTP and of TLS as the public sees them, and what else is wanted.

    """
    own = [(read_listen(each, all_tls=False), each) for each in host.block.find("listen")]
    plain = [pair for pair in own if pair[0].port and not pair[0].tls]
    plain = [pair for pair in plain if pair[0].port == fitting.http_port] or plain
    https_port, version = fitting.https_port, host.folders.version
    # Since 1.25.1 a directive of its own; before, a word that counts for all blocks at that address.
    http2 = fitting.manner.http2 and version < HTTP2_APART
    last = ["http2 on;"] if fitting.manner.http2 and not http2 else []
    tls = "ssl http2" if http2 else "ssl"
    if not plain:
        return [f"listen {https_port} {tls};", *last]
    lines = []
    for listen, directive in plain:
        to = str(https_port) if listen.address == "*" else f"{listen.address}:{https_port}"
        # The option belongs to the socket, and nginx takes it only once for each.
        fresh = (listen.address, https_port) not in taken
        options = [word for word in directive.arguments[1:] if word.startswith("ipv6only=") and fresh]
        lines.append(" ".join(["listen", to, tls, *options]) + ";")
    return [*dict.fromkeys(lines), *last]


def certificate_lines(supply: Supply) -> list[str]:
    """Return the directives that name an edition's files, in a block that has none."""
    lines = [f"ssl_certificate {quote(supply.served)};", f"ssl_certificate_key {quote(supply.key)};"]
    return [*lines, f"{PASSPHRASES} {quote(supply.passphrase_file)};"] if supply.passphrase_file else lines


def point_at_passphrase(host: ServerBlock, text: str, supply: Supply, *, only_key: bool) -> list[Splice]:
    """Return the edits by which a block that has TLS reads the passphrase of an edition's key, or no longer reads any.

    nginx takes one file of passphrases for all keys of a block.

    Args:
        host: The block.
        text: Its file's text.
        supply: The edition.
        only_key: Whether its key is the only one of the block.

    Raises:
        ServerTrouble: The block has another key, and another file of passphrases for it.

    """
    own, inherited = next(iter(host.block.find(PASSPHRASES)), None), host.value(PASSPHRASES)
    wanted = supply.passphrase_file
    present = host.absolute(inherited.arguments[0]) if inherited is not None and inherited.arguments else ""
    if present == wanted or not (present or wanted):
        return []
    if not wanted:
        return [without(own, text)] if own is not None and only_key and own.file == host.block.file else []
    if present and not only_key:
        where = own or host.block
        raise ServerTrouble(
            f"the block has another key, whose passphrase is in {present}, and nginx reads one file for all of a block",
            where=f"{where.file}, line {where.line}",
            advice=f"have both keys use that one: key_passphrase_file = “{present}”; or give this server the plain "
            "key: decrypt = true",
        )
    if own is not None:
        return set_value(own, wanted)
    return [add_lines(host, text, [f"{PASSPHRASES} {quote(wanted)};"])]


def tls_lines(host: ServerBlock, supply: Supply, manner: TlsSettings, https_port: int) -> list[str]:
    """Return what a plain block needs beside its `listen` lines to answer with TLS.

    Args:
        host: The block; what it has or inherits is not said again.
        supply: Certificate and key.
        manner: What else is wanted.
        https_port: The port for TLS, as the public sees it.

    """
    lines = certificate_lines(supply)
    policy = manner.policy
    named = bool(policy.ciphers)
    if not any(host.block.find("ssl_protocols")) and (named or host.value("ssl_protocols") is None):
        lines.append(f"ssl_protocols {' '.join(policy.protocols)};")
    if named and not any(host.block.find("ssl_ciphers")):
        lines.append(f"ssl_ciphers {policy.ciphers};")
    if manner.client_roots:
        lines += [f"ssl_client_certificate {quote(manner.client_roots)};", "ssl_verify_client on;"]
    if manner.redirect or manner.hsts_days:
        lines.append(PROOFS_PASS)
    if manner.redirect:
        lines.append(redirect_line(https_port))
    if manner.hsts_days:
        lines += hsts_lines(manner.hsts)
    return lines


def redirect_line(https_port: int) -> str:
    """Return what sends plain HTTP to HTTPS."""
    port = "" if https_port == HTTPS else f":{https_port}"
    return f"if ($scheme = http) {{ return 301 https://$host{port}$request_uri; }}"


def hsts_lines(value: str) -> list[str]:
    """Return what sends the HSTS header in a block that may answer plain HTTP too.

    An empty value is not sent: the header must not be in what is said by plain HTTP (RFC 6797 section 7.2).
    """
    variable = HSTS_VARIABLE
    return [
        f'set {variable} "";',
        f'if ($scheme = https) {{ set {variable} "{value}"; }}',
        f"add_header Strict-Transport-Security {variable} always;",
    ]
