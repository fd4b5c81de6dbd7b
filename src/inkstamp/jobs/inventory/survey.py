"""What there is: servers, their sites, the certificate that each names, and who answers for a name."""

from collections.abc import Iterator, Mapping, Sequence, Set
from datetime import datetime
from typing import TYPE_CHECKING

from msgspec import Struct, field
from msgspec.structs import replace

from inkstamp.accounts.account_keys import known_thumbprint
from inkstamp.bulkhead import apart, attempt, reached, side_by_side
from inkstamp.errors import InkStampError
from inkstamp.findings import Finding, bad, warn
from inkstamp.garbage import collecting_none
from inkstamp.jobs.inventory.context import InventoryContext
from inkstamp.jobs.inventory.missing_sites import SiteNames, missing_site, without_sites
from inkstamp.jobs.inventory.placement import SERVERS_AT_ONCE, nothing_found
from inkstamp.jobs.inventory.site_report import SiteReport, report, unrenewed, without_certificate
from inkstamp.ledger.shelf import Shelf
from inkstamp.pki.names import as_address, normalise
from inkstamp.policy.renewal_time import renewal_moment
from inkstamp.reach.interface import FoundFile
from inkstamp.servers.base import TextServer
from inkstamp.servers.common import plain_names
from inkstamp.servers.interface import FileCarrier, Site
from inkstamp.severity import Severity, rank, worst, worst_first

if TYPE_CHECKING:
    from inkstamp.jobs.inventory.endpoints import NamePlaces


class ServerReport(Struct, frozen=True, kw_only=True):
    """A server that was read."""

    name: str
    files: tuple[str, ...]
    """Those that its configuration consists of, the main file first; where includes, patterns and variables lead."""
    sites: int
    findings: tuple[Finding, ...] = ()
    """Why it could not be read."""


class Surveyed(Struct, frozen=True, kw_only=True):
    """What was found."""

    servers: tuple[ServerReport, ...]
    sites: tuple[SiteReport, ...]
    names: tuple["NamePlaces", ...]
    """For the names that were asked about, who answers."""
    missing: tuple[Finding, ...] = ()
    """Certificates that are configured for servers without a site for them."""
    accounts: Mapping[str, str] = field(default_factory=dict)
    """By the thumbprint of an account key, the authorities whose accounts have it."""

    @property
    def whole_sites(self) -> tuple["WholeSite", ...]:
        """The sites, each with its plain HTTP; what is bad comes first, then what is a warning."""
        halves: dict[tuple[str, str], list[SiteReport]] = {}
        for each in self.sites:
            if each.plain_half:
                halves.setdefault((each.site.server, each.site.names[0]), []).append(each)
        whole: list[WholeSite] = []
        for each in (each for each in self.sites if not each.plain_half):
            keys = [(each.site.server, name) for name in dict.fromkeys(each.site.names)] if each.site.tls else []
            mine = [
                half for key in keys for half in halves.get(key, ()) if set(half.site.names) <= set(each.site.names)
            ]
            for half in mine:
                halves[half.site.server, half.site.names[0]].remove(half)
            whole.append(WholeSite(each, tuple(mine)))
        # One whose names are spread over several sites with TLS stands by itself.
        whole += [WholeSite(each, ()) for left in halves.values() for each in left]
        return tuple(sorted(whole, key=lambda each: rank(each.worst)))

    @property
    def answering(self) -> tuple[str, ...]:
        """The servers with sites that answer `http-01` challenges by themselves."""
        return tuple(dict.fromkeys(each.site.server for each in self.sites if each.site.answers_for))

    @property
    def sound(self) -> bool:
        """Whether nothing is bad."""
        of_sites, of_servers = [each.findings for each in self.sites], [each.findings for each in self.servers]
        findings = [*of_sites, *of_servers, *(each.findings for each in self.names), self.missing]
        return not any(worst(each) is Severity.BAD for each in findings)


class WholeSite(Struct, frozen=True):
    """A site as people think of it: what answers with TLS, and with plain HTTP for the same names."""

    report: SiteReport
    plain: tuple[SiteReport, ...]

    @property
    def names(self) -> tuple[str, ...]:
        """Its names that are names, which a certificate can cover."""
        return plain_names(self.report.site)

    @property
    def gist(self) -> str:
        """How it stands in two words: the most urgent severity, and what it is about."""
        return (
            f"{self.worst}: {self.urgent.topic}" if self.urgent is not None else "ok" if self.report.site.tls else "-"
        )

    @property
    def ports(self) -> tuple[int, ...]:
        """All ports that it answers at."""
        listens = [listen for each in (*self.plain, self.report) for listen in each.site.listens]
        return tuple(sorted({each.port for each in listens}))

    @property
    def findings(self) -> tuple[Finding, ...]:
        """What is wrong with either half."""
        return (*self.report.findings, *(finding for each in self.plain for finding in each.findings))

    @property
    def worst(self) -> Severity:
        """How urgent that is."""
        return worst(self.findings)

    @property
    def urgent(self) -> Finding | None:
        """The first of the most urgent findings."""
        return next(iter(worst_first(self.findings)), None)


