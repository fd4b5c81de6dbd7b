"""Look at live names from outside: what each address serves, and whether the public will believe it."""

from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from enum import StrEnum
from pathlib import Path
from typing import TYPE_CHECKING

from cryptography import x509
from cryptography.hazmat.primitives import hashes

from inkstamp.clock import stamp, whole_days
from inkstamp.errors import UsageError
from inkstamp.findings import Finding, Severity, bad, good, note, warn, worst, worst_first
from inkstamp.pki.certificates import Facts, facts, short_name, subject_names
from inkstamp.pki.chain import arrange, find_paths, is_self_signed
from inkstamp.pki.names import as_address, normalise, uncovered
from inkstamp.renewal.when import renewal_moment
from inkstamp.view.addresses import address_book
from inkstamp.view.handshake import Served, shake_hands
from inkstamp.view.point import load_roots
from inkstamp.view.upgrade import UPGRADES, Upgrade

if TYPE_CHECKING:
    from datetime import datetime

    from inkstamp.jobs.workplace import Workplace
    from inkstamp.ledger.records import EditionRecord


_TOLD_WHOLE = 3
"""Of more names than this, each is told as it is done."""


class Verdict(StrEnum):
    """What it comes to."""

    SOUND = "sound"
    WARNINGS = "works, with warnings"
    BROKEN = "broken"


@dataclass(frozen=True, slots=True, kw_only=True)
class Target:
    """What is to be looked at."""

    name: str
    port: int
    upgrade: Upgrade = ""
    """In which protocol TLS is asked for; empty for HTTPS."""

    def __str__(self) -> str:
        """Return it as it is typed."""
        return f"{self.upgrade}://{self.name}:{self.port}" if self.upgrade else self.name


@dataclass(frozen=True, slots=True, kw_only=True)
class NameReport:
    """What one live name serves."""

    name: str
    """As it is typed: a name, or a URL of a mail server."""
    chain: tuple[Facts, ...]
    """As served by the first address that answered, leaf first."""
    root: str
    """The trusted root that it leads to; empty when there is none."""
    days_left: int | None
    findings: tuple[Finding, ...]

    @property
    def verdict(self) -> Verdict:
        """What the findings come to."""
        severity = worst(self.findings)
        return {Severity.BAD: Verdict.BROKEN, Severity.WARN: Verdict.WARNINGS}.get(severity, Verdict.SOUND)

    @property
    def worst(self) -> Finding | None:
        """The gravest finding, None where all is well."""
        first = worst_first(self.findings)[:1]
        return first[0] if first and first[0].severity is not Severity.GOOD else None


def check(
    workplace: "Workplace", targets: tuple[str, ...], roots_file: Path | None, *, at_once: int = 16, quick: bool = False
) -> list[NameReport]:
    """Look at each target, several at the same time; the most urgent first.

    Args:
        workplace: The run's surroundings.
        targets: Each a domain name, a configured certificate for all of its names, or `smtp://host:port` (imap, pop3);
            none for all that are configured.
        roots_file: Other roots than the view's.
        at_once: How many are looked at in the same moment.
        quick: Whether to take the first handshake alone.

    Raises:
        NameTrouble: A target is neither.
        ConfigurationError: The roots cannot be read.

    """
    configured = workplace.config_or_empty().certificate
    names: list[Target] = []
    editions: dict[str, EditionRecord] = {}
    for target in targets or tuple(configured):
        if target not in configured:
            names.append(as_target(target, workplace.view.https_port))
            continue
        plain = [each for each in configured[target].names if not each.startswith("*.")]
        names += [Target(name=each, port=workplace.view.https_port) for each in plain]
        newest = workplace.ledger.newest_edition(target) if workplace.has_ledger() else None
        if newest is not None:
            editions |= dict.fromkeys(configured[target].names, newest)
    roots = load_roots(roots_file) if roots_file else workplace.roots
    wanted = list(dict.fromkeys(names))

    def look_at(target: Target) -> NameReport:
        report = look(workplace, target.name, roots, target=target, deep=not quick)
        if len(wanted) > _TOLD_WHOLE:
            workplace.progress.step(str(target), report.verdict.value)
        return _compared(workplace, report, editions.get(report.name))

    with ThreadPoolExecutor(max_workers=max(min(at_once, len(wanted)), 1)) as pool:
        reports = list(pool.map(look_at, wanted))
    rank = [Verdict.BROKEN, Verdict.WARNINGS, Verdict.SOUND]
    far = 1 << 30
    return sorted(reports, key=lambda r: (rank.index(r.verdict), far if r.days_left is None else r.days_left, r.name))


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


_MAIL_PORTS: dict[str, int] = {"smtp": 25, "imap": 143, "pop3": 110}


def as_target(target: str, port: int) -> Target:
    """Read what was typed; UsageError or NameTrouble for what is neither a name nor a mail server's URL."""
    scheme, _, rest = target.rpartition("://")
    if scheme and scheme not in {*_MAIL_PORTS, "https"}:
        raise UsageError(f"“{target}” is of a kind that is not looked at", advice="known: smtp, imap, pop3, https")
    host, _, number = rest.partition("/")[0].rpartition(":")
    if not host or not number.isdigit():
        host, number = rest.partition("/")[0], str(_MAIL_PORTS.get(scheme, port))
    return Target(name=_as_name(host.strip("[]")), port=int(number), upgrade=UPGRADES.get(scheme, ""))


def _as_name(target: str) -> str:
    if "." not in target and ":" not in target:
        raise UsageError(
            f"“{target}” is neither a configured certificate nor a domain name",
            advice="see `inkstamp status` for the certificates there are",
        )
    return as_address(target) or normalise(target)


def look(
    workplace: "Workplace",
    name: str,
    roots: list[x509.Certificate],
    *,
    target: Target | None = None,
    deep: bool = False,
) -> NameReport:
    """Look at one name: chain, dates and trust, and with `deep` at all else that `check` looks at."""
    now = workplace.clock.now()
    target = target or Target(name=name, port=workplace.view.https_port)
    told = str(target)
    addresses = address_book(workplace.view).look_up(name)
    if not addresses.all:
        finding = bad("address", name, addresses.trouble, f"make an A or AAAA record for {name}")
        return NameReport(name=told, chain=(), root="", days_left=None, findings=(finding,))
    served = [shake_hands(address, target.port, name, upgrade=target.upgrade) for address in addresses.all]
    findings = [_connected(each) for each in served]
    answered = [each for each in served if each.chain]
    if not answered:
        if deep:
            from inkstamp.jobs.check_depth import explain_failure

            findings += [more for each in served for more in explain_failure(name, each, target.upgrade)]
        return NameReport(name=told, chain=(), root="", days_left=None, findings=tuple(findings))
    findings += _agreement(name, answered)
    root = ""
    for chain in dict.fromkeys(each.chain for each in answered):
        more, root = judge_chain(name, chain, roots, now)
        findings += [finding for finding in more if finding not in findings]
    first = answered[0].chain
    if deep:
        from inkstamp.jobs.check_depth import look_deeper

        above = arrange(first[0], first[1:])
        findings += look_deeper(workplace, name, answered, above[0] if above else None,
                                upgrade=target.upgrade, again=f"inkstamp stamp {name}")  # fmt: skip
    return NameReport(
        name=told,
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
