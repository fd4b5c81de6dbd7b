"""A Postfix as a server kind: one certificate for all that it is called by SMTP."""

import posixpath
from collections.abc import Iterator, Sequence

from msgspec.structs import replace

from inkstamp.reach.interface import Ran
from inkstamp.servers.base import SECONDS, FilelessServer
from inkstamp.servers.common import check_default_kept, endpoints, expect_plain
from inkstamp.servers.interface import Endpoint, FileChange, Hardening, Site, Supply
from inkstamp.servers.mail_hardening import allows_only, postfix_protocols
from inkstamp.servers.postfix.reading import Reading, listens, read_configuration
from inkstamp.servers.text import Directive, Splice, append_lines, changes
from inkstamp.servers.tls_edits import Edits, told_lacking
from inkstamp.servers.tls_policy import TlsChange

_CHAIN = "smtpd_tls_chain_files"
_PAIRS = (("smtpd_tls_cert_file", "smtpd_tls_key_file"), ("smtpd_tls_eccert_file", "smtpd_tls_eckey_file"))
"""What names a certificate and its key apart: the second pair is of releases before 3.4, for a second certificate."""
_LEVEL = "smtpd_tls_security_level"
_PROTOCOLS = ("smtpd_tls_protocols", "smtpd_tls_mandatory_protocols")
_GRADES = ("smtpd_tls_ciphers", "smtpd_tls_mandatory_ciphers")
"""Postfix's own grades of ciphers: its manual warns against lists of one's own."""
_TOLD = (_LEVEL, "smtpd_tls_protocols", "smtpd_tls_mandatory_protocols", "tls_server_sni_maps")


class PostfixServer(FilelessServer[Reading]):
    """One Postfix, as configured under `[server.NAME]`."""

    service = "postfix"
    points_at = frozenset({"served", "key"})
    sets_policy_only = True

    def _read(self) -> Reading:
        return read_configuration(self._fitting.main_file, self.host.read)

    def _command(self, verb: str) -> list[str]:
        return [self._fitting.program, "-c", posixpath.dirname(self._fitting.main_file), verb]

    def _usual_test(self) -> list[str]:
        return self._command("check")

    def _usual_start(self) -> list[str]:
        return self._command("start")

    def _usual_reload(self) -> list[str]:
        return self._command("reload")

    def test(self) -> Ran:
        """Have both files read, then all be checked; Postfix tells what is wrong with a value in its log alone."""
        services = self.host.run(["postconf", "-c", posixpath.dirname(self._fitting.main_file), "-M"], SECONDS)
        if services.status != 0:
            return services
        ran = super().test()
        log = self._reading().value("maillog_file") or "the system's mail log"
        said = "\n".join(filter(None, (ran.output, f"see {log} for what is wrong")))
        return ran if ran.status == 0 else replace(ran, output=said)

    def sites(self) -> list[Site]:
        reading = self._reading()
        name = reading.value("myhostname")
        return [
            Site(server=self.name, names=(name,) if name else (), listens=tuple(listens(reading, each)), root="",
                 certificate_file=self._certificate_file(), file=each.line.file, line=each.line.line,
                 key_file=self._key_file(), settings=self._settings())
            for each in reading.services
        ]  # fmt: skip

    def _certificate_file(self) -> str:
        reading = self._reading()
        # A key may stand in a file of its own, before its certificate.
        chain = reading.value(_CHAIN).replace(",", " ").split()
        return chain[-1] if chain else reading.value(_PAIRS[0][0])

    def _key_file(self) -> str:
        reading = self._reading()
        chain = reading.value(_CHAIN).replace(",", " ").split()
        return chain[0] if chain else reading.value(_PAIRS[0][1]) or reading.value(_PAIRS[0][0])

    def _settings(self) -> tuple[str, ...]:
        known = ((each, self._reading().value(each)) for each in _TOLD)
        return tuple(f"{each} = {value}" for each, value in known if value)

    def serves(self, name: str) -> bool:  # noqa: ARG002  it has one certificate, whatever it is called by
        return bool(self._reading().services)

    def tls_endpoints(self, name: str) -> list[Endpoint]:  # noqa: ARG002  as above
        reading = self._reading()
        return endpoints([listen for each in reading.services for listen in listens(reading, each)], self.host)

    def plan_install(self, names: Sequence[str], supply: Supply) -> list[FileChange]:
        expect_plain((supply.served, supply.key), "Postfix", " \t,${}")
        covered = supply.names or names
        reading = self._reading()
        old = self._certificate_file()
        if old != supply.served:
            check_default_kept(self.host, covered, old, reading.main_file)
        return changes(reading.texts, list(self._splices(reading, supply)))

    def plan_hardening(self, names: Sequence[str], wanted: TlsChange) -> Hardening:  # noqa: ARG002  it has one setting
        reading, edits, policy = self._reading(), Edits(), wanted.policy
        told_lacking(edits, wanted.beside_policy, "Postfix")
        if policy is None:
            return Hardening((), tuple(edits.findings))
        values = dict.fromkeys(_PROTOCOLS, postfix_protocols(policy)) | dict.fromkeys(_GRADES, "high")
        lines = []
        for name, value in values.items():
            present = reading.parameters.get(name)
            if name in _PROTOCOLS and present is not None and allows_only(present.arguments[0], policy):
                continue
            if present is None:
                lines.append(f"{name} = {value}")
            elif present.arguments[0] != value:
                word = present.words[1]
                edits.splices.append(Splice(present.file, word.start, word.end, value))
        for each in (each for service in reading.services for each in service.options):
            if each.name in values:
                edits.tell(
                    "settings", f"{each.file}, line {each.line}", f"a service has {each.name} of its own, which stays"
                )
        if lines:
            edits.splices.append(append_lines(reading.texts, reading.main_file, lines))
        return Hardening(tuple(changes(reading.texts, edits.splices)), tuple(edits.findings))

    def _splices(self, reading: Reading, supply: Supply) -> Iterator[Splice]:
        wanted = {_CHAIN: f"{supply.key}, {supply.served}"}
        for certificate, key in _PAIRS:
            wanted |= {certificate: supply.served, key: supply.key}
        places = [*reading.parameters.values(), *(each for service in reading.services for each in service.options)]
        for each in places:
            value = each.words[1]
            if each.name in wanted and value.value and " ".join(value.value.split()) != wanted[each.name]:
                text = wanted[each.name]
                yield Splice(each.file, value.start, value.end, text if each.file == reading.main_file else _bare(text))
        lines = list(self._missing(reading, supply))
        if lines:
            yield append_lines(reading.texts, reading.main_file, lines)

    def _missing(self, reading: Reading, supply: Supply) -> Iterator[str]:
        """Yield the lines that `main.cf` lacks for TLS."""
        certificate, key = _PAIRS[0]
        if not reading.value(_CHAIN):
            if not reading.value(certificate):
                yield f"{_CHAIN} = {supply.key}, {supply.served}"
            elif not _is_set(reading.parameters.get(key)):
                yield f"{key} = {supply.key}"
        offered = any(listen.tls for each in reading.services for listen in listens(reading, each))
        if reading.value(_LEVEL) in {"", "none"} and not offered:
            yield f"{_LEVEL} = may"


def _is_set(parameter: Directive | None) -> bool:
    return parameter is not None and bool(parameter.arguments[0])


def _bare(text: str) -> str:
    """Write a value for `-o name=value`, where blanks end it."""
    return text.replace(", ", ",")
