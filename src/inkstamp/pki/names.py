"""DNS names as certificates know them (RFC 5280 section 4.2.1.6, RFC 5890, RFC 9525)."""

import re
from collections.abc import Iterable, Set

from inkstamp.errors import NameTrouble

_LABEL = re.compile(r"[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?")
_ADVICE = "write it as in a browser's address bar, without scheme, port or path"


def normalise(text: str) -> str:
    """Return a DNS name in lower-case A-labels, without a dot at the end.

    Takes Unicode (IDNA 2008, UTS 46 mapping) or A-labels, and `*.` in front for a wildcard.

    Raises:
        NameTrouble: It is not a name that a certificate can hold.

    """
    name = text.strip().removesuffix(".").lower()
    wildcard = name.startswith("*.")
    bare = name.removeprefix("*.")
    if not bare.isascii():
        bare = _to_a_labels(text, bare)
    if "*" in bare:
        raise NameTrouble(
            f"“{text}” has a wildcard in the wrong place",
            advice="only the whole first label may be a star: *.saltmarsh.test",
        )
    if not bare or len(bare) > 253:
        raise NameTrouble(f"“{text}” is not a domain name: it has {len(bare)} characters", advice=_ADVICE)
    for label in bare.split("."):
        if not _LABEL.fullmatch(label):
            raise NameTrouble(f"“{text}” is not a domain name: the part “{label}” is not allowed", advice=_ADVICE)
    if bare.rpartition(".")[2].isdigit():
        raise NameTrouble(
            f"“{text}” is an address, not a domain name",
            advice="give the name that people type",
        )
    return f"*.{bare}" if wildcard else bare


def as_address(text: str) -> str:
    """Return an IP address in its shortest form; empty when `text` is none."""
    if ":" not in text and not text[-1:].isdigit():
        return ""  # what nearly all names are, told apart without loading anything
    import ipaddress  # noqa: PLC0415  takes time to load and few commands need it

    try:
        return str(ipaddress.ip_address(text.strip().strip("[]")))
    except ValueError:
        return ""


def _to_a_labels(text: str, bare: str) -> str:
    import idna  # noqa: PLC0415  its tables take time to load and few names need them

    try:
        return idna.encode(bare, uts46=True).decode("ascii")
    except idna.IDNAError as error:
        raise NameTrouble(f"“{text}” is not a domain name", said=str(error), advice=_ADVICE) from error


def readable(name: str) -> str:
    """Return a name with its Unicode form behind it, where it has one that differs."""
    if "xn--" not in name:
        return name
    import idna  # noqa: PLC0415  its tables take time to load and few names need them

    try:
        return f"{name} ({idna.decode(name.removeprefix('*.'))})"
    except idna.IDNAError:
        return name


def identifiers(names: Iterable[str]) -> tuple[str, ...]:
    """Normalise each name and IP address (RFC 8738), keep the order, drop what comes twice."""
    return tuple(dict.fromkeys(as_address(name) or normalise(name) for name in names))


def covers(pattern: str, name: str) -> bool:
    """Tell whether a certificate's dNSName `pattern` matches `name` (RFC 9525 section 6.3).

    A wildcard stands for exactly one whole first label. Both are normalised names; `name` may itself be a
    wildcard that was asked for, which only the same wildcard covers.
    """
    if pattern == name:
        return True
    if not pattern.startswith("*.") or name.startswith("*."):
        return False
    first, dot, rest = name.partition(".")
    return bool(first and dot) and rest == pattern[2:]


def uncovered(patterns: Iterable[str], names: Iterable[str]) -> tuple[str, ...]:
    """Return those of `names` that none of `patterns` covers, in their order."""
    known = frozenset(patterns)
    return tuple(name for name in names if not is_covered(name, known))


def is_covered(name: str, patterns: Set[str]) -> bool:
    """Tell whether any of a certificate's dNSNames covers `name`, as `covers` has it, however many there are."""
    return name in patterns or is_covered_by_wildcard(name, patterns)


def is_covered_by_wildcard(name: str, patterns: Set[str]) -> bool:
    """Tell whether a wildcard among the patterns covers `name`, which is none itself."""
    first, dot, rest = name.partition(".")
    return bool(first and dot) and first != "*" and f"*.{rest}" in patterns
