"""Edits of HAProxy's `bind` lines that have TLS, and of the rules beside them."""

from collections.abc import Iterator, Sequence

from msgspec import Struct

from inkstamp.servers.haproxy.reading import SECTIONS, Bind, Reading
from inkstamp.servers.haproxy.syntax import parse, quote
from inkstamp.servers.text import Directive, Splice, indent_at
from inkstamp.servers.tls_edits import HSTS, Edits, at, without
from inkstamp.servers.tls_policy import PROOF_PATH, TlsChange

_HTTPS = 443
_FORCED = ("force-sslv3", "force-tlsv10", "force-tlsv11", "force-tlsv12", "ssl-max-ver")


def redirect_rule(https_port: int) -> str:
    """Return the rule that sends plain HTTP to HTTPS, but for proofs."""
    to = "scheme https" if https_port == _HTTPS else f"prefix https://%[hdr(host),field(1,:)]:{https_port}"
    return f"http-request redirect {to} code 301 unless {{ ssl_fc }} or {{ path_beg {PROOF_PATH} }}"


def hsts_rule(value: str) -> str:
    """Return the rule that sends the HSTS header over TLS."""
    return f"http-response set-header Strict-Transport-Security {value} if {{ ssl_fc }}"


class HaproxyHardener(Struct, frozen=True):
    """Changes some `bind` lines; each counts for all names whose certificates it loads."""

    reading: Reading
    wanted: TlsChange
    https_port: int
    edits: Edits

    def with_tls(self, bind: Bind) -> None:
        """Give a `bind` with TLS the settings that are wanted."""
        wanted, words = self.wanted, list[str]()
        if wanted.policy is not None:
            words += self._policy(bind)
        if wanted.http2 is not None:
            present = _value(bind.line, "alpn") or self._default("alpn")
            if ("h2" in present.split(",")) is not wanted.http2:
                words += self._set(bind.line, "alpn", "h2,http/1.1" if wanted.http2 else "http/1.1")
        if wanted.client_roots:
            words += self._set(bind.line, "ca-file", wanted.client_roots)
            words += self._set(bind.line, "verify", "required")
        elif wanted.client_roots is not None and _value(bind.line, "verify") not in {"", "none"}:
            words += self._set(bind.line, "verify", "none")
        if words:
            end = bind.line.end
            self.edits.splices.append(Splice(bind.line.file, end, end, f" {' '.join(words)}"))

    def _policy(self, bind: Bind) -> Iterator[str]:
        policy, line = self.wanted.policy, bind.line
        if policy is None:
            return
        forced = next((each for each in line.arguments if each in _FORCED), "")
        if forced:
            self.edits.tell("protocols", at(line), f"has `{forced}`, and keeps its protocols", "take that word out")
        elif (_value(line, "ssl-min-ver") or self._default("ssl-min-ver")) != policy.least:
            yield from self._set(line, "ssl-min-ver", policy.least)
        ciphers = _value(line, "ciphers") or self._global("ssl-default-bind-ciphers")
        if not self.edits.keeps_ciphers(at(line), ciphers, policy, replaces=self.wanted.replaces_ciphers):
            yield from self._set(line, "ciphers", policy.ciphers)

    def _set(self, line: Directive, option: str, value: str) -> list[str]:
        """Set an option where it stands in the line; returns the words to add otherwise."""
        for word, after in zip(line.words, line.words[1:], strict=False):
            if word.value == option:
                if after.value != value:
                    self.edits.splices.append(Splice(line.file, after.start, after.end, quote(value)))
                return []
        return [option, quote(value)]

    def _global(self, name: str) -> str:
        found = [each for section, each in self._lines() if section == "global" and each.name == name]
        return found[-1].arguments[0] if found and found[-1].arguments else ""

    def _default(self, option: str) -> str:
        found = [each for section, each in self._lines()
                 if section == "global" and each.name == "ssl-default-bind-options"]  # fmt: skip
        return next((value for each in reversed(found) if (value := _value(each, option))), "")

    def _lines(self) -> Iterator[tuple[str, Directive]]:
        """Yield all lines of the main file, each with its section's first words."""
        section = ""
        for each in parse(self.reading.texts[self.reading.main_file], self.reading.main_file):
            if each.name in SECTIONS:
                section = " ".join([each.name, *each.arguments[:1]]) if each.name != "global" else "global"
            yield section, each

    # The rules

    def rules(self, binds: Sequence[Bind], *, redirect: bool) -> None:
        """Give the sections of some binds the redirect, or else HSTS; or take them out."""
        lines = list(self._lines())
        for section in dict.fromkeys(name for bind in binds for name, each in lines if each.start == bind.line.start):
            own = [each for name, each in lines if name == section]
            last = max((bind.line for bind in binds if bind.line in own), key=lambda line: line.start)
            if redirect:
                self._redirect(own, last)
            else:
                self._hsts(own, last)

    def _redirect(self, own: Sequence[Directive], bind: Directive) -> None:
        there = [each for each in own if _leads_to_https(each)]
        if self.wanted.redirect and not there:
            self._behind(bind, redirect_rule(self.https_port))
        elif self.wanted.redirect is False:
            self._out(there)

    def _hsts(self, own: Sequence[Directive], bind: Directive) -> None:
        there = [each for each in own if each.name == "http-response"
                 and HSTS in [word.lower() for word in each.arguments[1:2]]]  # fmt: skip
        if not self.wanted.hsts:
            self._out(there)
        elif not there:
            self._behind(bind, hsts_rule(self.wanted.hsts))
        for each in there if self.wanted.hsts else ():
            if len(each.words) > 3 and each.words[3].value != self.wanted.hsts:
                word = each.words[3]
                self.edits.splices.append(Splice(each.file, word.start, word.end, quote(self.wanted.hsts or "")))

    def _behind(self, bind: Directive, rule: str) -> None:
        text = self.reading.texts[bind.file]
        end = "\r\n" if "\r\n" in text else "\n"
        place = text.find("\n", bind.end)
        place = (place - 1 if text[place - 1] == "\r" else place) if place >= 0 else len(text)
        self.edits.splices.append(Splice(bind.file, place, place, f"{end}{indent_at(text, bind.start)}{rule}"))

    def _out(self, lines: Sequence[Directive]) -> None:
        self.edits.splices += [without(each, self.reading.texts[each.file]) for each in lines]


def _value(line: Directive, option: str) -> str:
    found = [after.value for word, after in zip(line.words, line.words[1:], strict=False) if word.value == option]
    return found[-1] if found else ""


def _leads_to_https(line: Directive) -> bool:
    is_rule = line.name == "redirect" or (line.name == "http-request" and line.arguments[:1] == ("redirect",))
    return is_rule and any(word == "https" or word.startswith("https://") for word in line.arguments)
