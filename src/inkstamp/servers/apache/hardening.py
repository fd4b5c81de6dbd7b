"""Edits of Apache virtual hosts that have TLS: protocols, ciphers, redirect, HSTS, HTTP/2, client certificates."""

import re
from collections.abc import Iterator, Sequence

from msgspec import Struct

from inkstamp.errors import ServerTrouble
from inkstamp.servers.apache.edit import first_lines, leading_to_https, quote, redirect_lines, style
from inkstamp.servers.apache.reading import Reading, VirtualHost
from inkstamp.servers.text import Directive, Splice
from inkstamp.servers.tls_edits import HSTS, Edits, at, without
from inkstamp.servers.tls_policy import TlsChange

_ALL = frozenset({"TLSv1", "TLSv1.1", "TLSv1.2", "TLSv1.3"})
_OURS = re.compile(r"https://%1(:\d+)?%\{REQUEST_URI\}")


class ApacheHardener(Struct, frozen=True):
    """Changes some virtual hosts; what is added to one goes to its end, since the last of a directive counts."""

    reading: Reading
    wanted: TlsChange
    https_port: int
    edits: Edits

    def with_tls(self, host: VirtualHost) -> None:
        """Give a virtual host with TLS the settings that are wanted."""
        wanted, lines = self.wanted, list[str]()
        self._expect_written_once(host)
        if wanted.policy is not None:
            present = host.value("sslprotocol")
            if _protocols(present.arguments if present is not None else ("all",)) != set(wanted.policy.protocols):
                named = " ".join(f"+{each}" for each in wanted.policy.protocols)
                lines += self._set(host, "SSLProtocol", f"-all {named}")
            ciphers = _ciphers(host)
            if not self.edits.keeps_ciphers(_called(host), ciphers, wanted.policy, replaces=wanted.replaces_ciphers):
                lines += self._set(host, "SSLCipherSuite", wanted.policy.ciphers)
        if wanted.client_roots:
            lines += self._set(host, "SSLCACertificateFile", quote(wanted.client_roots))
            lines += self._set(host, "SSLVerifyClient", "require")
        elif wanted.client_roots is not None and host.value("sslverifyclient") is not None:
            lines += self._set(host, "SSLVerifyClient", "none")
        if wanted.http2 is not None:
            lines += self._http2(host, wanted.http2)
        if wanted.hsts is not None:
            lines += self._hsts(host, wanted.hsts)
        if lines:
            self.edits.splices.append(_last_lines(host, self.reading.texts[host.block.file], lines))

    def with_plain_http(self, host: VirtualHost) -> None:
        """Give a virtual host for plain HTTP the redirect, or take ours out."""
        self._expect_written_once(host)
        leading, text = list(leading_to_https(host)), self.reading.texts[host.block.file]
        if self.wanted.redirect:
            if not leading:
                self.edits.splices.append(first_lines(host, text, redirect_lines(self.reading, self.https_port)))
            return
        ours = _our_redirect(host)
        self.edits.splices += [without(each, text) for each in ours]
        if leading and not ours:
            seen = "its redirect was written by hand, and stays"
            self.edits.tell("redirect", at(leading[-1]), seen, "take it out there")

    def _expect_written_once(self, host: VirtualHost) -> None:
        """Refuse a virtual host that a macro writes, which others use too, and the main server."""
        block = host.block
        if block.name.lower() != "virtualhost":
            raise ServerTrouble("the server has no virtual host with TLS", where=block.file, advice="add one there")
        twins = [each for each in self.reading.directives if (each.file, each.start) == (block.file, block.start)]
        if len(twins) > 1:
            raise ServerTrouble(
                "the virtual host is written by a macro, which writes others too", where=at(block),
                advice="change the macro by hand",
            )  # fmt: skip

    def _set(self, host: VirtualHost, name: str, value: str) -> list[str]:
        """Set a directive where the one in force stands in the virtual host; returns the line to add otherwise."""
        present = host.value(name.lower())
        words = tuple(value.split(" ")) if not value.startswith('"') else (value.strip('"'),)
        if present is not None and present.arguments == words:
            return []
        own = next(reversed(list(host.own(name.lower()))), None)
        block = host.block
        if own is None or own.file != block.file or not block.start <= own.start < block.end or len(own.words) < 2:
            return [f"{name} {value}"]
        self.edits.splices.append(Splice(own.file, own.words[1].start, own.words[-1].end, value))
        return []

    def _http2(self, host: VirtualHost, on: bool) -> list[str]:
        present = host.value("protocols")
        if ("h2" in present.arguments if present is not None else False) is on:
            return []
        if on:
            self._expect_module("http2", "HTTP/2")
        return self._set(host, "Protocols", "h2 http/1.1" if on else "http/1.1")

    def _expect_module(self, name: str, what: str) -> None:
        if f"{name}_module" not in self.reading.modules and f"mod_{name}.c" not in self.reading.setting.built_in:
            raise ServerTrouble(
                f"mod_{name} is not loaded, which {what} needs", where=self.reading.setting.main_file,
                advice=f"load it (on Debian: a2enmod {name}), then run the command again",
            )  # fmt: skip

    def _hsts(self, host: VirtualHost, value: str) -> list[str]:
        own = [each for each in host.own("header") if _value_at(each)]
        inherited = any(each.name.lower() == "header" and _value_at(each) for each in host.outer)
        mine = [each for each in own if each.file == host.block.file]
        if not value:
            self.edits.splices += [without(each, self.reading.texts[each.file]) for each in mine]
            lasting = inherited or len(mine) < len(own)
            return ["Header always unset Strict-Transport-Security"] if lasting else []
        if own and all(each.arguments[_value_at(each)] == value for each in own):
            return []
        if mine and mine == own:
            for each in mine:
                word = each.words[_value_at(each) + 1]
                self.edits.splices.append(Splice(each.file, word.start, word.end, f'"{value}"'))
            return []
        self._expect_module("headers", "HSTS")
        return [f'Header always set Strict-Transport-Security "{value}"']


