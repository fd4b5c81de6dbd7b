"""What a site's files say: its certificate, key and chain, and what is wrong with them."""

import shlex
from collections.abc import Container, Mapping, Set
from datetime import datetime
from functools import lru_cache
from pathlib import Path, PurePath

from cryptography import x509
from msgspec import Struct
from msgspec.structs import replace

from inkstamp.clock import whole_days
from inkstamp.errors import EditionUnfit
from inkstamp.findings import Finding, bad, warn
from inkstamp.pki.armour import blocks
from inkstamp.pki.certificates import LABELS, Facts, facts, from_der, read_pem, short_name
from inkstamp.pki.chain import is_self_signed
from inkstamp.pki.keys import is_key_of
from inkstamp.pki.names import uncovered
from inkstamp.policy.renewal_time import renewal_moment
from inkstamp.reach.interface import FoundFile
from inkstamp.servers.common import plain_names
from inkstamp.servers.interface import Site
from inkstamp.wording import counted, header_of

_KEY = b"PRIVATE KEY-----"
_BY_ALL, _BY_GROUP_WRITTEN = 0o004, 0o020


class SiteReport(Struct, frozen=True, kw_only=True):
    """A site, the certificate in its file, and what is wrong."""

    site: Site
    certificate: Facts | None
    days_left: int | None
    """Whole days; negative when expired."""
    issuers: int
    """How many intermediates its files hold."""
    whole_chain: bool | None
    """Whether they lead, by their names, to a root that the public trusts; None when there is no certificate."""
    key_rights: str
    """Mode, owner and group (by number) of the key's file; empty when it is not seen."""
    key_matches: bool | None
    """Whether the key is the certificate's; None when it cannot be read here."""
    findings: tuple[Finding, ...]
    plain_half: bool = False
    """Whether it is the plain HTTP of a site with TLS: the same server answers all of its names with TLS too."""


def report(
    site: Site,
    files: Mapping[str, FoundFile],
    trusted: frozenset[bytes],
    now: datetime,
    *,
    with_tls: Set[str] = frozenset(),
) -> SiteReport:
    """Judge what a site's files say.

    Args:
        site: As its configuration says.
        files: What was found of the files that the site names.
        trusted: Names (DER) of the roots that the public trusts.
        now: Aware.
        with_tls: Names that some site of the same server answers with TLS.

    """
    subject = site.names[0] if site.names else f"{site.file}:{site.line}"
    plain = plain_names(site)
    again = (
        f"inkstamp stamp {shlex.join(plain)}" if plain else "give the site a name, then order a certificate for that"
    )
    if not site.tls:
        lacking = [each for each in plain if each not in with_tls]
        found = without_certificate(site, (warn("tls", subject, "has no TLS", again),) if lacking else ())
        return replace(found, plain_half=bool(plain) and not lacking)
    if not site.certificate_file:
        seen = "listens with TLS without a readable certificate file"
        return without_certificate(site, (bad("certificate", subject, seen),))
    try:
        chain = _chain(files, site)
    except EditionUnfit as error:
        return without_certificate(site, (bad("certificate", subject, error.what, error.advice),))
    leaf, issuers = chain[0], chain[1:]
    known = facts(leaf)
    whole = _leads_to(trusted, leaf, issuers)
    key = files.get(site.key_file)
    rights = str(key.rights) if key is not None else ""
    matches = is_key_of(leaf, key.data) if key is not None and key.data is not None and _KEY in key.data else None
    findings = [*_dates(known, now, subject, again), *_names(known, plain, subject, again)]
    if leaf.subject == leaf.issuer and is_self_signed(leaf):
        findings.append(warn("trust", subject, "the certificate is self-signed: browsers refuse it", again))
    elif not whole:
        last = short_name((issuers or chain)[-1].issuer)
        seen = f"incomplete chain: “{last}” is neither in the file nor a trusted root"
        findings.append(bad("chain", subject, seen, again))
    findings += _key(site, key, matches, subject)
    return SiteReport(site=site, certificate=known, days_left=whole_days(known.not_after, now), issuers=len(issuers),
                      whole_chain=whole, key_rights=rights, key_matches=matches, findings=tuple(findings))  # fmt: skip


