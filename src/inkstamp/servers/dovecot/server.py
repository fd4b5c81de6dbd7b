"""A Dovecot as a server kind: a certificate for all, and others for the names that clients ask for."""

from collections.abc import Iterator, Sequence

from inkstamp.errors import ServerTrouble
from inkstamp.pki.names import uncovered
from inkstamp.servers.base import FilelessServer, Files
from inkstamp.servers.common import check_default_kept, endpoints, expect_plain
from inkstamp.servers.dovecot.reading import Reading, listens, path_of, read_configuration
from inkstamp.servers.interface import Endpoint, FileChange, Hardening, Site, Supply
from inkstamp.servers.text import Directive, Splice, append_lines, changes, indent_at
from inkstamp.servers.tls_edits import Edits, told_lacking
from inkstamp.servers.tls_policy import TlsChange

_PASSPHRASE = "ssl_key_password"  # noqa: S105  the name of the setting
_TOLD = ("ssl", "ssl_min_protocol", "ssl_cipher_list")


class DovecotServer(FilelessServer[Reading]):
    """One Dovecot, as configured under `[server.NAME]`."""

    service = "dovecot"
    points_at = frozenset({"served", "key"})
    sets_policy_only = True

    def _read(self) -> Reading:
        files = Files(self.host)
        return read_configuration(self._fitting.main_file, files.read, files.glob)

    def _usual_test(self) -> list[str]:
        certificate = self._reading().keys[0]
        # Naming the certificate has it read as well; the key is never shown.
        return [
            "doveconf",
            "-c",
            self._fitting.main_file,
            *(["-x", certificate] if certificate == "ssl_cert" else ["-n"]),
        ]

    def _usual_start(self) -> list[str]:
        return [self._fitting.program, "-c", self._fitting.main_file]

    def _usual_reload(self) -> list[str]:
        return [self._fitting.program, "-c", self._fitting.main_file, "reload"]

    def sites(self) -> list[Site]:
        reading = self._reading()
        certificate, key, _ = reading.keys
        settings = tuple(f"{each} = {value}" for each in _TOLD if (value := reading.value(each)))
        where = tuple(listens(reading))
        top = reading.last(certificate)
        found = [Site(server=self.name, names=(), listens=where, root="", certificate_file=path_of(top),
                      file=top.file if top else reading.main_file, line=top.line if top else 1,
                      key_file=path_of(reading.last(key)), settings=settings)]  # fmt: skip
        for each in reading.named:
            own = _last(each, certificate)
            found.append(Site(server=self.name, names=each.arguments, listens=where, root="",
                              certificate_file=path_of(own or top), file=each.file, line=each.line,
                              key_file=path_of(_last(each, key) or reading.last(key)), settings=settings))  # fmt: skip
        return found

    def serves(self, name: str) -> bool:  # noqa: ARG002  what has no section gets the certificate for all
        return bool(listens(self._reading()))

    def tls_endpoints(self, name: str) -> list[Endpoint]:  # noqa: ARG002  it answers everywhere alike
        return endpoints(listens(self._reading()), self.host)

    def plan_install(self, names: Sequence[str], supply: Supply) -> list[FileChange]:
        expect_plain((supply.served, supply.key, supply.passphrase_file), "Dovecot", "#\"'$\\")
        covered = supply.names or names
        reading = self._reading()
        sections: list[Directive | None] = []
        for name in names:
            own = next((each for each in reading.named if not uncovered(each.arguments, [name])), None)
            if own not in sections:
                sections.append(own)
        splices = [splice for each in sections for splice in self._point(reading, each, covered, supply)]
        return changes(reading.texts, splices)

    def plan_hardening(self, names: Sequence[str], wanted: TlsChange) -> Hardening:  # noqa: ARG002  it has one setting
        reading, edits, policy = self._reading(), Edits(), wanted.policy
        told_lacking(edits, wanted.beside_policy, "Dovecot")
        if policy is None:
            return Hardening((), tuple(edits.findings))
        lines = list(self._setting(reading, edits, "ssl_min_protocol", policy.least))
        present = reading.value("ssl_cipher_list")
        if not edits.keeps_ciphers(self.name, present, policy, replaces=wanted.replaces_ciphers):
            lines += self._setting(reading, edits, "ssl_cipher_list", policy.ciphers)
        if lines:
            edits.splices.append(append_lines(reading.texts, reading.main_file, lines))
        return Hardening(tuple(changes(reading.texts, edits.splices)), tuple(edits.findings))

    def _setting(self, reading: Reading, edits: Edits, name: str, value: str) -> Iterator[str]:
        """Set one at the top where it stands; yields the line to add where it does not."""
        present = reading.last(name)
        if present is None or len(present.words) < 2:
            yield f"{name} = {value}"
        elif present.arguments[0] != value:
            edits.splices.append(Splice(present.file, present.words[1].start, present.words[1].end, value))

    def _point(
        self, reading: Reading, section: Directive | None, covered: Sequence[str], supply: Supply
    ) -> Iterator[Splice]:
        """Make a section, or the top, name the edition's files."""
        certificate, key, mark = reading.keys
        missing = []
        wanted = [(certificate, supply.served), (key, supply.key)]
        if supply.passphrase_file:
            if not mark:
                raise ServerTrouble(
                    "Dovecot from version 2.4 on reads the passphrase of a key from its configuration alone",
                    where=reading.main_file,
                    advice="give this server the plain key: decrypt = true",
                )
            wanted.append((_PASSPHRASE, supply.passphrase_file))
        for name, path in wanted:
            setting = _last(section, name) if section is not None else reading.last(name)
            if setting is None or len(setting.words) < 2:
                missing.append(f"{name} = {mark}{path}")
                continue
            if path_of(setting) == path:
                continue
            if name == certificate:
                check_default_kept(self.host, covered, path_of(setting), f"{setting.file}, line {setting.line}")
            yield Splice(setting.file, setting.words[1].start, setting.words[1].end, f"{mark}{path}")
        allowed = reading.last("ssl")
        if section is None and allowed is not None and allowed.arguments == ("no",):
            yield Splice(allowed.file, allowed.words[1].start, allowed.words[1].end, "yes")
        if missing:
            yield _add(reading, section, missing)


def _last(section: Directive, name: str) -> Directive | None:
    return next(iter([*section.find(name)][-1:]), None)


def _add(reading: Reading, section: Directive | None, lines: Sequence[str]) -> Splice:
    """Return the lines put at a section's beginning, or at the end of the main file."""
    if section is None:
        return append_lines(reading.texts, reading.main_file, lines)
    indent = indent_at(reading.texts[section.file], section.start) + "  "
    at = section.block_start
    return Splice(section.file, at, at, "".join(f"\n{indent}{line}" for line in lines))