def _called(host: VirtualHost) -> str:
    return host.names[0] if host.names else at(host.block)


def _protocols(arguments: Sequence[str]) -> set[str]:
    """Return which versions `SSLProtocol` allows; later words have the last say."""
    allowed: set[str] = set()
    for each in arguments:
        name = each.lstrip("+-")
        meant = _ALL if name.lower() == "all" else {known for known in _ALL if known.lower() == name.lower()}
        allowed = allowed - meant if each.startswith("-") else allowed | meant if each.startswith("+") else set(meant)
    return allowed


def _ciphers(host: VirtualHost) -> str:
    """Return the list in force for TLS 1.2; one with a protocol before it may be for TLS 1.3."""
    for each in (*reversed(list(host.own("sslciphersuite"))), *reversed(host.outer)):
        if each.name.lower() == "sslciphersuite" and (len(each.arguments) == 1 or each.arguments[0].lower() == "ssl"):
            return each.arguments[-1]
    return ""


def _value_at(header: Directive) -> int:
    """Return which argument of a `Header` line is the value of HSTS; 0 for one about anything else."""
    words = [each.lower() for each in header.arguments]
    if HSTS not in words[:3] or {"unset", "edit", "edit*", "note", "echo"} & set(words[:2]):
        return 0
    place = words.index(HSTS) + 1
    return place if place < len(words) else 0


def _our_redirect(host: VirtualHost) -> list[Directive]:
    """Return the lines of a redirect that was written here."""
    conditions: list[Directive] = []
    for each in host.block.block or ():
        if each.name.lower() == "rewritecond":
            conditions.append(each)
            continue
        if each.name.lower() == "rewriterule" and any(_OURS.fullmatch(word) for word in each.arguments):
            return [*_engine(host, each), *conditions, each]
        conditions = []
    return []


def _engine(host: VirtualHost, rule: Directive) -> Iterator[Directive]:
    """Yield the line that switches rewriting on, where nothing else needs it."""
    others = [each for each in host.own("rewriterule") if each is not rule]
    if not others:
        yield from host.own("rewriteengine")


def _last_lines(host: VirtualHost, text: str, lines: Sequence[str]) -> Splice:
    """Return the edit that puts lines before the end of a virtual host."""
    end_of_line, indent = style(host, text)
    closing = text.rfind("\n", 0, host.block.end) + 1
    closing = max(closing, host.block.block_start)
    return Splice(host.block.file, closing, closing, "".join(f"{indent}{line}{end_of_line}" for line in lines))
