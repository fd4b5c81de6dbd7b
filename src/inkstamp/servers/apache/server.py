"""An Apache httpd as a server kind: its sites, where their files lie, test and reload."""

import functools
import posixpath
import re
from collections.abc import Sequence
from dataclasses import replace

from inkstamp.errors import FileTrouble, NamesLost, ServerTrouble
from inkstamp.servers.apache import edit, passage
from inkstamp.servers.apache.own_host import own_host
from inkstamp.servers.apache.reading import (
    Host,
    Reading,
    Setting,
    answering,
    hosts,
    read_configuration,
    read_environment,
    to_site,
)
from inkstamp.servers.base import SECONDS, Files, TextServer
from inkstamp.servers.common import Taken, check_names_kept, endpoints, obstacle
from inkstamp.servers.interface import ONLY_TLS, Endpoint, FileChange, Obstacle, Place, Site, Supply
from inkstamp.servers.text import Splice, changes

_ROOT = re.compile(r'HTTPD_ROOT="([^"]+)"')
_VERSION = re.compile(r"Apache/(\d+\.\d+\.\d+)")
_BUILT_IN = re.compile(r"^\s+(\S+\.c)$", re.MULTILINE)


class ApacheServer(TextServer[Reading]):
    """One Apache httpd, as configured under `[server.NAME]`."""

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

    def _usual_reload(self) -> list[str]:
        return self._command("-k", "graceful")

    def _setting(self) -> Setting:
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
        return Setting(main_file, root.rstrip("/"), frozenset(built_in), version or (2, 4, 0), variables)

    def sites(self) -> list[Site]:
        return [to_site(host, self.name) for host in hosts(self._reading())]

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
                advice="let proofs through: inkstamp prove CERTIFICATE --let-through",
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
        listens = [each.address for host in mine for each in host.listens]
        return wanted in listens or ("*" in listens and self.host.has_address(address))

    def _not_found(self, name: str) -> ServerTrouble:
        return ServerTrouble(
            f"no virtual host of server “{self.name}” answers plain HTTP for {name}",
            where=f"{self._fitting.main_file} and the {len(self._reading().texts) - 1} files that it includes",
            advice=f"add {name} as ServerName or ServerAlias there, or take the name out; "
            "`inkstamp survey` shows what there is",
        )

    def plan_let_through(self, names: Sequence[str], folder: tuple[str, ...], root: str) -> list[FileChange]:
        reading = self._reading()
        everything = hosts(reading)
        plain: list[Host] = []
        for name in names:
            found = answering(everything, name, tls=False)
            if not found:
                raise self._not_found(name)
            plain += [host for host in found if host.block not in [each.block for each in plain]]
        path = "/".join(("", *folder, ""))
        for host in plain:
            self._check_own_text(host, reading)
        splices = [
            each for host in plain for each in passage.open_way(host, reading.texts[host.block.file], path, root)
        ]
        return changes(reading.texts, splices)

    def _check_own_text(self, host: Host, reading: Reading) -> None:
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
        wanted: dict[int, tuple[Host, list[str]]] = {}
        for name in names:
            for host in self._targets(everything, name):
                wanted.setdefault(id(host.block), (host, []))[1].append(name)
        splices: list[Splice] = []
        for host, mine in wanted.values():
            self._check_own_text(host, reading)
            if host.tls:
                splices += self._give(host, everything, mine, supply)
            else:
                splices += edit.add_tls(host, reading, supply, self._fitting)
        return changes(reading.texts, splices)

    def _give(self, host: Host, everything: list[Host], mine: Sequence[str], supply: Supply) -> list[Splice]:
        """Make a virtual host that has TLS serve an edition, or one of its own for those names."""
        reading = self._reading()
        may_part = not set(mine) & set(host.names)
        try:
            check_names_kept(self.host, supply, _taken(host, everything, may_part=may_part))
        except NamesLost:
            if not (supply.own_site and may_part):
                raise
            return [own_host(host, reading, mine, supply)]
        return edit.point(host, reading.texts[host.block.file], supply, self.host, reading.setting.version)

    def _targets(self, everything: list[Host], name: str) -> list[Host]:
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

    def tls_endpoints(self, name: str) -> list[Endpoint]:
        mine = answering(hosts(self._reading()), name, tls=True)
        return endpoints([each for host in mine for each in host.listens], self.host)


def _taken(host: Host, everything: list[Host], *, may_part: bool) -> Taken:
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
