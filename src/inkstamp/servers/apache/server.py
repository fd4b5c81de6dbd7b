"""An Apache httpd as a server kind: its sites, where their files lie, test and reload."""

import functools
import posixpath
import re
from collections.abc import Sequence

from msgspec.structs import replace

from inkstamp.errors import FileTrouble, NamesLost, ServerTrouble
from inkstamp.servers.apache import edit, passage, standing
from inkstamp.servers.apache.hardening import ApacheHardener
from inkstamp.servers.apache.own_host import own_host
from inkstamp.servers.apache.passphrases import check_undo, tell_passphrase
from inkstamp.servers.apache.reading import (
    ReaderContext,
    Reading,
    VirtualHost,
    answering,
    hosts,
    read_configuration,
    read_environment,
    to_site,
)
from inkstamp.servers.base import SECONDS, Files, TextServer
from inkstamp.servers.common import FreePorts, ProofFolder, Taken, check_names_kept, endpoints, obstacle
from inkstamp.servers.interface import (
    ONLY_TLS,
    Endpoint,
    FileChange,
    Hardening,
    Listen,
    Obstacle,
    Place,
    Site,
    StandingAnswer,
    Supply,
)
from inkstamp.servers.text import Splice, changes
from inkstamp.servers.tls_edits import Edits
from inkstamp.servers.tls_policy import TlsChange
from inkstamp.wording import counted

_ROOT = re.compile(r'HTTPD_ROOT="([^"]+)"')
_VERSION = re.compile(r"Apache/(\d+\.\d+\.\d+)")
_BUILT_IN = re.compile(r"^\s+(\S+\.c)$", re.MULTILINE)


