"""Look at live names from outside: what each address serves, and whether the public will believe it."""

import threading
from collections.abc import Sequence
from contextlib import suppress
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from msgspec import Struct
from msgspec.structs import replace

from inkstamp.bulkhead import apart, reached
from inkstamp.clock import whole_days
from inkstamp.config.carrying import key_server
from inkstamp.config.server_kinds import KINDS
from inkstamp.deadline import within
from inkstamp.errors import InkStampError, UsageError
from inkstamp.findings import Finding, bad, note, ok, warn
from inkstamp.jobs.checks.context import ChecksContext
from inkstamp.jobs.checks.each_address import for_each_chain
from inkstamp.jobs.checks.parallel import look_at_many
from inkstamp.jobs.checks.remedies import with_commands
from inkstamp.jobs.checks.served_chain import Fetch, fetcher, judge_chain
from inkstamp.jobs.checks.targets import Target, as_place, as_target
from inkstamp.jobs.inventory.survey import survey
from inkstamp.jobs.status.editions import served_beside
from inkstamp.jobs.status.renewal_reasons import is_unfit
from inkstamp.pki.certificates import Facts, facts
from inkstamp.pki.chain import Roots
from inkstamp.progress import as_far_as_it_goes
from inkstamp.servers.common import plain_names
from inkstamp.severity import Severity, worst, worst_first
from inkstamp.view.addresses import Addresses, address_book
from inkstamp.view.handshake import Served, shake_hands
from inkstamp.view.point import load_roots

if TYPE_CHECKING:
    from inkstamp.ledger.records import EditionRecord


_QUICK_SECONDS, _DEEP_SECONDS = 60.0, 180.0
"""For all addresses of a name, everything that is tried there included."""
_MOST_NAMED = 50
"""Of more names, the servers' configurations are not gone through for each."""


class Verdict(StrEnum):
    """What the findings about a name amount to."""

    OK = "ok"
    WARNINGS = "warnings"
    BROKEN = "broken"


class NameReport(Struct, frozen=True, kw_only=True):
    """What one live name serves."""

    name: str
    """As it is typed: a name, or a URL of a mail server."""
    chain: tuple[Facts, ...]
    """As served by the first address that answered, leaf first."""
    root: str
    """The trusted root that it leads to; empty when there is none."""
    days_left: int | None
    findings: tuple[Finding, ...]
    addresses: tuple[tuple[str, str], ...] = ()
    """Each address of the name, with the SHA-256 of the leaf that it serves; empty where there was no handshake."""

    @property
    def verdict(self) -> Verdict:
        """What the findings come to."""
        severity = worst(self.findings)
        return {Severity.BAD: Verdict.BROKEN, Severity.WARN: Verdict.WARNINGS}.get(severity, Verdict.OK)

    @property
    def worst(self) -> Finding | None:
        """The gravest finding, None where all is well."""
        first = worst_first(self.findings)[:1]
        return first[0] if first and first[0].severity is not Severity.OK else None


def together(reports: "Sequence[NameReport]") -> list[tuple[tuple[str, ...], NameReport]]:
    """Gather what is the same of several names, as of a bare name and its www: the names, and one report."""
    found: dict[object, tuple[tuple[str, ...], NameReport]] = {}
    for each in reports:
        same = [
            (finding.severity, finding.topic, *(text.replace(each.name, "") for text in
                                                (finding.subject, finding.seen, finding.remedy)))
            for finding in each.findings
        ]  # fmt: skip
        key = (each.chain, each.root, tuple(same))
        names = found[key][0] if key in found else ()
        found[key] = ((*names, each.name), found[key][1] if key in found else each)
    return list(found.values())


class CheckOptions(Struct, frozen=True, kw_only=True):
    """How names are looked at."""

    roots: Path | None = None
    """Other roots than the view's."""
    at_once: int = 16
    """How many are looked at in the same moment."""
    quick: bool = False
    """Whether to take the first handshake alone."""
    fetch: bool = False
    """Whether missing intermediates may be fetched from where certificates say that they are."""
    at: str = ""
    """The address to look at, with a port or without, in the place of those that names have in DNS; empty for these."""


class _Trust:
    """The roots that each name is judged by: those of its certificate's authority, and the public's."""

    def __init__(self, context: ChecksContext, given: Path | None) -> None:
        self._context = context
        self._given = Roots(load_roots(given)) if given is not None else None
        self._known: dict[str, Roots] = {}
        self._reading = threading.Lock()

    def of(self, certificate: str) -> Roots:
        """Return the roots for the names of a certificate; empty for names of none."""
        if self._given is not None:
            return self._given
        entry = self._context.certificates.get(certificate) if certificate else None
        known = self._context.configuration.current_or_empty().authority
        authority = known.get(entry.authority) if entry is not None else None
        private = entry.authority if entry is not None and authority is not None and authority.is_private else ""
        with self._reading:
            if private not in self._known:
                self._known[private] = Roots(self._context.trust.of(private))
            return self._known[private]


