"""Edits of nginx `server` blocks that have TLS: protocols, ciphers, redirect, HSTS, HTTP/2, client certificates."""

from collections.abc import Iterator, Sequence

from msgspec import Struct

from inkstamp.errors import ServerTrouble
from inkstamp.servers.nginx.edit import (
    HSTS_VARIABLE,
    HTTP2_APART,
    PROOFS_PASS,
    add_lines,
    hsts_lines,
    quote,
    redirect_line,
)
from inkstamp.servers.nginx.reading import Reading, ServerBlock, hosts, read_listen
from inkstamp.servers.text import Directive, Splice, indent_at
from inkstamp.servers.tls_edits import HSTS, Edits, at, without
from inkstamp.servers.tls_policy import TlsChange

_REWRITES = frozenset({"return", "rewrite", "if"})


class NginxHardener(Struct, frozen=True):
    """Changes some `server` blocks of a configuration; what is added to one goes behind its last `listen`."""

    reading: Reading
    targets: Sequence[ServerBlock]
    """All blocks that may be changed: a line that others read too must not be."""
    wanted: TlsChange
    https_port: int
    version: tuple[int, ...]
    edits: Edits

    def with_tls(self, host: ServerBlock) -> None:
        """Give a block with TLS the settings that are wanted."""
        wanted, lines = self.wanted, list[str]()
        if wanted.policy is not None:
            lines += self._set(host, "ssl_protocols", " ".join(wanted.policy.protocols))
            present = host.value("ssl_ciphers")
            ciphers = present.arguments[0] if present is not None and present.arguments else ""
            if not self.edits.keeps_ciphers(_called(host), ciphers, wanted.policy, replaces=wanted.replaces_ciphers):
                lines += self._set(host, "ssl_ciphers", wanted.policy.ciphers)
        if wanted.client_roots:
            lines += self._set(host, "ssl_client_certificate", quote(wanted.client_roots))
            lines += self._set(host, "ssl_verify_client", "on")
        elif wanted.client_roots is not None and host.value("ssl_verify_client") is not None:
            lines += self._set(host, "ssl_verify_client", "off")
        if wanted.http2 is not None:
            lines += self._http2(host, wanted.http2)
        if wanted.hsts is not None:
            lines += self._hsts(host, wanted.hsts)
        self._add(host, lines)

    def with_plain_http(self, host: ServerBlock) -> None:
        """Give a block that answers plain HTTP the redirect, or take ours out."""
        own = _own(host)
        if not self.wanted.redirect:
            self._no_redirect(host, own)
            return
        if _leads_to_https(host):
            return
        known = any(_says(each, PROOFS_PASS) for each in own)
        lines = [] if known else [PROOFS_PASS]
        self._add(host, [*lines, redirect_line(self.https_port)])

    def _add(self, host: ServerBlock, lines: Sequence[str]) -> None:
        if lines:
            self.edits.splices.append(add_lines(host, self.reading.texts[host.block.file], lines))

    def _set(self, host: ServerBlock, name: str, value: str) -> list[str]:
        """Set a directive where it stands in the block; returns the line to add where it does not."""
        own, outer = next(host.block.find(name), None), host.outer.get(name)
        words = tuple(value.strip('"').split(" ")) if not value.startswith('"') else (value.strip('"'),)
        present = own or outer
        if present is not None and present.arguments == words:
            return []
        if own is None:
            return [f"{name} {value};"]
        self._expect_own(own)
        self.edits.splices.append(Splice(own.file, own.words[1].start, own.words[-1].end, value))
        return []

    def _expect_own(self, directive: Directive) -> None:
        """Refuse to edit a line that blocks which are not meant read too."""
        mine = {id(each.block) for each in self.targets}
        for other in hosts(self.reading):
            if id(other.block) not in mine and directive in (other.block.block or ()):
                raise ServerTrouble(
                    f"the line is also read by the virtual host of {' '.join(other.names) or 'no name'}",
                    where=at(directive),
                    advice=f"name that site too, or move {directive.name} from that file into the server blocks",
                )

    def _http2(self, host: ServerBlock, on: bool) -> list[str]:
        if self.version >= HTTP2_APART:
            return self._set(host, "http2", "on" if on else "off")
        for each in host.block.find("listen"):
            word = next((word for word in each.words if word.value == "http2"), None)
            if not read_listen(each, all_tls=False).tls or (word is not None) is on:
                continue
            self._expect_own(each)
            seen = f"`listen {each.arguments[0]}` offers HTTP/2 to all sites there, or to none"
            self.edits.tell("http/2", at(each), seen)
            if word is None:
                self.edits.splices.append(Splice(each.file, each.words[-1].end, each.words[-1].end, " http2"))
            else:
                before = each.words[each.words.index(word) - 1]
                self.edits.splices.append(Splice(each.file, before.end, word.end, ""))
        return []

    # HSTS

    def _hsts(self, host: ServerBlock, value: str) -> list[str]:
        own = [each for each in host.block.find("add_header") if _is_hsts(each)]
        headers = list(host.block.find("add_header"))
        inherited = [] if headers else self._outer_headers(host)
        if not value:
            self._no_hsts(host, own, inherited)
            return []
        mixed = any(not each.tls for each in host.listens)
        self._in_locations(
            host, f"add_header Strict-Transport-Security {HSTS_VARIABLE if mixed else quote(value)} always;"
        )
        if own:
            self._change_hsts(host, own[0], value)
            return []
        if any(_is_hsts(each) and each.arguments[1:2] == (value,) for each in inherited):
            return []
        # A block with a header of its own inherits none: those of outside are said again.
        lines = [_written(each, self.reading) for each in inherited if not _is_hsts(each)]
        if not mixed:
            return [*lines, f"add_header Strict-Transport-Security {quote(value)} always;"]
        known = any(_says(each, PROOFS_PASS) for each in _own(host))
        return [*lines, *([] if known else [PROOFS_PASS]), *hsts_lines(value)]

    def _outer_headers(self, host: ServerBlock) -> list[Directive]:
        for each in self.reading.directives:
            if each.name == "http" and any(block is host.block for block in each.block or ()):
                return list(each.find("add_header"))
        return []

    def _change_hsts(self, host: ServerBlock, header: Directive, value: str) -> None:
        place = header
        if header.arguments[1:2] == (HSTS_VARIABLE,):
            ours = (inner for each in host.block.find("if") for inner in each.find("set"))
            place = next((each for each in ours if each.arguments[:1] == (HSTS_VARIABLE,)), header)
        present = place.arguments[1] if len(place.arguments) > 1 else ""
        if present == value:
            return
        if "$" in present or not present:
            self.edits.tell("hsts", at(header), "the header has a variable, and stays", "change it by hand")
            return
        self._expect_own(header)
        self.edits.splices.append(Splice(place.file, place.words[2].start, place.words[2].end, quote(value)))

    def _no_hsts(self, host: ServerBlock, own: Sequence[Directive], inherited: Sequence[Directive]) -> None:
        ours = [
            each for each in _own(host)
            if (each.name == "set" and each.arguments[:1] == (HSTS_VARIABLE,))
            or (each.name == "if" and any(inner.arguments[:1] == (HSTS_VARIABLE,) for inner in each.find("set")))
        ]  # fmt: skip
        below = [each for location in _below(host.block) for each in location.find("add_header") if _is_hsts(each)]
        for each in (*own, *ours, *below):
            self._expect_own(each)
            self.edits.splices.append(without(each, self.reading.texts[each.file]))
        outside = next((each for each in inherited if _is_hsts(each)), None)
        if outside is not None:
            self.edits.tell("hsts", at(outside), "the header is set for all sites, and stays", "take that line out")

    def _in_locations(self, host: ServerBlock, line: str) -> None:
        """Say a header again in the locations that have headers of their own: they inherit none."""
        for location in _below(host.block):
            headers = list(location.find("add_header"))
            if not headers or any(map(_is_hsts, headers)):
                continue
            first = headers[0]
            if first.file != host.block.file:
                called = " ".join(word.value for word in location.words)
                seen = f"`{called}` has headers of its own, and will not send HSTS"
                self.edits.tell("hsts", at(first), seen, f"add to that file: {line}")
                continue
            text = self.reading.texts[first.file]
            end = "\r\n" if "\r\n" in text else "\n"
            self.edits.splices.append(
                Splice(first.file, first.start, first.start, f"{line}{end}{indent_at(text, first.start)}")
            )

    # The redirect

    def _no_redirect(self, host: ServerBlock, own: Sequence[Directive]) -> None:
        ours = [each for each in own if each.name == "if" and _condition(each) == "($scheme = http)"]
        others = [each for each in own if each.name in _REWRITES and each not in ours and not _says(each, PROOFS_PASS)]
        for each in ours:
            self._expect_own(each)
            self.edits.splices.append(without(each, self.reading.texts[each.file]))
        if ours and not others:
            self.edits.splices += [
                without(each, self.reading.texts[each.file]) for each in own if _says(each, PROOFS_PASS)
            ]
        if not ours and _leads_to_https(host):
            self.edits.tell(
                "redirect", at(host.block), "its redirect was written by hand, and stays", "take it out there"
            )


