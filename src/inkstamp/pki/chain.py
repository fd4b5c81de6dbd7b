"""From a leaf up to a root: which certificates issued which, and whether a client will believe it.

RFC 5280 section 6 as far as web servers' chains need it: signatures, names, validity, basic constraints, key usage,
extended key usage and name constraints of the issuers.
"""

from collections import deque
from collections.abc import Iterable, Sequence
from datetime import datetime
from functools import lru_cache

from cryptography import x509
from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives import hashes, serialization
from msgspec import Struct

from inkstamp.clock import stamp
from inkstamp.findings import Finding, bad, ok
from inkstamp.pki.armour import MALFORMED, strangers_bytes
from inkstamp.pki.certificates import public_key_of, short_name, subject_names
from inkstamp.pki.constraints import may_issue, why_forbidden
from inkstamp.pki.keys import spki_digest
from inkstamp.pki.names import uncovered

_LONGEST = 10
"""No public chain is near this deep; it bounds the search among hostile certificates."""
_MOST_VISITS = 1000
"""Bound on issuers looked at for the paths of one leaf, cross-signed loops included."""
_MOST_NAMESAKES = 50
"""Of more certificates than this that have the wanted issuer's name, those are tried that key identifiers point at."""


class Path(Struct, frozen=True):
    """Certificates from leaf to root, each issued by the next; the last is a trusted root."""

    certificates: tuple[x509.Certificate, ...]

    @property
    def root(self) -> x509.Certificate:
        """The trusted root that the path ends in."""
        return self.certificates[-1]

    @property
    def issuers(self) -> tuple[x509.Certificate, ...]:
        """What a server has to send after the leaf: neither the leaf nor the root."""
        return self.certificates[1:-1]

    @property
    def ends(self) -> datetime:
        """When the first of its certificates expires; aware, UTC."""
        return min(each.not_valid_after_utc for each in self.certificates)


@lru_cache(maxsize=1024)  # the signatures of intermediates are met again and again
def issued_by(certificate: x509.Certificate, issuer: x509.Certificate) -> bool:
    """Tell whether `issuer`'s name and key really stand behind `certificate`."""
    if certificate.issuer != issuer.subject:
        return False
    try:
        with strangers_bytes():
            certificate.verify_directly_issued_by(issuer)
    except (InvalidSignature, ValueError):
        return False
    return True


def is_self_signed(certificate: x509.Certificate) -> bool:
    """Tell whether a certificate is its own issuer, as a root is."""
    return certificate.subject == certificate.issuer and issued_by(certificate, certificate)


def in_validity(certificate: x509.Certificate, moment: datetime) -> bool:
    """Tell whether `moment` (aware) lies in the certificate's validity."""
    return certificate.not_valid_before_utc <= moment <= certificate.not_valid_after_utc


class Roots:
    """Trusted roots, found by their subject; made once, to look for the paths of many leaves."""

    def __init__(self, certificates: Iterable[x509.Certificate]) -> None:
        self.certificates = tuple(dict.fromkeys(certificates))
        self.by_subject = _by_subject(self.certificates)
        self._known = frozenset(self.certificates)

    def __contains__(self, certificate: x509.Certificate) -> bool:
        """Tell whether it is one of them."""
        return certificate in self._known


def _by_subject(certificates: Iterable[x509.Certificate]) -> dict[bytes, list[x509.Certificate]]:
    found: dict[bytes, list[x509.Certificate]] = {}
    for each in certificates:
        found.setdefault(each.subject.public_bytes(), []).append(each)
    return found


class Pool:
    """Certificates found by their subject, each once: looking for issuers does not mean looking at all of them."""

    def __init__(
        self, certificates: Iterable[x509.Certificate], trusted: Iterable[x509.Certificate] | Roots = ()
    ) -> None:
        self._trusted = trusted if isinstance(trusted, Roots) else Roots(trusted)
        self._issuers: dict[x509.Certificate, tuple[x509.Certificate, ...]] = {}
        self.certificates = tuple(dict.fromkeys(certificates))
        self._by_subject = _by_subject(each for each in self.certificates if each not in self._trusted)

    def is_trusted(self, certificate: x509.Certificate) -> bool:
        """Tell whether it is one of the roots."""
        return certificate in self._trusted

    def issuers(self, certificate: x509.Certificate) -> tuple[x509.Certificate, ...]:
        """Return those that really issued `certificate`, itself left out.

        Self-signed ones come first, then those that hold longest: the order in which certificates came in must not
        decide what is served.
        """
        known = self._issuers.get(certificate)
        if known is None:
            wanted = certificate.issuer.public_bytes()
            named = [*self._trusted.by_subject.get(wanted, ()), *self._by_subject.get(wanted, ())]
            if len(named) > _MOST_NAMESAKES:
                named = sorted(named, key=lambda each: not _is_pointed_at(certificate, each))[:_MOST_NAMESAKES]
            known = tuple(
                sorted(
                    (each for each in named if each != certificate and issued_by(certificate, each)),
                    key=lambda each: (
                        each.subject != each.issuer,
                        -each.not_valid_after_utc.timestamp(),
                        each.public_bytes(serialization.Encoding.DER),
                    ),
                )
            )
            self._issuers[certificate] = known
        return known


def _is_pointed_at(certificate: x509.Certificate, issuer: x509.Certificate) -> bool:
    """Tell whether the key identifiers say that `issuer` is the one (RFC 5280 sections 4.2.1.1 and 4.2.1.2)."""
    try:
        wanted = certificate.extensions.get_extension_for_class(x509.AuthorityKeyIdentifier).value.key_identifier
        there = issuer.extensions.get_extension_for_class(x509.SubjectKeyIdentifier).value.digest
    except (x509.ExtensionNotFound, *MALFORMED):
        return False
    return wanted == there


