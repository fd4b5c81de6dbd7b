"""Look at live names from outside: what each address serves, and whether the public will believe it."""

from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from cryptography import x509
from cryptography.hazmat.primitives import hashes

from inkstamp.clock import stamp, whole_days
from inkstamp.errors import UsageError
from inkstamp.findings import Finding, Severity, bad, good, note, warn, worst
from inkstamp.pki.certificates import Facts, facts, short_name, subject_names
from inkstamp.pki.chain import arrange, find_paths, is_self_signed
from inkstamp.pki.names import as_address, normalise, uncovered
from inkstamp.renewal.when import renewal_moment
from inkstamp.view.addresses import address_book
from inkstamp.view.handshake import Served, shake_hands
from inkstamp.view.point import load_roots

if TYPE_CHECKING:
    from datetime import datetime

    from inkstamp.jobs.workplace import Workplace
    from inkstamp.ledger.records import EditionRecord


@dataclass(frozen=True, slots=True, kw_only=True)
class NameReport:
    """What one live name serves."""

    name: str
    chain: tuple[Facts, ...]
    """As served by the first address that answered, leaf first."""
    root: str
    """The trusted root that it leads to; empty when there is none."""
    days_left: int | None
    findings: tuple[Finding, ...]

    @property
    def sound(self) -> bool:
        """Whether nothing is broken."""
        return worst(self.findings) is not Severity.BAD


def check(workplace: "Workplace", targets: tuple[str, ...], roots_file: Path | None) -> list[NameReport]:
    """Look at each target: a domain name, or a configured certificate for all of its names.

    Raises:
        NameTrouble: A target is neither.
        ConfigurationError: The roots cannot be read.

    """
    configured = workplace.config_or_empty().certificate
    names: list[str] = []
    editions: dict[str, EditionRecord] = {}
    for target in targets:
        if target not in configured:
            names.append(_as_name(target))
            continue
        names += configured[target].names
        newest = workplace.ledger.newest_edition(target) if workplace.has_ledger() else None
        if newest is not None:
            editions |= dict.fromkeys(configured[target].names, newest)
    roots = load_roots(roots_file) if roots_file else workplace.roots
    reports = [look(workplace, name, roots) for name in dict.fromkeys(names)]
    return [_compared(workplace, each, editions.get(each.name)) for each in reports]


def standing_beside(workplace: "Workplace", name: str, edition: "EditionRecord") -> dict[str, str]:
    """Return the newest editions of other certificates with that name, by digest: whose they are.

    A site may have one certificate for each sort of key; who asks is served either.
    """
    others = (key for key, each in workplace.config.certificate.items()
              if name in each.names and key != edition.certificate)  # fmt: skip
    found = ((other, workplace.ledger.newest_edition(other)) for other in others)
    return {each.sha256: other for other, each in found if each is not None}


def _compared(workplace: "Workplace", report: NameReport, newest: "EditionRecord | None") -> NameReport:
    """Add whether what is served is the newest edition of the name's certificate."""
    if newest is None or not report.chain:
        return report
    served = report.chain[0].sha256
    beside = standing_beside(workplace, report.name, newest)
    if served == newest.sha256:
        finding = good("edition", report.name, f"serves edition {newest.number}, the newest")
    elif served in beside:
        finding = note("edition", report.name, f"serves “{beside[served]}”, which stands beside this certificate")
    else:
        seen = f"serves another certificate than edition {newest.number}, the newest"
        finding = warn("edition", report.name, seen, f"inkstamp install {newest.certificate}, or import it by hand")
    return replace(report, findings=(*report.findings, finding))


def _as_name(target: str) -> str:
    if "." not in target:
        raise UsageError(
            f"“{target}” is neither a configured certificate nor a domain name",
            advice="see `inkstamp status` for the certificates there are",
        )
    return as_address(target) or normalise(target)


