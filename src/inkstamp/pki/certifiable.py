"""Names as a public CA looks at them: which it cannot certify, and which were probably forgotten.

CA/Browser Forum Baseline Requirements section 4.2.2 (internal names), RFC 6761 and RFC 2606 (reserved names).
"""

import ipaddress
from collections.abc import Sequence, Set

from inkstamp.errors import NameTrouble
from inkstamp.findings import Finding, bad, note, warn
from inkstamp.pki.names import as_address, is_covered, is_covered_by_wildcard, normalise
from inkstamp.pki.suffixes import is_delegated_suffix, registrable

# RFC 6761, 6762, 8375, 9476 and ICANN's; then those that are delegated to nobody and used by many.
_RESERVED = frozenset({"test", "example", "invalid", "localhost", "local", "internal", "onion", "alt", "arpa"})
_RESERVED |= frozenset({"corp", "home", "mail", "lan", "intranet", "private", "localdomain"})
_SECOND_LEVEL = frozenset({"ac", "co", "com", "edu", "gov", "ltd", "me", "net", "or", "org", "plc", "sch"})
"""Labels below a country's that are no one's own name (`co.uk`)."""

_MOST_TOLD = 5


def why_not_public(name: str) -> str:
    """Say why no public CA may certify a normalised DNS name; empty when one may."""
    bare = name.removeprefix("*.")
    labels = bare.split(".")
    if labels[-1] == "onion" and len(labels) > 1 and len(labels[-2]) == 56:
        return ""  # Baseline Requirements appendix B allows onion services of version 3
    if labels[-1] in _RESERVED:
        return f"“{labels[-1]}” is a reserved or internal suffix"
    if len(labels) == 1:
        return "it is a single label, a name within some network" if bare == name else "it is a whole top-level domain"
    if not is_delegated_suffix(bare):
        return f"there is no top-level domain “{labels[-1]}”"
    if name != bare and not registrable(bare):
        return f"no one owns all names below {bare}"
    return ""


def why_address_not_public(address: str) -> str:
    """Say why no public CA may certify an IP address; empty when one may."""
    known = ipaddress.ip_address(address)
    if known.is_loopback:
        return "it is a loopback address"
    if not known.is_global or known.is_multicast:
        return "it is a private or reserved address"
    return ""


def why_not_certifiable(name: str) -> str:
    """Say why no public CA may issue for a normalised DNS name or an IP address; empty when one may."""
    return why_address_not_public(name) if as_address(name) else why_not_public(name)


def examine_names(common_name: str, names: Sequence[str], addresses: Sequence[str], *, private: bool) -> list[Finding]:
    """Find what is wrong, or probably forgotten, in a request's names.

    Args:
        common_name: Of the subject; empty for none.
        names: Normalised DNS names.
        addresses: IP addresses.
        private: Whether a private CA is meant, which may certify any name.

    """
    findings = []
    reasons = [(each, why_not_public(each)) for each in names]
    reasons += [(each, why_address_not_public(each)) for each in addresses]
    grouped: dict[str, list[str]] = {}
    for name, reason in reasons:
        if reason:
            grouped.setdefault(reason, []).append(name)
    for reason, among in grouped.items():
        subject = ", ".join(among[:_MOST_TOLD]) + (f" and {len(among) - _MOST_TOLD} more" * (len(among) > _MOST_TOLD))
        if private:
            findings.append(note("names", subject, f"only a private CA may issue for it: {reason}"))
        else:
            findings.append(
                bad("names", subject, f"no public CA may issue for it: {reason}", "leave it out, or ask a private CA")
            )
    if common_name and _as_name(common_name) not in {*names, *addresses}:
        findings.append(
            bad(
                "names",
                common_name,
                "is the common name and not among the names (SAN), which browsers look at",
                f"add {common_name} to the names",
            )
        )
    known = frozenset(names)
    for each in names:
        findings += _forgotten(each, known)
    return findings


def _as_name(common_name: str) -> str:
    """Return the name as the list of names would have it; a common name may be any text."""
    try:
        return normalise(common_name)
    except NameTrouble:
        return common_name.lower()


def _forgotten(name: str, names: Set[str]) -> list[Finding]:
    def missing(other: str) -> bool:
        return not is_covered(other, names)

    if name.startswith("*."):
        bare = name[2:]
        if "." in bare and missing(bare):
            return [warn("names", name, f"does not cover {bare} itself", f"add {bare} if it is to be served too")]
        return []
    if is_covered_by_wildcard(name, names):
        return [note("names", name, "is covered by the wildcard already; it does no harm")]
    bare = name.removeprefix("www.")
    if bare != name and missing(bare):
        return [note("names", name, f"is listed without {bare}", f"add {bare} if people may type it")]
    if bare == name and _is_registrable(name) and missing(f"www.{name}"):
        return [note("names", name, f"is listed without www.{name}", f"add www.{name} if people may type it")]
    return []


def _is_registrable(name: str) -> bool:
    """Guess whether a name is one that is bought, as against a host below one."""
    labels = name.split(".")
    if len(labels) == 3 and len(labels[2]) == 2:
        return labels[1] in _SECOND_LEVEL
    return len(labels) == 2
