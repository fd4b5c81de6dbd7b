"""An HAProxy as a server kind: its certificates, changed in the running process where that is possible."""

from collections.abc import Iterator, Sequence
from contextlib import suppress

from cryptography import x509
from cryptography.hazmat.primitives import hashes

from inkstamp.errors import ServerTrouble
from inkstamp.pki.certificates import subject_names
from inkstamp.pki.names import uncovered
from inkstamp.pki.packing import combined
from inkstamp.reach.interface import Host, Ran, Rights
from inkstamp.servers.base import SECONDS, FilelessServer, Fitting
from inkstamp.servers.common import FreePorts, check_default_kept, endpoints, expect_plain, leaf_of, present
from inkstamp.servers.haproxy import runtime
from inkstamp.servers.haproxy.hardening import HaproxyHardener, hsts_rule, redirect_rule
from inkstamp.servers.haproxy.reading import Bind, Loaded, Reading, read_configuration
from inkstamp.servers.haproxy.standing import answered_names, names_answered, plan_standing, standing_lines, thumbprints
from inkstamp.servers.haproxy.syntax import quote
from inkstamp.servers.interface import Endpoint, FileChange, Hardening, Site, StandingAnswer, Supply
from inkstamp.servers.text import Splice, append_lines, changes, indent_at
from inkstamp.servers.tls_edits import Edits
from inkstamp.servers.tls_policy import TlsChange


