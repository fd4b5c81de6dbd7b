"""An nginx as a server kind: its sites, the edits for a certificate, test and reload."""

import functools
import posixpath
import re
from collections.abc import Sequence

from msgspec import Struct
from msgspec.structs import replace

from inkstamp.errors import NamesLost, ServerTrouble
from inkstamp.pki.names import as_address, uncovered
from inkstamp.servers.base import SECONDS, Files, TextServer
from inkstamp.servers.common import FreePorts, ProofFolder, Taken, check_names_kept, endpoints, obstacle, which_of
from inkstamp.servers.interface import (
    ONLY_TLS,
    Endpoint,
    FileChange,
    Hardening,
    Obstacle,
    Place,
    Site,
    StandingAnswer,
    Supply,
)
from inkstamp.servers.nginx import passage
from inkstamp.servers.nginx.edit import (
    PASSPHRASES,
    add_lines,
    point_at_passphrase,
    quote,
    set_value,
    tls_lines,
    tls_listens,
)
from inkstamp.servers.nginx.hardening import NginxHardener
from inkstamp.servers.nginx.own_block import own_block
from inkstamp.servers.nginx.reading import (
    Folders,
    Reading,
    ServerBlock,
    best_hosts,
    default_hosts,
    hosts,
    names_root,
    place_of,
    read_configuration,
    to_site,
)
from inkstamp.servers.nginx.standing import answers_for, plan_standing, thumbprints
from inkstamp.servers.text import Directive, Splice, changes
from inkstamp.servers.tls_edits import Edits
from inkstamp.servers.tls_policy import TlsChange
from inkstamp.wording import counted

_VERSION = re.compile(r"nginx/(\d+\.\d+\.\d+)")
_BUILT_PREFIX = re.compile(r"--prefix=(\S+)")


class _Listening(Struct, frozen=True, dict=True):
    """Where an nginx listens, and a check that other ports are free."""

    everything: list[ServerBlock]
    ports: FreePorts

    @functools.cached_property
    def taken(self) -> set[tuple[str, int]]:
        """Addresses and ports of all blocks; most installs need not know."""
        return {(listen.address, listen.port) for each in self.everything for listen in each.listens}

    def expect(self, host: ServerBlock, port: int) -> None:
        """Make sure that the port can be had at the addresses of a block at which nginx does not listen on it yet."""
        there = {address for address, taken in self.taken if taken == port}
        added = {each.address for each in host.listens if each.port and not {each.address, "*"} & there}
        self.ports.expect(added, port, f"{host.block.file}, line {host.block.line}")