def check(context: ChecksContext, targets: Sequence[str], manner: CheckOptions) -> list[NameReport]:
    """Look at each target, several at the same time; the most urgent first.

    Args:
        context: The parts of the run.
        targets: Each a domain name, a configured certificate for all of its names, or `smtp://host:port` (imap, pop3);
            none for all that are configured.
        manner: How.

    Raises:
        NameTrouble: A target is neither.
        ConfigurationError: The roots cannot be read.

    """
    wanted, (at, port) = _wanted(context, targets), as_place(manner.at)
    if port:
        wanted = {replace(target, port=port): owner for target, owner in wanted.items()}
    trust = _Trust(context, manner.roots)
    fetch = fetcher(context.view) if manner.fetch else None

    targets_wanted = list(wanted)

    def look_at(number: int) -> tuple[int, NameReport]:
        context.forget_parent()
        target = targets_wanted[number]
        try:
            with apart(), within(_QUICK_SECONDS if manner.quick else _DEEP_SECONDS):
                reached("check", target.name)
                return number, look(
                    context, target, trust.of(wanted[target]), certificate=wanted[target], deep=not manner.quick,
                    fetch=fetch, at=at,
                )  # fmt: skip
        except InkStampError as error:
            finding = bad("check", str(target), error.what, error.advice)
            return number, NameReport(name=str(target), chain=(), root="", days_left=None, findings=(finding,))

    if len(wanted) > 1:
        with suppress(InkStampError):  # whoever needs them is told
            trust.of("")  # read once, and not by each process
    results = look_at_many(look_at, range(len(wanted)), manner.at_once)
    done = as_far_as_it_goes(context.progress, "checked", results, list(map(str, wanted)))
    seen = {targets_wanted[number]: report for number, report in done.items()}
    owners = list(dict.fromkeys(filter(None, wanted.values())))
    editions = context.ledger.newest_editions(owners) if owners and context.has_ledger() else {}
    reports = [_compared(context, report, each, editions.get(wanted[each])) for each, report in seen.items()]
    if len(reports) <= _MOST_NAMED:
        reports = [
            replace(each, findings=with_commands(context, target.name, each.findings))
            for target, each in zip(seen, reports, strict=True)
        ]
    rank = [Verdict.BROKEN, Verdict.WARNINGS, Verdict.OK]
    far = 1 << 30
    return sorted(reports, key=lambda r: (rank.index(r.verdict), far if r.days_left is None else r.days_left, r.name))


def _wanted(context: ChecksContext, targets: Sequence[str]) -> dict[Target, str]:
    """Return what to look at, and the configured certificate that each belongs to, empty for none."""
    configured = context.certificates
    port = context.view.https_port
    found: dict[Target, str] = {}
    # What is on no server of ours was never to be served by one: it is looked at when it is named.
    named = configured.read(targets) or tuple(name for name, entry in configured.items() if entry.install)
    certificates = [each for each in named if each in configured]
    for each in certificates:
        plain = (name for name in configured[each].names if not name.startswith("*."))
        for target in (Target(name=name, port=port) for name in plain):
            found.setdefault(target, each)
    others = [as_target(each, port) for each in named if each not in configured]
    owners: dict[str, str] = {}
    for key, entry in configured.covering([each.name for each in others]).items():
        for name in entry.names:
            owners.setdefault(name, key)
    for target in others:
        found.setdefault(target, owners.get(target.name, ""))
    return found


def of_sites(context: ChecksContext) -> list[str]:
    """Return what to look at for all sites that `survey` finds: their names, where they serve TLS.

    Raises:
        UsageError: No server is configured and none is found here, or no site serves TLS.

    """
    usual = context.view.https_port
    found: dict[str, None] = {}
    for each in survey(context).sites:
        for listen in each.site.listens:
            if listen.tls and listen.port:
                scheme = f"{listen.upgrade}://" if listen.upgrade else ""
                end = f":{listen.port}" if scheme or listen.port != usual else ""
                found |= dict.fromkeys(f"{scheme}{name}{end}" for name in plain_names(each.site))
    if not found:
        raise UsageError("no site that `survey` finds serves TLS", advice="inkstamp survey")
    return list(found)