class HaproxyServer(FilelessServer[Reading]):
    """One HAProxy, as configured under `[server.NAME]`."""

    service = "haproxy"
    points_at = frozenset({"combined"})

    _running: str | None = None
    """The main file's text as the running process has it, as far as it is known."""

    def __init__(self, name: str, host: Host, fitting: Fitting) -> None:
        super().__init__(name, host, fitting)
        self._known_names: dict[str, tuple[str, ...]] = {}

    def forget(self) -> None:
        super().forget()
        self._known_names = {}

    def doubt(self) -> None:
        self._running = ""  # no configuration is empty: the next reload is one

    def _read(self) -> Reading:
        reading = read_configuration(self._fitting.main_file, self.host)
        if self._running is None:
            self._running = reading.texts[reading.main_file]
        return reading

    def _usual_test(self) -> list[str]:
        return [self._fitting.program, "-c", "-f", self._fitting.main_file]

    def _usual_start(self) -> list[str]:
        return ["systemctl", "restart", "haproxy"]

    def _usual_reload(self) -> list[str]:
        return ["systemctl", "reload", "haproxy"]

    # What it serves

    def sites(self) -> list[Site]:
        answered = answered_names(self._reading(), self._plain_binds())
        return [
            Site(server=self.name, names=self._names(each), listens=bind.listens, root="",
                 answers_for=next((key for name in self._names(each) if (key := answered(name))), ""),
                 certificate_file=each.path, file=bind.line.file, line=bind.line.line,
                 key_file=each.path, settings=(" ".join(bind.line.arguments[1:]),))
            for bind, each in self._all_loaded()
        ]  # fmt: skip

    def _all_loaded(self) -> Iterator[tuple[Bind, Loaded]]:
        reading = self._reading()
        for bind in reading.binds:
            for each in reading.loaded.get(bind.line.start, ()):
                yield bind, each

    def _matching(self, name: str) -> list[tuple[Bind, Loaded]]:
        return [(bind, each) for bind, each in self._all_loaded() if not uncovered(self._names(each), [name])]

    def _names(self, loaded: Loaded) -> tuple[str, ...]:
        """Return the names that a loaded certificate is chosen for; none for one that cannot be read."""
        if loaded.filters:
            return loaded.filters
        known = self._known_names  # another thread may have it forgotten in this moment
        if loaded.path not in known:
            leaf = leaf_of(self.host, loaded.path)
            known[loaded.path] = subject_names(leaf) if leaf is not None else ()
        return known[loaded.path]

    def serves(self, name: str) -> bool:  # noqa: ARG002  it chooses by the certificates' own names
        return bool(self._tls_binds() or self._plain_binds())

    def _tls_binds(self) -> list[Bind]:
        """Return the `bind` lines that a new certificate goes to: those on the public's port, if there are such."""
        found = [each for each in self._reading().binds if each.tls]
        port = self._fitting.https_port
        return [each for each in found if any(listen.port == port for listen in each.listens)] or found

    def _plain_binds(self) -> list[Bind]:
        port = self._fitting.http_port
        return [
            each for each in self._reading().binds
            if not each.tls and any(listen.port == port for listen in each.listens)
        ]  # fmt: skip

    def _of_its_own(self, name: str) -> list[tuple[Bind, Loaded]]:
        """Return the certificates for that very name: those are preferred to wildcards that cover it too."""
        return [(bind, each) for bind, each in self._all_loaded() if name in self._names(each)]

    def tls_endpoints(self, name: str) -> list[Endpoint]:
        found = self._of_its_own(name) or self._matching(name)
        return endpoints([listen for bind, _ in found for listen in bind.listens], self.host)

    # Answering challenges

    def plan_standing(self, wanted: StandingAnswer) -> list[FileChange]:
        reading, binds = self._reading(), self._plain_binds()
        if not binds:
            raise ServerTrouble(
                f"no frontend of server “{self.name}” answers plain HTTP at port {self._fitting.http_port}",
                where=self._fitting.main_file,
                advice=f"add a frontend there with `bind :{self._fitting.http_port}`, then run the command again",
            )
        own = {name for _, each in self._all_loaded() for name in self._names(each)}
        asked = {*(wanted.names or (*own, *wanted.sites)), *names_answered(reading, binds, wanted)}
        names = [] if wanted.default_hosts else sorted(each for each in asked if "*" not in each and ":" not in each)
        if not names and not wanted.default_hosts:
            raise ServerTrouble(
                f"it is not known which names server “{self.name}” answers", where=self._fitting.main_file,
                advice="name them with --for NAME, or answer for all with --default-hosts",
            )  # fmt: skip
        lines = standing_lines(wanted.thumbprint, names)
        return changes(reading.texts, plan_standing(reading, binds, lines))

    def standing(self, name: str) -> frozenset[str]:
        return thumbprints(self._reading(), self._plain_binds(), name)

    # Installing

    def plan_install(self, names: Sequence[str], supply: Supply) -> list[FileChange]:
        expect_plain((supply.combined,), "HAProxy", "$")
        covered = supply.names or names
        reading = self._reading()
        pairs = [pair for name in names for pair in self._of_its_own(name)]
        if not pairs and not self._tls_binds():
            return changes(reading.texts, self._new_binds(supply))
        splices: list[Splice] = []
        copies: dict[str, None] = {}
        for bind, each in pairs:
            where = f"{bind.line.file}, line {bind.line.line}"
            if each.path != supply.combined:
                check_default_kept(self.host, covered, each.path, where)
            if each.source.kind == "folder":
                copies[each.path] = None
            else:
                word = each.entry.words[0] if each.entry is not None else each.source.word
                file = each.source.path if each.entry is not None else bind.line.file
                if each.path != supply.combined:
                    splices.append(Splice(file, word.start, word.end, quote(supply.combined)))
        if not pairs:
            for bind in self._tls_binds():
                splice, copy = self._added(bind, supply)
                splices += splice
                copies.update(dict.fromkeys(copy))
        return [*changes(reading.texts, splices), *(x for path in copies for x in self._copy(path, supply))]

    def _added(self, bind: Bind, supply: Supply) -> tuple[list[Splice], list[str]]:
        """Return what adds the certificate to a `bind` that serves others: an edit, or the path of a copy."""
        folder = next((each for each in bind.sources if each.kind == "folder"), None)
        if folder is not None:
            return [], [f"{folder.path}/{supply.certificate}.pem"]
        listed = next((each for each in bind.sources if each.kind == "list"), None)
        if listed is not None:
            return [append_lines(self._reading().texts, listed.path, [quote(supply.combined)])], []
        at = bind.sources[-1].word.end if bind.sources else bind.line.end
        return [Splice(bind.line.file, at, at, f" crt {quote(supply.combined)}")], []

    def _copy(self, path: str, supply: Supply) -> list[FileChange]:
        if supply.goods is None:
            return []
        before, there = present(self.host, path)
        after = combined(supply.goods())
        rights = there or Rights(0o600)
        return [] if before == after else [FileChange(path, before, after, rights, there)]

    def _new_binds(self, supply: Supply) -> list[Splice]:
        """Return the lines that give TLS to what answers plain HTTP now."""
        plain = self._plain_binds()
        if not plain:
            raise ServerTrouble(
                f"no frontend of server “{self.name}” has TLS, and none answers plain HTTP",
                where=self._fitting.main_file,
                advice=f"add a frontend there with `bind :{self._fitting.https_port} ssl crt {supply.combined}`",
            )
        splices = []
        added = {each.address for bind in plain for each in bind.listens if each.port == self._fitting.http_port}
        port, where = self._fitting.https_port, self._fitting.main_file
        FreePorts(self.host, {"haproxy"}).expect(added, port, where)
        for bind in plain:
            text = self._reading().texts[bind.line.file]
            indent = indent_at(text, bind.line.start)
            end = "\r\n" if "\r\n" in text else "\n"
            plain_here = [each for each in bind.listens if each.port == self._fitting.http_port]
            addresses = ["" if each.address == "*" else each.address for each in plain_here]
            lines = [f"bind {each}:{self._fitting.https_port} {self._tls_words(supply)}" for each in addresses]
            at = text.find("\n", bind.line.end)
            at = (at - 1 if text[at - 1] == "\r" else at) if at >= 0 else len(text)
            more = "".join(f"{end}{indent}{line}" for line in [*lines, *self._rules()])
            splices.append(Splice(bind.line.file, at, at, more))
        return splices

    def _tls_words(self, supply: Supply) -> str:
        """Return what follows the address of a new `bind`."""
        manner = self._fitting.manner
        words = ["ssl", "crt", quote(supply.combined), "alpn", "h2,http/1.1", "ssl-min-ver", manner.policy.least]
        if manner.policy.ciphers:
            words += ["ciphers", manner.policy.ciphers]
        if manner.client_roots:
            words += ["ca-file", quote(manner.client_roots), "verify", "required"]
        return " ".join(words)

    def _rules(self) -> list[str]:
        manner, rules = self._fitting.manner, []
        if manner.redirect:
            rules.append(redirect_rule(self._fitting.https_port))
        if manner.hsts_days:
            rules.append(hsts_rule(manner.hsts))
        return rules

    # Settings of TLS

    def plan_hardening(self, names: Sequence[str], wanted: TlsChange) -> Hardening:
        reading, edits = self._reading(), Edits()
        found: dict[int, Bind] = {}
        for name in names:
            mine = self._of_its_own(name) or self._matching(name)
            if not mine:
                raise ServerTrouble(
                    f"no certificate of server “{self.name}” is for {name}", where=reading.main_file,
                    advice="inkstamp survey shows what there is",
                )  # fmt: skip
            found |= {bind.line.start: bind for bind, _ in mine}
        hardener = HaproxyHardener(reading, wanted, self._fitting.https_port, edits)
        for bind in found.values():
            hardener.with_tls(bind)
            beside = {each for other, loaded in self._all_loaded() if other is bind for each in self._names(loaded)}
            if more := sorted(beside - set(names)):
                edits.tell("settings", f"{bind.line.file}, line {bind.line.line}", f"counts for {', '.join(more)} too")
        if wanted.hsts is not None:
            hardener.rules(list(found.values()), redirect=False)
        if wanted.redirect is not None:
            hardener.rules(self._plain_binds(), redirect=True)
        return Hardening(tuple(changes(reading.texts, edits.splices)), tuple(edits.findings))

    # Taking effect

    def reload(self) -> Ran:
        """Bring the running process up to date by its runtime API; reload it where that is not enough."""
        reading = self._reading()
        text = reading.texts[reading.main_file]
        if reading.socket and self._running == text:
            # Where it refuses, a reload does it as well, or says what is wrong.
            with suppress(ServerTrouble):
                if self._renew_in_place(reading):
                    return Ran(("runtime API", reading.socket), 0, "")
        ran = super().reload()
        self._running = text if ran.status == 0 else None
        return ran

    def _renew_in_place(self, reading: Reading) -> bool:
        """Tell whether the process serves what the files say, after what its runtime API can do for that."""

        def ask(request: str) -> str:
            return self.host.converse(reading.socket, f"{request}\n".encode(), SECONDS).decode("utf-8", "replace")

        wanted = {each.path: each for _, each in self._all_loaded()}
        known = runtime.loaded(ask)
        lists = {path: each.source.path for path, each in wanted.items() if path not in known}
        if any(wanted[path].source.kind == "file" for path in lists):
            return False
        other = [path for path in wanted if known.get(path) != _fingerprint(leaf_of(self.host, path))]
        new = {path: self.host.read(path) for path in other}
        places = [each.path for bind in reading.binds for each in bind.sources if each.kind != "file"]
        gone = [(place, path) for path in known if path not in wanted for place in _place_of(path, places, ask)]
        if {path for _, path in gone} != known.keys() - wanted.keys():
            return False
        runtime.change(ask, new, lists, gone)
        return True


def _place_of(path: str, places: Sequence[str], ask: runtime.Ask) -> list[str]:
    """Return the crt-list or folder that a loaded certificate came from."""
    return [each for each in dict.fromkeys(places) if f"{path}:" in ask(f"show ssl crt-list -n {each}")][:1]


def _fingerprint(leaf: x509.Certificate | None) -> str:
    return leaf.fingerprint(hashes.SHA1()).hex().upper() if leaf is not None else ""  # noqa: S303  what HAProxy shows
