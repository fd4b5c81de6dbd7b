"""A lighttpd as a server kind: its sites, the edits for a certificate, test and restart."""

import posixpath
import re
from collections.abc import Iterator, Sequence

from msgspec.structs import replace

from inkstamp.errors import ServerTrouble
from inkstamp.pki.certificates import subject_names
from inkstamp.pki.names import uncovered
from inkstamp.servers.base import Files, TextServer
from inkstamp.servers.common import FreePorts, check_default_kept, endpoints, expect_plain, leaf_of
from inkstamp.servers.interface import Endpoint, FileChange, Hardening, Obstacle, Place, Site, Supply
from inkstamp.servers.lighttpd.reading import Reading, Setting, host_matches, read_configuration
from inkstamp.servers.lighttpd.syntax import quote
from inkstamp.servers.text import Directive, Splice, append_lines, changes, indent_at
from inkstamp.servers.tls_edits import Edits, told_lacking
from inkstamp.servers.tls_policy import TlsChange

_PEM, _KEY = "ssl.pemfile", "ssl.privkey"
_COMMANDS = "ssl.openssl.ssl-conf-cmd"
_CIPHERS = re.compile(r'"CipherString"\s*=>\s*"([^"]*)"')


class LighttpdServer(TextServer[Reading]):
    """One lighttpd, as configured under `[server.NAME]`."""

    service = "lighttpd"
    points_at = frozenset({"served", "key"})
    sets_policy_only = True

    def _read(self) -> Reading:
        files = Files(self.host)
        return read_configuration(self._fitting.main_file, files.read, files.glob)

    def _usual_test(self) -> list[str]:
        return [self._fitting.program, "-tt", "-f", self._fitting.main_file]

    def _usual_start(self) -> list[str]:
        return [self._fitting.program, "-f", self._fitting.main_file]

    def _usual_reload(self) -> list[str]:
        # Once it has given up root's rights it can neither read keys anew nor open port 443.
        return ["systemctl", "restart", "lighttpd"]

    # What it serves

    def sites(self) -> list[Site]:
        reading = self._reading()
        listens = tuple(reading.listens())
        found = [self._site((), "", reading.main_file, 1)]
        for each in reading.hosts:
            operator, wanted = each.arguments[:2]
            names = (wanted,) if operator == "==" else (f"~{wanted}",)
            site = self._site(names, wanted if operator == "==" else "", each.file, each.line)
            root = reading.own(each, "server.document-root")
            found.append(replace(site, root=root) if root else site)
        return found if listens else []

    def _site(self, names: tuple[str, ...], name: str, file: str, line: int) -> Site:
        reading = self._reading()
        held = reading.holding(name, tls=True)
        pem, key = held.get(_PEM), held.get(_KEY)
        root = reading.holding(name, tls=False).get("server.document-root")
        certificate = pem.value if pem is not None else ""
        return Site(server=self.name, names=names, listens=tuple(reading.listens()), root=root.value if root else "",
                    certificate_file=certificate, file=file, line=line,
                    key_file=key.value if key is not None else certificate)  # fmt: skip

    def serves(self, name: str) -> bool:  # noqa: ARG002  what has no host of its own gets the one for all
        return bool(self._reading().listens())

    def tls_endpoints(self, name: str) -> list[Endpoint]:  # noqa: ARG002  its sockets are open to all names
        return endpoints(self._reading().listens(), self.host)

    # Proofs

    def places(self, name: str, parts: tuple[str, ...]) -> tuple[Place, ...]:
        held = self._reading().holding(name, tls=False)
        hosted = held.get("simple-vhost.server-root")
        if hosted is not None:
            inner = held.get("simple-vhost.document-root")
            return (
                Place(posixpath.join(hosted.value, name, inner.value.strip("/") if inner else "").rstrip("/"), parts),
            )
        root = held.get("server.document-root")
        if root is None:
            raise ServerTrouble(
                f"server “{self.name}” has no document root for {name}", where=self._fitting.main_file,
                advice="add server.document-root there",
            )  # fmt: skip
        return (Place(root.value.rstrip("/") or "/", parts),)

    def obstacles(self, name: str, parts: tuple[str, ...]) -> tuple[Obstacle, ...]:  # noqa: ARG002
        """Say nothing: what its modules do with a path is not followed, the look from outside finds it."""
        return ()

    def answers_at(self, name: str, address: str) -> bool:  # noqa: ARG002  its sockets are open to all names
        wanted = {f"[{address}]", "[::]"} if ":" in address else {address, "*"}
        return bool(wanted & {each.address for each in self._reading().listens()}) and self.host.has_address(address)

    # Installing

    def plan_install(self, names: Sequence[str], supply: Supply) -> list[FileChange]:
        expect_plain((supply.served, supply.key), "lighttpd", "$")
        covered = supply.names or names
        reading = self._reading()
        if not any(each.tls for each in reading.listens()):
            bind = reading.plain_value("server.bind", "") or "*"
            FreePorts(self.host, {"lighttpd"}).expect({bind}, self._fitting.https_port, reading.main_file)
            return changes(reading.texts, [self._new_socket(reading, supply)])
        splices: dict[Splice, None] = {}
        lacking = []
        for name in names:
            held = reading.holding(name, tls=True)
            pem = held.get(_PEM)
            if pem is not None and (pem.host is not None or self._may_go(pem, covered)):
                splices |= dict.fromkeys(self._point(reading, pem, held.get(_KEY), covered, supply))
            elif own := next((each for each in reading.hosts if host_matches(each, name)), None):
                later = reading.socket_behind(own, _PEM)
                block = self._within(reading, later, name, supply) if later else self._inside(reading, own, supply)
                splices[block] = None
            else:
                lacking.append(name)
        if lacking:
            splices[self._new_hosts(reading, lacking, supply)] = None
        return changes(reading.texts, splices)

    def plan_hardening(self, names: Sequence[str], wanted: TlsChange) -> Hardening:
        reading, edits, policy = self._reading(), Edits(), wanted.policy
        if not any(each.tls for each in reading.listens()):
            raise ServerTrouble(f"server “{self.name}” has no socket with TLS", where=reading.main_file,
                                advice=f"get a certificate first: inkstamp stamp {names[0]}")  # fmt: skip
        told_lacking(edits, wanted.beside_policy, "lighttpd")
        if policy is not None:
            value = f'("MinProtocol" => "{policy.least}", "CipherString" => {quote(policy.ciphers)})'
            present = [each for each in reading.settings if each.directive.name == _COMMANDS]
            for each in present:
                where = f"{each.directive.file}, line {each.directive.line}"
                written = each.directive.words[-1].value
                if "".join(written.split()) == "".join(value.split()):
                    continue
                chosen = _CIPHERS.search(written)
                if edits.keeps_ciphers(where, chosen[1] if chosen else "", policy, replaces=wanted.replaces_ciphers):
                    continue  # protocols and ciphers stand in one value
                word = each.directive.words[-1]
                edits.splices.append(Splice(each.directive.file, word.start, word.end, value))
            if not present:
                lines = [each for each in reading.settings if each.directive.name == "ssl.engine"]
                edits.splices += [self._beside(reading, each.directive, f"{_COMMANDS} = {value}") for each in lines]
            edits.tell("settings", reading.main_file, "counts for all sites of this lighttpd")
        return Hardening(tuple(changes(reading.texts, edits.splices)), tuple(edits.findings))

    def _beside(self, reading: Reading, directive: Directive, line: str) -> Splice:
        indent = indent_at(reading.texts[directive.file], directive.start)
        return Splice(directive.file, directive.end, directive.end, f"\n{indent}{line}")

    def _may_go(self, pem: Setting, covered: Sequence[str]) -> bool:
        """Tell whether nobody misses the certificate for all: the new one covers its names, or it is good for none."""
        old = leaf_of(self.host, pem.value)
        return old is None or old.subject == old.issuer or not uncovered(covered, subject_names(old))

    def _point(
        self, reading: Reading, pem: Setting, key: Setting | None, covered: Sequence[str], supply: Supply
    ) -> Iterator[Splice]:
        """Make the place that names a certificate now name the edition's files."""
        if pem.value != supply.served:
            where = f"{pem.directive.file}, line {pem.directive.line}"
            check_default_kept(self.host, covered, pem.value, where)
            yield _set(pem.directive, supply.served)
        if key is None or key.conditions != pem.conditions:  # the key was in the same file
            text = reading.texts[pem.directive.file]
            line = f"\n{indent_at(text, pem.directive.start)}{_KEY} = {quote(supply.key)}"
            yield Splice(pem.directive.file, pem.directive.end, pem.directive.end, line)
        elif key.value != supply.key:
            yield _set(key.directive, supply.key)

    def _new_socket(self, reading: Reading, supply: Supply) -> Splice:
        bind = reading.plain_value("server.bind", "")
        modules = "".join(each.directive.words[-1].value for each in reading.settings
                          if each.directive.name == "server.modules")  # fmt: skip
        lines = [] if '"mod_openssl"' in modules else ['server.modules += ( "mod_openssl" )']
        lines += [f'$SERVER["socket"] == {quote(f"{bind}:{self._fitting.https_port}")} {{', '    ssl.engine = "enable"']
        return append_lines(reading.texts, reading.main_file, [*lines, *(f"    {line}" for line in _pair(supply)), "}"])

    def _inside(self, reading: Reading, host: Directive, supply: Supply) -> Splice:
        indent = indent_at(reading.texts[host.file], host.start) + "    "
        lines = "".join(f"\n{indent}{line}" for line in _pair(supply))
        return Splice(host.file, host.block_start, host.block_start, lines)

    def _within(self, reading: Reading, socket: Directive, name: str, supply: Supply) -> Splice:
        """Return what gives a name its certificate inside a socket's block, which has the last word over the host's."""
        text = reading.texts[socket.file]
        outer = indent_at(text, socket.start)
        lines = [f"{_condition(name)} {{", *(f"    {line}" for line in _pair(supply)), "}"]
        at = socket.end - 1  # before the brace
        return Splice(socket.file, at, at, "".join(f"    {line}\n{outer}" for line in lines))

    def _new_hosts(self, reading: Reading, names: Sequence[str], supply: Supply) -> Splice:
        lines = []
        for name in names:
            lines += [f"{_condition(name)} {{", *(f"    {line}" for line in _pair(supply)), "}"]
        return append_lines(reading.texts, reading.main_file, lines)


def _condition(name: str) -> str:
    if name.startswith("*."):
        return f'$HTTP["host"] =$ {quote(name[1:])}'
    return f'$HTTP["host"] == {quote(name)}'


def _pair(supply: Supply) -> list[str]:
    return [f"{_PEM} = {quote(supply.served)}", f"{_KEY} = {quote(supply.key)}"]


def _set(directive: Directive, value: str) -> Splice:
    word = directive.words[-1]
    return Splice(directive.file, word.start, word.end, quote(value))