def unrenewed(
    found: SiteReport, shelf: Path, renewed: Container[str], now: datetime, other_names: Mapping[str, str]
) -> Finding | None:
    """Find whether a site is served an edition of ours that nobody renews any more.

    Args:
        found: The site.
        shelf: The folder of all editions.
        renewed: The certificates that are configured.
        now: Aware.
        other_names: Folders whose editions are of a certificate that has another name now.

    """
    site, known = found.site, found.certificate
    if shelf.name not in site.certificate_file:  # what nearly all sites have: no path is taken apart for it
        return None
    file = PurePath(site.certificate_file)
    below = file.relative_to(shelf).parts if file.is_relative_to(shelf) else ()
    if not below or below[0] in renewed or other_names.get(below[0]) in renewed:
        return None
    name = below[0]
    pressing = known is not None and now >= renewal_moment(known.not_before, known.not_after)
    subject, plain = (site.names or (f"{site.file}:{site.line}",))[0], plain_names(site)
    seen = f"uses an edition of “{name}”, which is not in the configuration: nobody renews it"
    again = f"inkstamp stamp {shlex.join(plain)}" if plain else f"add {header_of('certificate', name)} again"
    return (bad if pressing else warn)("renewal", subject, seen, again)


def without_certificate(site: Site, findings: tuple[Finding, ...]) -> SiteReport:
    """Report a site of whose certificate nothing is known."""
    return SiteReport(site=site, certificate=None, days_left=None, issuers=0, whole_chain=None, key_rights="",
                      key_matches=None, findings=findings)  # fmt: skip


def _chain(files: Mapping[str, FoundFile], site: Site) -> tuple[x509.Certificate, ...]:
    """Return the leaf and what stands beside it; EditionUnfit when there is no leaf to be read."""
    found = files.get(site.certificate_file)
    if found is None or found.data is None:
        what = "is not there" if found is None else "cannot be read by this user"
        raise EditionUnfit(f"{site.certificate_file} {what}", where=site.certificate_file)
    mine = [block.der for block in blocks(found.data) if block.label in LABELS]
    apart = files.get(site.chain_file)
    if apart is not None and apart.data is not None:
        mine += [block.der for block in blocks(apart.data) if block.label in LABELS]
    try:
        return (from_der(mine[0]), *map(_issuer, mine[1:]))
    except (ValueError, IndexError):
        return tuple(read_pem(found.data, site.certificate_file))  # says what is wrong with it


@lru_cache(maxsize=256)
def _issuer(der: bytes) -> x509.Certificate:
    """Read an intermediate; a server's sites have few different ones."""
    return from_der(der)


def _leads_to(trusted: frozenset[bytes], leaf: x509.Certificate, issuers: tuple[x509.Certificate, ...]) -> bool:
    """Follow the issuers' names; the signatures are looked at by `check`."""
    by_name = {each.subject.public_bytes(): each for each in issuers}
    at = leaf
    for _ in range(len(issuers) + 1):
        wanted = at.issuer.public_bytes()
        if wanted in trusted:
            return True
        above = by_name.get(wanted)
        if above is None or above is at:
            return False
        at = above
    return False


def _dates(known: Facts, now: datetime, subject: str, again: str) -> list[Finding]:
    days = whole_days(known.not_after, now)
    if now > known.not_after:
        return [bad("dates", subject, f"expired {-days} days ago", again)]
    if now >= renewal_moment(known.not_before, known.not_after):
        return [warn("dates", subject, f"expires in {counted(days, 'day')}", again)]
    return []


def _names(known: Facts, plain: tuple[str, ...], subject: str, again: str) -> list[Finding]:
    missing = uncovered(known.names, plain)
    return (
        [bad("names", subject, f"hostname mismatch: the certificate does not cover {', '.join(missing)}", again)]
        if missing
        else []
    )


def _key(site: Site, key: FoundFile | None, matches: bool | None, subject: str) -> list[Finding]:
    if not site.key_file:
        return []
    if key is None:
        return [bad("key", subject, f"its key file {site.key_file} is not there")]
    found = []
    if key.rights.mode & (_BY_ALL | _BY_GROUP_WRITTEN):
        whom = "everybody may read" if key.rights.mode & _BY_ALL else "its group may write"
        remedy = f"chmod 0600 {site.key_file}, and replace the certificate if others had access"
        found.append(bad("key", subject, f"{whom} its key {site.key_file} ({key.rights.mode:04o})", remedy))
    if matches is False:
        seen = f"the key {site.key_file} does not match the certificate {site.certificate_file}"
        found.append(bad("key", subject, seen, "restore the right key, or get a new certificate"))
    return found