def survey(context: InventoryContext, names: Sequence[str] = (), *, live: bool = False) -> Surveyed:
    """Read all configured servers, and those found in their usual places on this machine.

    Args:
        context: The parts of the run.
        names: Domain names to say of who terminates TLS for them; the sites that have them alone are reported then.
        live: Whether to shake hands with each site, and compare.

    Raises:
        UsageError: There is no server to read.
        NameTrouble: One of `names` is none.
        ServerTrouble: The only configuration there is cannot be read; one among several is told of in its report.

    """
    wanted = [as_address(each) or normalise(each) for each in names]
    servers = _servers(context)
    now = context.clock.now()
    read, reports = _read_all(context, servers, now)
    renamed = Shelf(context.home).renamed()
    lost = [unrenewed(each, context.home.shelf, context.certificates, now, renamed) for each in reports]
    reports = [replace(each, findings=(*each.findings, found)) if found else each
               for each, found in zip(reports, lost, strict=True)]  # fmt: skip
    unread = {each.name for each in read if each.findings}
    servers = {name: server for name, server in servers.items() if name not in unread}
    places: list[NamePlaces] = []
    all_reports = reports
    if wanted or live:
        from inkstamp.jobs.inventory import endpoints as looking  # which loads TLS  # noqa: PLC0415  handshakes: for --live alone
    if wanted:
        places = looking.whereabouts(context, wanted, servers, reports)
        reports = [each for each in reports if set(wanted) & set(each.site.names)]
    if live:
        seen = looking.live(context, reports, servers)
        reports = [replace(each, findings=(*each.findings, *more)) for each, more in zip(reports, seen, strict=True)]
    missing = _missing(context, all_reports, servers, now) if not wanted else ()
    return Surveyed(servers=tuple(read), sites=tuple(reports), names=tuple(places), missing=missing,
                    accounts=_accounts(context) if any(each.site.answers_for for each in reports) else {})  # fmt: skip


def _read_all(
    context: InventoryContext, servers: Mapping[str, FileCarrier], now: datetime
) -> tuple[list[ServerReport], list[SiteReport]]:
    """Read servers, on several machines at the same time; the error of one among several is told of in its report."""
    private = context.trust.private_if_any(context.configuration.current_or_empty().authority)
    trusted = frozenset(root.subject.public_bytes() for root in (*private, *context.trust.roots_if_any))
    with collecting_none():
        found = side_by_side(lambda each: attempt(_read, each, trusted, now), tuple(servers.values()), SERVERS_AT_ONCE)
    read, reports = list[ServerReport](), list[SiteReport]()
    for name, each in zip(servers, found, strict=True):
        if not isinstance(each, InkStampError):
            read.append(each[0])
            reports += each[1]
        elif len(servers) == 1:
            raise each
        else:
            read.append(ServerReport(name=name, files=(), sites=0, findings=(unreadable(name, each),)))
    return read, reports


def _read(server: FileCarrier, trusted: frozenset[bytes], now: datetime) -> tuple[ServerReport, list[SiteReport]]:
    reached("read", server.name)
    sites = server.sites()
    files = _files(server, sites)
    with_tls = {name for site in sites if site.tls for name in site.names}
    reports = [_reported(site, files, trusted, now, with_tls) for site in sites]
    own = tuple(server.files_read()) if isinstance(server, TextServer) else ()
    return ServerReport(name=server.name, files=own, sites=len(sites)), reports


def unreadable(server: str, error: InkStampError) -> Finding:
    """Tell why a server could not be read."""
    told = "; ".join(filter(None, (error.what, error.where, error.said)))
    return bad("server", server, told, error.advice)


def _accounts(context: InventoryContext) -> dict[str, str]:
    """Return the ACME authorities by the thumbprints of their accounts' keys."""
    config, found = context.configuration.current_or_empty(), dict[str, list[str]]()
    for name, entry in config.authority.items():
        known = attempt(known_thumbprint, context, name) if entry.is_acme else ""
        if isinstance(known, str) and known:
            found.setdefault(known, []).append(name)
    return {key: ", ".join(names) for key, names in found.items()}


def _missing(
    context: InventoryContext, reports: Sequence[SiteReport], servers: Mapping[str, FileCarrier], now: datetime
) -> tuple[Finding, ...]:
    """Find the certificates that are for servers without a site for them."""
    hosts = {
        name: SiteNames(each.site for each in reports if each.site.server == name)
        for name, server in servers.items()
        if getattr(server, "has_hosts", False)
    }

    def find() -> Iterator[Finding]:
        for name, where in without_sites(context.certificates.items(), hosts):
            edition = context.ledger.newest_edition(name) if context.has_ledger() else None
            due = renewal_moment(edition.not_before, edition.not_after) if edition is not None else None
            yield missing_site(name, where, due, now)

    found = attempt(lambda: tuple(find()))
    if isinstance(found, InkStampError):  # what servers have is told all the same
        return (warn("ledger", found.where, found.what, found.advice),)
    return found


def _reported(
    site: Site, files: Mapping[str, FoundFile], trusted: frozenset[bytes], now: datetime, with_tls: Set[str]
) -> SiteReport:
    try:
        with apart():
            reached("site", site.names[0] if site.names else site.file)
            return report(site, files, trusted, now, with_tls=with_tls)
    except InkStampError as error:
        subject = site.names[0] if site.names else f"{site.file}:{site.line}"
        return without_certificate(site, (bad("site", subject, error.what, error.advice),))


def _servers(context: InventoryContext) -> Mapping[str, FileCarrier]:
    """Return those that are configured, and those found here beside them."""
    config = context.configuration.current_or_empty()
    names = [*config.server, *(each for each in context.servers.found if each not in config.server)]
    if not names:
        raise nothing_found(context.configuration.path)
    return {name: context.servers.get(name) for name in names}


def _files(server: FileCarrier, sites: Sequence[Site]) -> Mapping[str, FoundFile]:
    """Look at all files that a server's sites name, in few requests; keys are not fetched from other machines."""
    certificates = {path for each in sites for path in (each.certificate_file, each.chain_file) if path}
    keys = {each.key_file for each in sites if each.key_file} - certificates
    here = server.host.address == "127.0.0.1"
    found = server.host.gather(sorted(certificates), contents="all" if here else "certificates")
    return {**found, **server.host.gather(sorted(keys), contents="all" if here else "none")}