class NginxServer(TextServer[Reading]):
    """One nginx, as configured under `[server.NAME]`."""

    service = "nginx"
    points_at = frozenset({"served", "key"})
    has_hosts = True

    def _read(self) -> Reading:
        main_file, prefix = self._fitting.main_file, self._fitting.prefix.rstrip("/")
        version: tuple[int, ...] = ()
        if not prefix or self._fitting.manner.http2:
            built = self._built()
            found = _BUILT_PREFIX.search(built)
            prefix = prefix or (found[1].rstrip("/") if found else posixpath.dirname(main_file))
            version = _version_in(built)
        files = Files(self.host)
        return read_configuration(Folders(main_file, prefix, version), files.read, files.glob)

    def _built(self) -> str:
        return self.host.run([self._fitting.program, "-V"], SECONDS).output

    def _command(self, *arguments: str) -> list[str]:
        prefix = ["-p", self._fitting.prefix] if self._fitting.prefix else []
        return [self._fitting.program, *prefix, "-c", self._fitting.main_file, *arguments]

    def _usual_test(self) -> list[str]:
        return self._command("-t")

    def _usual_start(self) -> list[str]:
        return self._command("-g", "daemon on;")

    def _usual_reload(self) -> list[str]:
        return self._command("-s", "reload")

    def sites(self) -> list[Site]:
        everything = hosts(self._reading())
        return [replace(to_site(each, self.name), answers_for=answers_for(each)) for each in everything]

    def places(self, name: str, parts: tuple[str, ...]) -> tuple[Place, ...]:
        everything = hosts(self._reading())
        answering = self._answering(everything, name, tls=False)
        # A block that only redirects shows no files: the CA follows to the block that has them.
        path = "/".join(("", *parts))
        with_files = [host for host in answering if not passage.redirects(host, path)]
        if not with_files or any(passage.rewrites(host, path) for host in with_files):
            with_files += self._answering(everything, name, tls=True)
        if answering and not with_files:
            block = answering[0].block
            raise ServerTrouble(
                f"the virtual host for {name} answers everything with `return`, and none with TLS has its files",
                where=f"{block.file}, line {block.line}",
                advice=f"open the challenge path: inkstamp stamp {name} --let-through",
            )
        if not with_files:
            raise self._not_found(name, "answers plain HTTP")
        shown = [host for host in with_files if self._has_root(host, parts)]
        if not shown:
            block = with_files[0].block
            raise ServerTrouble(
                f"the virtual host for {name} shows no files: it has no document root",
                where=f"{block.file}, line {block.line}",
                advice=f"open the challenge path: inkstamp stamp {name} --let-through",
            )
        return tuple(dict.fromkeys(place_of(host, parts) for host in shown))

    def _has_root(self, host: ServerBlock, parts: tuple[str, ...]) -> bool:
        """Tell whether files are shown: a root is named where the path leads, or the one that nginx brings is there."""
        if names_root(host, "/" + "/".join(parts)):
            return True
        return bool(self.host.glob(f"{place_of(host, parts).root}/."))

    def obstacles(self, name: str, parts: tuple[str, ...]) -> tuple[Obstacle, ...]:
        everything = hosts(self._reading())
        found = self._answering(everything, name, tls=False)
        if not found:
            tls = [host.block for host in self._answering(everything, name, tls=True)]
            return tuple(obstacle(each, ONLY_TLS) for each in tls)
        return tuple(each for host in found for each in passage.obstacles(host, "/".join(("", *parts))))

    def plan_let_through(self, names: Sequence[str], folder: tuple[str, ...], root: str) -> list[FileChange]:
        reading = self._reading()
        everything = hosts(reading)
        path = "/".join(("", *folder, ""))
        answering: dict[int, ServerBlock] = {}
        lacking: dict[int, tuple[ServerBlock, list[str]]] = {}
        for name in names:
            found = self._answering(everything, name, tls=False)
            with_tls = [] if found else self._answering(everything, name, tls=True)
            if not found and not with_tls:
                raise self._not_found(name, "answers plain HTTP")
            answering |= {id(host.block): host for host in found}
            for host in with_tls:
                lacking.setdefault(id(host.block), (host, []))[1].append(name)
        splices = [passage.open_way(host, reading.texts[host.block.file], path, root) for host in answering.values()]
        listening = self._listening(everything)
        for host, mine in lacking.values():
            listening.expect(host, self._fitting.http_port)
            text = reading.texts[host.block.file]
            splices.append(passage.plain_block(host, text, mine, ProofFolder(path, root), self._fitting))
        return changes(reading.texts, splices)

    def plan_standing(self, wanted: StandingAnswer) -> list[FileChange]:
        reading = self._reading()
        everything = hosts(reading)
        splices, lacking = plan_standing(everything, reading.texts, wanted, self._answering, self._fitting)
        listening = self._listening(everything)
        for host in lacking:
            listening.expect(host, self._fitting.http_port)
        return changes(reading.texts, splices)

    def standing(self, name: str) -> frozenset[str]:
        return thumbprints(self._answering(hosts(self._reading()), name, tls=False), name)

    def _answering(self, everything: list[ServerBlock], name: str, *, tls: bool) -> list[ServerBlock]:
        """Return the blocks that answer for a name: those with the name, else those for whatever has no block.

        A wildcard is not asked for over HTTP. For an address, the blocks at that very address.
        """
        found = best_hosts(everything, name, tls=tls)
        if found or name.startswith("*."):
            return found
        port = self._fitting.https_port if tls else self._fitting.http_port
        if not as_address(name):
            return default_hosts(everything, port, tls=tls)
        wanted = {f"[{name}]", "[::]"} if ":" in name else {name, "*", "0.0.0.0"}  # noqa: S104  compared, not bound
        there = [
            (listen.default, host)
            for host in everything
            for listen in host.listens
            if listen.address in wanted and listen.port == port and listen.tls is tls
        ]
        return [next((host for default, host in there if default), there[0][1])] if there else []

    def answers_at(self, name: str, address: str) -> bool:
        everything = hosts(self._reading())
        listens = [
            each
            for tls in (False, True)
            for host in self._answering(everything, name, tls=tls)
            for each in host.listens
        ]
        wanted = f"[{address}]" if ":" in address else address
        anywhere = {"[::]"} if ":" in address else {"*", "0.0.0.0"}  # noqa: S104  compared, not bound
        if any(each.address == wanted for each in listens):
            return True
        return any(each.address in anywhere for each in listens) and self.host.has_address(address)

    def _not_found(self, name: str, verb: str) -> ServerTrouble:
        return ServerTrouble(
            f"no virtual host of server “{self.name}” {verb} for {name}",
            where=f"{self._fitting.main_file} and {counted(len(self._reading().texts) - 1, 'included file')}",
            advice=f"add {name} to a server_name there, or take the name out; `inkstamp survey` shows what there is",
        )

    def serves(self, name: str) -> bool:
        everything = hosts(self._reading())
        return any(self._answering(everything, name, tls=tls) for tls in (True, False))

    def plan_install(self, names: Sequence[str], supply: Supply) -> list[FileChange]:
        reading = self._reading()
        everything = hosts(reading)
        supply = supply if supply.names else replace(supply, names=tuple(names))
        wanted: dict[int, tuple[ServerBlock, list[str]]] = {}
        for name in names:
            for host in self._targets(everything, name):
                wanted.setdefault(id(host.block), (host, []))[1].append(name)
        splices: list[Splice] = []
        listening = self._listening(everything)
        for host, mine in wanted.values():
            text = reading.texts[host.block.file]
            if any(listen.tls for listen in host.listens):
                splices += self._give(host, everything, mine, supply)
            else:
                _check_has_content(host)
                manner = self._fitting.manner
                listening.expect(host, self._fitting.https_port)
                lines = [
                    *tls_listens(host, listening.taken, self._fitting),
                    *tls_lines(host, supply, manner, self._fitting.https_port),
                ]
                splices.append(add_lines(host, text, lines))
        return changes(reading.texts, splices)

    def _give(
        self, host: ServerBlock, everything: list[ServerBlock], mine: Sequence[str], supply: Supply
    ) -> list[Splice]:
        """Make a block that has TLS serve an edition, or a block of its own for those names."""
        may_part = not set(mine) & set(host.names)
        try:
            check_names_kept(self.host, supply, self._taken(host, everything, may_part=may_part))
        except NamesLost:
            if not (supply.own_site and may_part):
                raise
            return [own_block(host, self._reading().texts[host.block.file], mine, supply)]
        return self._point(host, everything, supply.names, supply)

    def _taken(self, host: ServerBlock, everything: list[ServerBlock], *, may_part: bool) -> Taken:
        def answers(name: str) -> bool:
            # Not all blocks are gone through for each of thousands of names.
            if host.rank(name) is None and (not is_default() or name in elsewhere()):
                return False
            return any(other.block is host.block for other in self._answering(everything, name, tls=True))

        @functools.cache
        def is_default() -> bool:
            port = self._fitting.https_port
            return any(each.block is host.block for each in default_hosts(everything, port, tls=True))

        @functools.cache
        def elsewhere() -> frozenset[str]:
            return frozenset(name for each in everything for name in each.names)

        return Taken(
            names=[each for each in host.names if not each.startswith("~")],
            certificate_files=host.certificate_files,
            answers=answers,
            may_part=may_part,
            where=f"{host.block.file}, line {host.block.line}",
        )

    def _targets(self, everything: list[ServerBlock], name: str) -> list[ServerBlock]:
        """Return the blocks to serve `name` from: those with TLS, unless only a plain one has the very name."""
        with_tls = self._answering(everything, name, tls=True)
        plain = self._answering(everything, name, tls=False)
        ranks = {tls: found[0].rank(name) for tls, found in ((True, with_tls), (False, plain)) if found}
        if with_tls and (ranks[True] == 0 or not plain or ranks[False] is None):
            return with_tls
        if with_tls and ranks[True] is not None and ranks[False] != 0:
            return with_tls
        if not plain:
            raise self._not_found(name, "answers")
        return plain

    def _listening(self, everything: list[ServerBlock]) -> _Listening:
        return _Listening(everything, FreePorts(self.host, {"nginx"}))

    def _point(
        self, host: ServerBlock, everything: list[ServerBlock], covered: Sequence[str], supply: Supply
    ) -> list[Splice]:
        """Make a block that has TLS serve an edition."""
        own = {each: list(host.block.find(each)) for each in ("ssl_certificate", "ssl_certificate_key")}
        where = f"{host.block.file}, line {host.block.line}"
        present = [host.absolute(each.arguments[0]) for each in own["ssl_certificate"] if each.arguments]
        chosen = which_of(self.host, present, supply, supply.served, where)
        splices: list[Splice] = []
        missing = []
        for (name, directives), value in zip(own.items(), (supply.served, supply.key), strict=True):
            if chosen is None or chosen >= len(directives):
                missing.append(f"{name} {quote(value)};")
                continue
            self._check_not_shared(directives[chosen], host, everything, covered)
            splices += set_value(directives[chosen], value)
        text = self._reading().texts[host.block.file]
        if missing:  # before those that are there: certificates and keys are paired by their order
            splices.append(add_lines(host, text, missing))
        only_key = len(own["ssl_certificate"]) == (0 if chosen is None else 1)
        passphrase = point_at_passphrase(host, text, supply, only_key=only_key)
        for each in host.block.find(PASSPHRASES) if passphrase else ():
            self._check_not_shared(each, host, everything, covered)
        return [*splices, *passphrase]

    def _check_not_shared(
        self, directive: Directive, host: ServerBlock, everything: list[ServerBlock], names: Sequence[str]
    ) -> None:
        """Refuse to edit an included line that other virtual hosts read too."""
        if directive.file == host.block.file:
            return
        for other in everything:
            if uncovered(names, other.names) and directive in (other.block.block or ()):
                raise ServerTrouble(
                    f"the line is also read by the virtual host of {' '.join(other.names)}",
                    where=f"{directive.file}, line {directive.line}",
                    advice=f"move {directive.name} from that file into the server blocks",
                )

    def plan_hardening(self, names: Sequence[str], wanted: TlsChange) -> Hardening:
        reading, edits = self._reading(), Edits()
        everything = hosts(reading)
        with_tls = self._blocks_of(everything, names, tls=True)
        lost = next((name for name in names if not self._answering(everything, name, tls=True)), "")
        if lost:
            raise self._not_found(lost, "has TLS")
        plain = self._blocks_of(everything, names, tls=False) if wanted.redirect is not None else []
        version = reading.folders.version or (_version_in(self._built()) if wanted.http2 is not None else ())
        hardener = NginxHardener(reading, [*with_tls, *plain], wanted, self._fitting.https_port, version, edits)
        for host in with_tls:
            hardener.with_tls(host)
        for host in plain:
            hardener.with_plain_http(host)
        if wanted.redirect and not plain:
            edits.tell("redirect", ", ".join(names), "no virtual host answers plain HTTP")
        return Hardening(tuple(changes(reading.texts, edits.splices)), tuple(edits.findings))

    def _blocks_of(self, everything: list[ServerBlock], names: Sequence[str], *, tls: bool) -> list[ServerBlock]:
        found = {id(host.block): host for name in names for host in self._answering(everything, name, tls=tls)}
        return list(found.values())

    def tls_endpoints(self, name: str) -> list[Endpoint]:
        answering = self._answering(hosts(self._reading()), name, tls=True)
        return endpoints([each for host in answering for each in host.listens], self.host)


def _version_in(built: str) -> tuple[int, ...]:
    told = _VERSION.search(built)
    return tuple(int(part) for part in told[1].split(".")) if told else ()


def _check_has_content(host: ServerBlock) -> None:
    """Refuse to give TLS to a block that only leads to HTTPS: it would lead to itself."""
    leading = next(
        (each for each in host.block.find("return") if any("https://" in word for word in each.arguments)), None
    )
    if leading is not None:
        raise ServerTrouble(
            "the virtual host only leads to HTTPS, and no other one has its content",
            where=f"{leading.file}, line {leading.line}",
            advice="take the `return` out (`redirect = true` in the server's table puts one for plain HTTP alone), "
            "or write a server block with the content",
        )