class ApacheServer(TextServer[Reading]):
    """One Apache httpd, as configured under `[server.NAME]`."""

    service = "apache2"
    points_at = frozenset({"served", "key", "leaf", "issuers"})
    has_hosts = True

    def _read(self) -> Reading:
        files = Files(self.host)
        return read_configuration(self._setting(), files.read, files.glob)

    def _command(self, *arguments: str) -> list[str]:
        prefix = ["-d", self._fitting.prefix] if self._fitting.prefix else []
        return [self._fitting.program, *prefix, "-f", self._fitting.main_file, *arguments]

    def _usual_test(self) -> list[str]:
        return self._command("-t")

    def _usual_start(self) -> list[str]:
        return self._command("-k", "start")

    def _usual_reload(self) -> list[str]:
        return self._command("-k", "graceful")

    def _setting(self) -> ReaderContext:
        program, main_file, root = self._fitting.program, self._fitting.main_file, self._fitting.prefix.rstrip("/")
        built = self.host.run([program, "-V"], SECONDS).output
        if not root:
            found = _ROOT.search(built)
            root = found[1] if found else posixpath.dirname(main_file)
        built_in = _BUILT_IN.findall(self.host.run([program, "-l"], SECONDS).output)
        try:  # where Debian keeps what the configuration takes from the environment
            beside = self.host.read(posixpath.join(posixpath.dirname(main_file), "envvars"))
        except FileTrouble:
            beside = b""
        variables = read_environment(beside.decode("utf-8", "replace"))
        found_version = _VERSION.search(built)
        version = tuple(int(part) for part in found_version[1].split(".")) if found_version else ()
        return ReaderContext(main_file, root.rstrip("/"), frozenset(built_in), version or (2, 4, 0), variables)

    def sites(self) -> list[Site]:
        known = self._reading().listens()
        return [
            replace(to_site(each, self.name), listens=_at(each, known), answers_for=standing.answers_for(each))
            for each in hosts(self._reading())
        ]

    def places(self, name: str, parts: tuple[str, ...]) -> tuple[Place, ...]:
        everything = hosts(self._reading())
        path = "/".join(("", *parts))
        plain = answering(everything, name, tls=False)
        # A host that sends everything elsewhere shows no files: the CA follows to the host that has them.
        with_files = [host for host in plain if not passage.redirects(host, path)]
        sent_on = len(with_files) < len(plain) or any(any(host.own("rewriterule")) for host in plain)
        if sent_on or not with_files:
            with_files += answering(everything, name, tls=True)
        found = [place for host in with_files if (place := passage.place_of(host, parts)) is not None]
        if plain and not found:
            block = plain[0].block
            raise ServerTrouble(
                f"the virtual host for {name} has no document root that would answer {path}",
                where=f"{block.file}, line {block.line}",
                advice=f"open the challenge path: inkstamp stamp {name} --let-through",
            )
        if not found:
            raise self._not_found(name)
        return tuple(dict.fromkeys(found))

    def obstacles(self, name: str, parts: tuple[str, ...]) -> tuple[Obstacle, ...]:
        path = "/".join(("", *parts))
        everything = hosts(self._reading())
        plain = answering(everything, name, tls=False)
        if not plain:
            tls = [host.block for host in answering(everything, name, tls=True)]
            return tuple(obstacle(each, ONLY_TLS) for each in tls)
        return tuple(each for host in plain for each in passage.obstacles(host, path))

    def answers_at(self, name: str, address: str) -> bool:
        everything = hosts(self._reading())
        mine = [host for tls in (False, True) for host in answering(everything, name, tls=tls)]
        wanted = f"[{address}]" if ":" in address else address
        known = self._reading().listens()
        listens = {each.address for host in mine for each in _at(host, known)}
        anywhere = {"*", "[::]"} if ":" in address else {"*", "0.0.0.0"}  # noqa: S104  compared, not bound
        return wanted in listens or (bool(anywhere & listens) and self.host.has_address(address))

    def _not_found(self, name: str, verb: str = "answers plain HTTP") -> ServerTrouble:
        return ServerTrouble(
            f"no virtual host of server “{self.name}” {verb} for {name}",
            where=f"{self._fitting.main_file} and {counted(len(self._reading().texts) - 1, 'included file')}",
            advice=f"add {name} as ServerName or ServerAlias there, or take the name out; "
            "`inkstamp survey` shows what there is",
        )

    def plan_let_through(self, names: Sequence[str], folder: tuple[str, ...], root: str) -> list[FileChange]:
        reading = self._reading()
        everything = hosts(reading)
        path = "/".join(("", *folder, ""))
        plain: dict[int, VirtualHost] = {}
        lacking: dict[int, tuple[VirtualHost, list[str]]] = {}
        for name in names:
            found = answering(everything, name, tls=False)
            with_tls = [] if found else answering(everything, name, tls=True)
            if not found and not with_tls:
                raise self._not_found(name)
            plain |= {id(host.block): host for host in found}
            for host in with_tls:
                lacking.setdefault(id(host.block), (host, []))[1].append(name)
        splices: list[Splice] = []
        for host in plain.values():
            self._check_own_text(host, reading)
            splices += passage.open_way(host, reading.texts[host.block.file], path, root)
        ports = self._free_ports()
        for host, mine in lacking.values():
            splices += self._plain_listens(host, reading, ports)
            text = reading.texts[host.block.file]
            splices.append(edit.add_plain(host, text, mine, ProofFolder(path, root), self._fitting))
        return changes(reading.texts, splices)

    def _free_ports(self) -> FreePorts:
        return FreePorts(self.host, {"apache2", "httpd"})

    def _plain_listens(self, host: VirtualHost, reading: Reading, ports: FreePorts) -> list[Splice]:
        """Have the server listen for plain HTTP where a host has TLS alone."""
        self._check_own_text(host, reading)
        added = edit.lacking_listens(host, reading, self._fitting)
        ports.expect(added, self._fitting.http_port, f"{host.block.file}, line {host.block.line}")
        lines = edit.listen_lines(added, self._fitting.http_port, guarded=False)
        return [Splice(host.block.file, host.block.start, host.block.start, f"{line}\n") for line in lines]

    def plan_standing(self, wanted: StandingAnswer) -> list[FileChange]:
        reading = self._reading()
        everything = hosts(reading)
        standing.expect_able(reading)
        first = standing.first_hosts(everything)
        splices: list[Splice] = []
        for host in standing.plain_hosts(everything, wanted):
            self._check_own_text(host, reading)
            text, is_first = reading.texts[host.block.file], id(host.block) in first
            splices += standing.answer_at(host, text, wanted, is_first=is_first)
        ports = self._free_ports()
        for host, names in standing.lacking_plain(everything, wanted):
            splices += self._plain_listens(host, reading, ports)
            splices.append(standing.plain_host(host, reading.texts[host.block.file], names, wanted, self._fitting))
        return changes(reading.texts, splices)

    def standing(self, name: str) -> frozenset[str]:
        return standing.thumbprints(hosts(self._reading()), name)

    def _check_own_text(self, host: VirtualHost, reading: Reading) -> None:
        """Refuse to edit a host that is written once and used more often."""
        place = (host.block.file, host.block.start)
        twice = [each for each in hosts(reading) if (each.block.file, each.block.start) == place]
        if len(twice) > 1 or not host.block.block_start:
            raise ServerTrouble(
                "the virtual host is written by a macro, or is the main server",
                where=f"{host.block.file}, line {host.block.line}",
                advice="give the site a <VirtualHost> of its own",
            )

    def serves(self, name: str) -> bool:
        everything = hosts(self._reading())
        return any(answering(everything, name, tls=tls) for tls in (True, False))

    def plan_install(self, names: Sequence[str], supply: Supply) -> list[FileChange]:
        reading = self._reading()
        everything = hosts(reading)
        supply = supply if supply.names else replace(supply, names=tuple(names))
        wanted: dict[int, tuple[VirtualHost, list[str]]] = {}
        for name in names:
            for host in self._targets(everything, name):
                wanted.setdefault(id(host.block), (host, []))[1].append(name)
        splices: list[Splice] = []
        given: list[tuple[VirtualHost, Sequence[str]]] = []
        ports = self._free_ports()
        for host, mine in wanted.values():
            self._check_own_text(host, reading)
            own_names: Sequence[str] = ()
            if not host.tls:
                added = edit.new_listens(host, reading, self._fitting)
                ports.expect(added, self._fitting.https_port, f"{host.block.file}, line {host.block.line}")
                splices += edit.add_tls(host, reading, supply, self._fitting)
            elif self._parts(host, everything, mine, supply):
                own_names = mine
                splices.append(own_host(host, reading, mine, supply))
            else:
                text = reading.texts[host.block.file]
                splices += edit.point(host, text, supply, self.host, reading.setting.version)
            given.append((host, own_names))
        told, program = tell_passphrase(self.host, reading, given, supply)
        return [*program, *changes(reading.texts, [*splices, *told])]

    def check_undo(self, certificate: str, changes: Sequence[FileChange]) -> None:
        check_undo(certificate, changes)

    def _parts(self, host: VirtualHost, everything: list[VirtualHost], mine: Sequence[str], supply: Supply) -> bool:
        """Tell whether names get a virtual host of their own, since others would lose their certificate.

        Raises:
            NamesLost: They would, and that is not wanted, or not possible.

        """
        may_part = not set(mine) & set(host.names)
        try:
            check_names_kept(self.host, supply, _taken(host, everything, may_part=may_part))
        except NamesLost:
            if not (supply.own_site and may_part):
                raise
            return True
        return False

    def _targets(self, everything: list[VirtualHost], name: str) -> list[VirtualHost]:
        """Return the hosts to serve `name` from: those with TLS, unless only a plain one has the very name."""
        with_tls = answering(everything, name, tls=True)
        plain = answering(everything, name, tls=False)
        if with_tls and (any(name in host.names for host in with_tls) or not any(host.answers(name) for host in plain)):
            return with_tls
        if any(host.answers(name) for host in with_tls) and not any(name in host.names for host in plain):
            return with_tls
        if not plain:
            raise self._not_found(name)
        return plain

    def plan_hardening(self, names: Sequence[str], wanted: TlsChange) -> Hardening:
        reading, edits = self._reading(), Edits()
        everything = hosts(reading)
        lost = next((name for name in names if not answering(everything, name, tls=True)), "")
        if lost:
            raise self._not_found(lost, "has TLS")
        hardener = ApacheHardener(reading, wanted, self._fitting.https_port, edits)
        for host in _of(everything, names, tls=True):
            hardener.with_tls(host)
        plain = _of(everything, names, tls=False) if wanted.redirect is not None else []
        for host in plain:
            hardener.with_plain_http(host)
        if wanted.redirect and not plain:
            edits.tell("redirect", ", ".join(names), "no virtual host answers plain HTTP")
        return Hardening(tuple(changes(reading.texts, edits.splices)), tuple(edits.findings))

    def tls_endpoints(self, name: str) -> list[Endpoint]:
        mine = answering(hosts(self._reading()), name, tls=True)
        known = self._reading().listens()
        return endpoints([each for host in mine for each in _at(host, known)], self.host)


