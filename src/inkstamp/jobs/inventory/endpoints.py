"""What really answers with TLS: beside what the files say, and for a name at each of its addresses."""

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from msgspec import Struct

from inkstamp.bulkhead import as_they_end, attempt
from inkstamp.deadline import within
from inkstamp.errors import InkStampError
from inkstamp.findings import Finding, bad, note, ok, warn
from inkstamp.jobs.inventory.context import InventoryContext
from inkstamp.jobs.inventory.site_report import SiteReport
from inkstamp.parts import WithProgress
from inkstamp.pki.certificates import facts, subject_names
from inkstamp.pki.names import uncovered
from inkstamp.progress import as_far_as_it_goes
from inkstamp.servers.common import endpoints, plain_names
from inkstamp.servers.interface import FileCarrier, ServerKind
from inkstamp.view.addresses import address_book
from inkstamp.view.handshake import Served, shake_hands
from inkstamp.view.point import is_own_address

if TYPE_CHECKING:
    from inkstamp.view.point import View

_AT_ONCE = 32
_SITE_SECONDS = 60.0
"""For all addresses of a site or a name."""


class NamePlaces(Struct, frozen=True, kw_only=True):
    """Which servers terminate TLS for a name."""

    name: str
    findings: tuple[Finding, ...]
    """One an address."""


def live(
    context: WithProgress, reports: Sequence[SiteReport], servers: Mapping[str, FileCarrier]
) -> list[tuple[Finding, ...]]:
    """Shake hands with every site that has TLS, and say of each where it serves something else than its file holds.

    When a person ends it, sites that were not looked at have no finding.
    """

    def look(number: int) -> tuple[int, tuple[Finding, ...]]:
        report = reports[number]
        found = attempt(_live, report, servers[report.site.server])
        if not isinstance(found, InkStampError):
            return number, found
        subject = next(iter(plain_names(report.site)), report.site.file)
        return number, (bad("live", subject, found.what, found.advice),)

    titles = [f"{each.site.file}:{each.site.line}" for each in reports]
    results = as_they_end(look, range(len(reports)), _AT_ONCE)
    done = as_far_as_it_goes(context.progress, "sites checked", results, titles)
    return [done.get(number, ()) for number in range(len(reports))]


def _live(report: SiteReport, server: FileCarrier) -> tuple[Finding, ...]:
    if report.certificate is None:
        return ()
    asked = next(iter(plain_names(report.site)), "")
    subject = asked or f"{report.site.file}:{report.site.line}"
    found = []
    with within(_SITE_SECONDS):
        for each in endpoints(report.site.listens, server.host):
            served = shake_hands(each.address, each.port, asked or "nobody.invalid", upgrade=each.upgrade)
            found.append(_compared(served, subject, str(each), report))
    return tuple(found)


def _compared(served: Served, subject: str, where: str, report: SiteReport) -> Finding:
    if not served.chain:
        return bad(
            "live", subject, f"{where}: {served.trouble}", f"check that server “{report.site.server}” is running"
        )
    seen = facts(served.chain[0])
    if report.certificate is not None and seen.sha256 == report.certificate.sha256:
        return ok("live", subject, f"{where} serves what is in its file")
    what = f"{where} serves serial {seen.serial} by “{seen.issuer}”, which differs from its file"
    return warn("live", subject, what, f"reload server “{report.site.server}”: its files have changed since")


def whereabouts(
    context: InventoryContext, names: Sequence[str], servers: Mapping[str, FileCarrier], reports: Sequence[SiteReport]
) -> list[NamePlaces]:
    """Tell for each name which server answers with TLS at each of its addresses, as far as the configurations say."""
    return [NamePlaces(name=name, findings=tuple(_places(context.view, name, servers, reports))) for name in names]


def _places(
    view: "View", name: str, servers: Mapping[str, FileCarrier], reports: Sequence[SiteReport]
) -> list[Finding]:
    with within(_SITE_SECONDS):
        return _places_in_time(view, name, servers, reports)


def _places_in_time(
    view: "View", name: str, servers: Mapping[str, FileCarrier], reports: Sequence[SiteReport]
) -> list[Finding]:
    addresses = address_book(view).look_up(name)
    if not addresses.all:
        return [bad("address", name, addresses.trouble, addresses.remedy(name))]
    port = view.https_port
    found = []
    for address in addresses.all:
        served = shake_hands(address, port, name)
        mine = [server for server in servers.values() if _answers(server, name, address, port)]
        found.append(_judged(name, f"{address}:{port}", served, mine, reports))
    return found


def _answers(server: FileCarrier, name: str, address: str, port: int) -> bool:
    """Tell whether a server terminates TLS for a name at one address."""
    if not isinstance(server, ServerKind) or not server.serves(name):
        return False
    known = server.tls_endpoints(name) or []
    here = {each.address for each in known if each.port == port}
    return address in here or (bool(here) and server.host.has_address(address) and server.answers_at(name, address))


def _judged(
    name: str, where: str, served: Served, mine: Sequence[FileCarrier], reports: Sequence[SiteReport]
) -> Finding:
    told = _told(served)
    if not mine:
        if is_own_address(where.rpartition(":")[0]):
            seen = f"{where} is this machine's, and no site of these servers has the name there; it {told}"
            remedy = f"add {name} to a virtual host, or see with `inkstamp survey` which program has the port"
            return note("place", name, seen, remedy) if served.chain else bad("place", name, seen, remedy)
        seen = f"{where} belongs to none of these servers: a proxy or another machine answers there; it {told}"
        remedy = "find it (a load balancer, a CDN, another machine) and install the certificate there too"
        return note("place", name, seen, remedy) if served.chain else bad("place", name, seen, remedy)
    whose = ", ".join(each.name for each in mine)
    if not served.chain:
        return bad("place", name, f"{where} is {whose}: {served.trouble}", "check that it is running")
    in_files = {each.certificate.sha256 for each in reports
                if each.certificate is not None and each.site.server in {server.name for server in mine}}  # fmt: skip
    seen = f"{where} is {whose}: it {told}"
    if facts(served.chain[0]).sha256 not in in_files:
        return warn("place", name, f"{seen}, which is in none of its files", f"reload {whose}, then run this again")
    if uncovered(subject_names(served.chain[0]), [name]):
        return bad("place", name, f"{seen}, which does not cover it", f"inkstamp stamp {name}")
    return ok("place", name, seen)


def _told(served: Served) -> str:
    if not served.chain:
        return f"serves no certificate ({served.trouble})"
    seen = facts(served.chain[0])
    return f"serves serial {seen.serial} by “{seen.issuer}”, valid until {seen.not_after:%Y-%m-%d}"