def _called(host: ServerBlock) -> str:
    return host.names[0] if host.names else at(host.block)


def _own(host: ServerBlock) -> list[Directive]:
    return list(host.block.block or ())


def _is_hsts(directive: Directive) -> bool:
    return directive.arguments[:1] != () and directive.arguments[0].lower() == HSTS


def _condition(directive: Directive) -> str:
    return " ".join(directive.arguments)


def _says(directive: Directive, line: str) -> bool:
    """Tell whether an `if` is that which ends conditions for proofs."""
    return directive.name == "if" and any(directive.find("break")) and _condition(directive) in line.replace('"', "")


def _written(directive: Directive, reading: Reading) -> str:
    return reading.texts[directive.file][directive.start : directive.end]


def _below(block: Directive) -> Iterator[Directive]:
    for each in block.block or ():
        if each.block is not None and each.name in {"location", "if", "limit_except"}:
            yield each
            yield from _below(each)


def _leads_to_https(host: ServerBlock) -> bool:
    """Tell whether a block sends plain HTTP to HTTPS already: by itself, on a condition, or for all paths."""
    whole = [each for each in host.block.find("location") if each.arguments == ("/",)]
    conditions = [
        each for each in host.block.find("if") if "$scheme" in _condition(each) or "$https" in _condition(each)
    ]
    found = [host.block, *whole, *conditions]
    return any(
        any("https://" in word for word in each.arguments)
        for block in found for name in ("return", "rewrite") for each in block.find(name)
    )  # fmt: skip
