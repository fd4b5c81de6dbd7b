"""From a leaf up to a root: which certificates issued which, and whether a client will believe it.

RFC 5280 section 6 as far as web servers' chains need it: signatures, names, validity, basic constraints and key
usage of the issuers.
"""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime

from cryptography import x509
from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
from cryptography.hazmat.primitives import serialization

from inkstamp.clock import stamp
from inkstamp.findings import Finding, bad, good
from inkstamp.pki.certificates import dns_names, short_name
from inkstamp.pki.names import uncovered

_LONGEST = 10
"""No public chain is near this deep; it bounds the search among hostile certificates."""
_MOST_VISITS = 1000
"""Bound on signatures checked while looking for paths, cross-signed loops included."""


@dataclass(frozen=True, slots=True)
class Path:
    """Certificates from leaf to root, each issued by the next; the last is a trusted root."""

    certificates: tuple[x509.Certificate, ...]

    @property
    def root(self) -> x509.Certificate:
        """The trusted root that the path ends in."""
        return self.certificates[-1]


def may_issue(certificate: x509.Certificate) -> bool:
    """Tell whether a certificate may sign others (RFC 5280 sections 4.2.1.3 and 4.2.1.9)."""
    try:
        extensions = certificate.extensions
        if not extensions.get_extension_for_class(x509.BasicConstraints).value.ca:
            return False
        return extensions.get_extension_for_class(x509.KeyUsage).value.key_cert_sign
    except x509.ExtensionNotFound as missing:
        # Without a key usage extension every use is allowed; without basic constraints none of a CA.
        return missing.oid == x509.KeyUsage.oid
    except ValueError:
        return False


def issued_by(certificate: x509.Certificate, issuer: x509.Certificate) -> bool:
    """Tell whether `issuer`'s name and key really stand behind `certificate`."""
    if certificate.issuer != issuer.subject:
        return False
    try:
        certificate.verify_directly_issued_by(issuer)
    except (ValueError, TypeError, InvalidSignature, UnsupportedAlgorithm):
        return False
    return True


def is_self_signed(certificate: x509.Certificate) -> bool:
    """Tell whether a certificate is its own issuer, as a root is."""
    return certificate.subject == certificate.issuer and issued_by(certificate, certificate)


def in_validity(certificate: x509.Certificate, moment: datetime) -> bool:
    """Tell whether `moment` (aware) lies in the certificate's validity."""
    return certificate.not_valid_before_utc <= moment <= certificate.not_valid_after_utc


def find_paths(
    leaf: x509.Certificate,
    pool: Iterable[x509.Certificate],
    roots: Iterable[x509.Certificate],
    moment: datetime,
) -> list[Path]:
    """Find all paths from `leaf` through certificates of `pool` to one of `roots` that hold at `moment`.

    Shortest first. A root is trusted for its name and key, so it need not be in `pool`, and a certificate
    that is itself among `roots` ends a path.
    """
    by_subject: dict[bytes, list[tuple[x509.Certificate, bool]]] = {}
    for trusted, certificates in ((True, roots), (False, pool)):
        for certificate in certificates:
            by_subject.setdefault(certificate.subject.public_bytes(), []).append((certificate, trusted))
    found: list[Path] = []
    visits = 0
    waiting: list[tuple[x509.Certificate, ...]] = [(leaf,)]
    while waiting and visits < _MOST_VISITS:
        so_far = waiting.pop(0)
        for issuer, trusted in by_subject.get(so_far[-1].issuer.public_bytes(), ()):
            visits += 1
            if issuer in so_far or not in_validity(issuer, moment) or not may_issue(issuer):
                continue
            if not issued_by(so_far[-1], issuer):
                continue
            if trusted:
                found.append(Path((*so_far, issuer)))
            elif len(so_far) < _LONGEST:
                waiting.append((*so_far, issuer))
    return found


def arrange(leaf: x509.Certificate, pool: Sequence[x509.Certificate]) -> tuple[x509.Certificate, ...]:
    """Return the issuers to serve after `leaf`, in order, without the root and without strangers."""
    issuers: list[x509.Certificate] = []
    current = leaf
    while len(issuers) < _LONGEST:
        above = next((c for c in pool if c != current and c not in issuers and issued_by(current, c)), None)
        if above is None or is_self_signed(above):
            break
        issuers.append(above)
        current = above
    return tuple(issuers)


def same_key(certificate: x509.Certificate, public_key: object) -> bool:
    """Tell whether `public_key` is the one in `certificate`."""
    spki = (serialization.Encoding.DER, serialization.PublicFormat.SubjectPublicKeyInfo)
    theirs = getattr(public_key, "public_bytes", None)
    return theirs is not None and certificate.public_key().public_bytes(*spki) == theirs(*spki)


def judge_edition(
    leaf: x509.Certificate,
    pool: Sequence[x509.Certificate],
    *,
    public_key: object,
    names: Sequence[str],
    roots: Sequence[x509.Certificate],
    moment: datetime,
) -> list[Finding]:
    """Judge whether what a CA issued may go to a server: key, names, dates, chain to a root.

    Returns one finding for each of the four, `good` or `bad`; nothing is raised for a poor certificate.
    """
    subject = short_name(leaf.subject) if not dns_names(leaf) else dns_names(leaf)[0]
    findings = []
    if same_key(leaf, public_key):
        findings.append(good("key", subject, "the certificate belongs to our key"))
    else:
        findings.append(bad("key", subject, "the certificate belongs to another key than the request's"))
    missing = uncovered(dns_names(leaf), names)
    if missing:
        findings.append(bad("names", subject, f"the certificate lacks {', '.join(missing)}"))
    else:
        findings.append(good("names", subject, f"all {len(names)} names are covered"))
    until = stamp(leaf.not_valid_after_utc)
    if in_validity(leaf, moment):
        findings.append(good("dates", subject, f"valid until {until}"))
    else:
        span = f"valid from {stamp(leaf.not_valid_before_utc)} to {until}"
        findings.append(
            bad(
                "dates",
                subject,
                f"{span}, and now it is {stamp(moment)}",
                "check this machine's clock before anything else",
            )
        )
    paths = find_paths(leaf, pool, roots, moment)
    if paths:
        findings.append(good("chain", subject, f"leads to the root “{short_name(paths[0].root.subject)}”"))
    else:
        top = (leaf, *arrange(leaf, pool))[-1]
        findings.append(
            bad(
                "chain",
                subject,
                f"ends at “{short_name(top.issuer)}”, which is not among the trusted roots",
                "if this CA is private, name its root with `roots` under [view]",
            )
        )
    return findings