def _compared(context: ChecksContext, report: NameReport, target: Target, newest: "EditionRecord | None") -> NameReport:
    """Add whether what is served is the newest edition of the name's certificate."""
    if newest is None or not report.chain:
        return report
    served = report.chain[0].sha256
    if context.shelf.is_touched(newest.certificate, newest.number) and is_unfit(context, newest):
        seen = f"the key of edition {newest.number} on the shelf does not match its certificate"
        finding = bad("edition", report.name, seen, f"inkstamp renew {newest.certificate}, which makes a new edition")
    elif served == newest.sha256:
        finding = ok("edition", report.name, f"serves edition {newest.number}, the newest")
    elif served in (beside := served_beside(context, target.name, newest)):
        finding = note("edition", report.name, f"serves “{beside[served]}”, which is installed beside this certificate")
    else:
        seen = f"serves another certificate than edition {newest.number} of “{newest.certificate}”, the newest"
        servers, entry = context.config.server, context.certificates[newest.certificate]
        authority = context.config.authority.get(entry.authority)
        kinds = {servers[each].kind for each in entry.install if each in servers}
        if target.upgrade and not any(KINDS[each].serves_mail for each in kinds):
            finding = note("edition", report.name, seen)  # it was never meant to go there
        elif authority is not None and authority.is_private:  # which no browser trusts: something in front answers
            seen = f"a CDN or proxy answers, with a certificate of “{report.chain[0].issuer}”"
            finding = note(
                "edition", report.name, seen, f"the origin itself: inkstamp check {report.name} --at ADDRESS"
            )
        elif entry.key_elsewhere and not key_server(entry):
            remedy = f"install it where its key is: inkstamp export {newest.certificate} --form served"
            finding = warn("edition", report.name, seen, remedy)
        else:
            finding = warn("edition", report.name, seen, f"inkstamp install {newest.certificate}, or import it by hand")
    return replace(report, findings=(*report.findings, finding))


def look(
    context: ChecksContext,
    target: Target,
    roots: Roots,
    *,
    certificate: str = "",
    deep: bool = False,
    fetch: Fetch | None = None,
    at: str = "",
) -> NameReport:
    """Look at one name: chain, dates and trust, and with `deep` at all else that `check` looks at.

    Args:
        context: The parts of the run.
        target: What to look at.
        roots: What the public trusts.
        certificate: The configured certificate that has the name; empty for none.
        deep: Whether to go on after the first handshake with each address.
        fetch: Fetches intermediates that are missing; None where nothing may be fetched.
        at: The address to look at, in the place of those in DNS.

    """
    name, told, now = target.name, str(target), context.clock.now()
    found = (
        Addresses((at,) if ":" in at else (), () if ":" in at else (at,), "")
        if at
        else address_book(context.view).look_up(name)
    )
    if not found.all:
        finding = bad("address", name, found.trouble, found.remedy(name))
        return NameReport(name=told, chain=(), root="", days_left=None, findings=(finding,))
    served = [shake_hands(address, target.port, name, upgrade=target.upgrade) for address in found.all]
    addresses = tuple((each.address, _digest(each.chain[0]) if each.chain else "") for each in served)
    findings = [_connected(each) for each in served]
    answered = [each for each in served if each.chain]
    if all(each.no_route for each in served):
        seen = "none of its addresses can be reached from this machine"
        findings.append(bad("connection", name, seen, "check from a machine on another network"))
    if not answered:
        if deep:
            from inkstamp.jobs.checks.tls import explain_failure  # noqa: PLC0415  OpenSSL: not for a quick check

            findings += [more for each in served for more in explain_failure(name, each, target.upgrade)]
        return NameReport(name=told, chain=(), root="", days_left=None, findings=tuple(findings), addresses=addresses)
    findings += _agreement(name, addresses)
    judged = {
        chain: judge_chain(name, chain, roots, now, fetch=fetch)
        for chain in dict.fromkeys(each.chain for each in answered)
    }
    findings += for_each_chain(name, answered, lambda chain: judged[chain].findings)
    first = answered[0].chain
    if deep:
        from inkstamp.jobs.checks.tls import TlsCheck, look_deeper  # noqa: PLC0415  as above

        subject = TlsCheck(name=name, port=target.port, upgrade=target.upgrade, certificate=certificate, roots=roots,
                          now=now, fetch=fetch)  # fmt: skip
        findings += look_deeper(context, subject, answered, [chain for chain, known in judged.items() if known.root])
    return NameReport(
        name=told,
        chain=tuple(facts(each) for each in first),
        root=judged[first].root,
        days_left=whole_days(first[0].not_valid_after_utc, now),
        findings=tuple(findings),
        addresses=addresses,
    )


def _digest(certificate: x509.Certificate) -> str:
    return certificate.fingerprint(hashes.SHA256()).hex()


def _connected(served: Served) -> Finding:
    at = f"{served.address}:{served.port}"
    if served.chain:
        return ok("connection", at, f"answers with {served.protocol}")
    if served.no_route:
        return note("connection", at, "not tested: this machine has no route to that kind of address")
    return bad(
        "connection",
        at,
        served.trouble or "served no certificate",
        "check that the web server listens there with TLS, and the firewall",
    )


def _agreement(name: str, served: Sequence[tuple[str, str]]) -> list[Finding]:
    """Find addresses that serve different certificates: one server was forgotten."""
    leaves: dict[str, list[str]] = {}
    for address, digest in served:
        if digest:
            leaves.setdefault(digest[:16], []).append(address)
    if len(leaves) < 2:
        return []
    told = "; ".join(f"{digest}… at {', '.join(addresses)}" for digest, addresses in leaves.items())
    return [
        warn(
            "addresses",
            name,
            f"its addresses serve different certificates: {told}",
            "install the current edition on the server behind each address",
        )
    ]