def look(workplace: "Workplace", name: str, roots: list[x509.Certificate]) -> NameReport:
    """Look at one name."""
    now = workplace.clock.now()
    addresses = address_book(workplace.view).look_up(name)
    if not addresses.all:
        finding = bad("address", name, addresses.trouble, f"make an A or AAAA record for {name}")
        return NameReport(name=name, chain=(), root="", days_left=None, findings=(finding,))
    port = workplace.view.https_port
    served = [shake_hands(address, port, name) for address in addresses.all]
    findings = [_connected(each) for each in served]
    answered = [each for each in served if each.chain]
    if not answered:
        return NameReport(name=name, chain=(), root="", days_left=None, findings=tuple(findings))
    findings += _agreement(name, answered)
    root = ""
    for chain in dict.fromkeys(each.chain for each in answered):
        more, root = judge_chain(name, chain, roots, now)
        findings += [finding for finding in more if finding not in findings]
    first = answered[0].chain
    return NameReport(
        name=name,
        chain=tuple(facts(each) for each in first),
        root=root,
        days_left=whole_days(first[0].not_valid_after_utc, now),
        findings=tuple(findings),
    )


def _connected(served: Served) -> Finding:
    at = f"{served.address}:{served.port}"
    if served.chain:
        return good("connection", at, f"answers with {served.protocol}")
    return bad(
        "connection",
        at,
        served.trouble or "served no certificate",
        "see that the web server listens there with TLS, and that no firewall is in front",
    )


def _agreement(name: str, answered: list[Served]) -> list[Finding]:
    """Find addresses that serve different certificates: one server was forgotten."""
    leaves: dict[str, list[str]] = {}
    for each in answered:
        leaves.setdefault(each.chain[0].fingerprint(hashes.SHA256()).hex()[:16], []).append(each.address)
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


def judge_chain(
    name: str, chain: tuple[x509.Certificate, ...], roots: list[x509.Certificate], now: "datetime"
) -> tuple[list[Finding], str]:
    """Judge a chain as served for `name`; returns findings and the root that it leads to."""
    leaf = chain[0]
    again = f"inkstamp stamp {name}"
    findings = []
    if uncovered(subject_names(leaf), [name]):
        covers = ", ".join(subject_names(leaf)[:5]) or "no name at all"
        findings.append(bad("name", name, f"the certificate is for {covers}", again))
    else:
        findings.append(good("name", name, "the certificate covers this name"))
    findings.append(_dates(name, leaf, now, again))
    paths = find_paths(leaf, chain[1:], roots, now)
    root = short_name(paths[0].root.subject) if paths else ""
    if paths:
        findings.append(good("trust", name, f"leads to the trusted root “{root}”"))
    else:
        top = (leaf, *arrange(leaf, chain[1:]))[-1]
        if is_self_signed(top):
            seen = f"“{short_name(top.subject)}” vouches for itself and is not trusted"
        else:
            seen = f"no trusted root stands behind “{short_name(top.issuer)}”; an intermediate may be missing"
        findings.append(bad("trust", name, seen, f"{again}, which installs the certificate with its intermediates"))
    findings += _order(name, chain, again)
    return findings, root


def _dates(name: str, leaf: x509.Certificate, now: "datetime", again: str) -> Finding:
    until, days = leaf.not_valid_after_utc, whole_days(leaf.not_valid_after_utc, now)
    if now > until:
        return bad("dates", name, f"expired {stamp(until)}, {-days} days ago", again)
    if now < leaf.not_valid_before_utc:
        return bad("dates", name, f"not valid before {stamp(leaf.not_valid_before_utc)}", "check the clocks")
    said = f"valid until {stamp(until)}, {days} days left"
    if now >= renewal_moment(leaf.not_valid_before_utc, until):
        return warn("dates", name, said, "inkstamp renew")
    return good("dates", name, said)


def _order(name: str, chain: tuple[x509.Certificate, ...], again: str) -> list[Finding]:
    """Compare what is served after the leaf with what should be."""
    wanted = arrange(chain[0], chain[1:])
    extra = [each for each in chain[1:] if each not in wanted]
    found: list[Finding] = []
    for each in extra:
        if is_self_signed(each):
            found.append(note("chain", name, f"the root “{short_name(each.subject)}” is served too, which is needless"))
        else:
            found.append(warn("chain", name, f"“{short_name(each.subject)}” is served and does not belong here", again))
    if [each for each in chain[1:] if each in wanted] != list(wanted):
        found.append(warn("chain", name, "the intermediates are served in the wrong order", again))
    return found