def find_paths(
    leaf: x509.Certificate,
    pool: Iterable[x509.Certificate] | Pool,
    roots: Iterable[x509.Certificate] | Roots,
    moment: datetime,
) -> list[Path]:
    """Find all paths from `leaf` through certificates of `pool` to one of `roots` that hold at `moment`.

    Shortest first, and of the same length the one that holds longest. A root is trusted for its name and key, so
    it need not be in `pool`, and a certificate that is itself among `roots` ends a path.

    Args:
        leaf: Where the paths begin.
        pool: The intermediates; a Pool made with `roots` as trusted, to look for many leaves in the same one.
        roots: The trusted roots; not looked at when `pool` is a Pool.
        moment: When they must hold; aware.

    """
    known = pool if isinstance(pool, Pool) else Pool(pool, roots)
    found: list[Path] = []
    visits = 0
    waiting: deque[tuple[x509.Certificate, ...]] = deque([(leaf,)])
    while waiting and visits < _MOST_VISITS:
        so_far = waiting.popleft()
        for issuer in known.issuers(so_far[-1]):
            visits += 1
            if issuer in so_far or not in_validity(issuer, moment) or not may_issue(issuer):
                continue
            grown = (*so_far, issuer)
            if known.is_trusted(issuer):
                if not why_forbidden(grown):
                    found.append(Path(grown))
            elif len(so_far) < _LONGEST:
                waiting.append(grown)
    return sorted(found, key=lambda path: (len(path.certificates), -path.ends.timestamp()))


def choose_path(paths: Sequence[Path], root: str) -> Path | None:
    """Choose the path to the root of that common name or SHA-256 fingerprint; the first one when there is none."""
    return next((path for path in paths if root and is_root(path.root, root)), paths[0] if paths else None)


def is_root(certificate: x509.Certificate, wanted: str) -> bool:
    """Tell whether a root is the one that the configuration names."""
    digest = wanted.replace(":", "").lower()
    return short_name(certificate.subject) == wanted or certificate.fingerprint(hashes.SHA256()).hex() == digest


def arrange(leaf: x509.Certificate, pool: Iterable[x509.Certificate] | Pool) -> tuple[x509.Certificate, ...]:
    """Return the issuers above `leaf` as far as `pool` leads, in order, without the root and without strangers.

    No root is needed for it: this is what can be said of a chain that leads to none.
    """
    known = pool if isinstance(pool, Pool) else Pool(pool)
    issuers: list[x509.Certificate] = []
    current = leaf
    while len(issuers) < _LONGEST:
        above = next((each for each in known.issuers(current) if each not in issuers), None)
        if above is None or is_self_signed(above):
            break
        issuers.append(above)
        current = above
    return tuple(issuers)


def same_key(certificate: x509.Certificate, public_key: object) -> bool:
    """Tell whether `public_key` is the one in `certificate`."""
    own = spki_digest(public_key_of(certificate))
    return bool(own) and own == spki_digest(public_key)


def judge_edition(
    leaf: x509.Certificate,
    pool: Sequence[x509.Certificate],
    *,
    public_key: object,
    names: Sequence[str],
    paths: Sequence[Path],
    moment: datetime,
) -> list[Finding]:
    """Judge whether what a CA issued may go to a server: key, names, dates, chain to a root.

    Args:
        leaf: The server's certificate.
        pool: What came with it, to say how far it leads.
        public_key: The request's.
        names: Those that were asked for, normalised.
        paths: What `find_paths` found, the chosen one first.
        moment: Now; aware.

    Returns:
        One finding for each of the four, `good` or `bad`; nothing is raised for a poor certificate.

    """
    subject = short_name(leaf.subject) if not subject_names(leaf) else subject_names(leaf)[0]
    findings = []
    if same_key(leaf, public_key):
        findings.append(ok("key", subject, "the certificate belongs to our key"))
    else:
        findings.append(bad("key", subject, "the certificate belongs to another key than the request's"))
    missing = uncovered(subject_names(leaf), names)
    if missing:
        findings.append(bad("names", subject, f"the certificate lacks {', '.join(missing)}"))
    else:
        findings.append(ok("names", subject, f"all {len(names)} names are covered"))
    until = stamp(leaf.not_valid_after_utc)
    if in_validity(leaf, moment):
        findings.append(ok("dates", subject, f"valid until {until}"))
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
    if paths:
        findings.append(ok("chain", subject, f"leads to the root “{short_name(paths[0].root.subject)}”"))
    else:
        findings.append(bad("chain", subject, *_why_no_path(leaf, pool, moment)))
    return findings


def _why_no_path(leaf: x509.Certificate, pool: Sequence[x509.Certificate], moment: datetime) -> tuple[str, str]:
    """Say where a chain that leads to no trusted root ends, and what to do about it."""
    chain = (leaf, *arrange(leaf, pool))
    for each in chain[1:]:
        if not in_validity(each, moment):
            until = stamp(each.not_valid_after_utc)
            return f"its issuer “{short_name(each.subject)}” is valid until {until} only", "ask the CA for the new one"
    forbidden = why_forbidden(chain)
    if forbidden:
        return f"its chain breaks a rule: {forbidden}", "ask the CA for the right intermediates"
    return (
        f"ends at “{short_name(chain[-1].issuer)}”, which is not among the trusted roots",
        "give the CA's intermediates too, if some are missing; if this CA is private, name the file with its root: "
        "`roots` in the authority's entry",
    )