def _at(host: VirtualHost, known: Sequence[Listen]) -> tuple[Listen, ...]:
    """Return where a virtual host answers: one for all addresses does at those that the server listens on (`known`)."""
    found: list[Listen] = []
    for each in host.listens:
        own = [replace(listen, tls=each.tls) for listen in known if each.port in {0, listen.port}]
        found += own if each.address == "*" and own else [each]
    return tuple(dict.fromkeys(found))


def _taken(host: VirtualHost, everything: list[VirtualHost], *, may_part: bool) -> Taken:
    @functools.cache
    def elsewhere() -> frozenset[str]:
        return frozenset(name for each in everything for name in each.names)

    def answers(name: str) -> bool:
        if not host.answers(name) and (host.names or name in elsewhere()):
            return False  # without going through all hosts for each of thousands of names
        return any(other.block is host.block for other in answering(everything, name, tls=True))

    return Taken(
        names=host.names,
        certificate_files=host.certificate_files,
        answers=answers,
        may_part=may_part,
        where=f"{host.block.file}, line {host.block.line}",
    )


def _of(everything: list[VirtualHost], names: Sequence[str], *, tls: bool) -> list[VirtualHost]:
    found = {id(host.block): host for name in names for host in answering(everything, name, tls=tls)}
    return list(found.values())
