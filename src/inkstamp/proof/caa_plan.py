"""Which CAA records would let just the configured CAs issue for a name (RFC 8659, RFC 8657): pure."""

import re
from collections.abc import Iterable, Sequence

from msgspec import Struct

from inkstamp.proof.issue_value import issuer_of
from inkstamp.view.lookups import CaaRecord, CaaSet

_NOBODY = ";"
"""The value that lets no CA issue (RFC 8659 section 4.2)."""
_LIMITING = {"issue", "issuewild"}
_DOMAIN = re.compile(r"[A-Za-z0-9-]+(\.[A-Za-z0-9-]+)*")


class CaaIssuer(Struct, frozen=True, kw_only=True):
    """A CA that is to be allowed for a name."""

    names: tuple[str, ...]
    """That it goes by in CAA; the first one is written."""
    account: str = ""
    """URL of the account that it is limited to (RFC 8657 section 3); empty for any."""
    methods: tuple[str, ...] = ()
    """The validation methods that it is limited to for the name itself (RFC 8657 section 4); none for any."""
    wild_methods: tuple[str, ...] = ()
    """The same for the wildcard."""


class CaaPlan(Struct, frozen=True, kw_only=True):
    """The records of one name: what is there, and what would be right."""

    name: str
    found: CaaSet
    """What counts for it now, perhaps of a domain above it."""
    wanted: tuple[CaaRecord, ...]

    @property
    def present(self) -> tuple[CaaRecord, ...]:
        """What is there at the very name."""
        return self.found.records if self.found.domain == self.name else ()

    @property
    def added(self) -> tuple[CaaRecord, ...]:
        """What is missing."""
        return tuple(each for each in self.wanted if each not in self.present)

    @property
    def removed(self) -> tuple[CaaRecord, ...]:
        """What is there and would let others issue, or us in other ways."""
        return tuple(each for each in self.present if each not in self.wanted)


def plan_caa(name: str, found: CaaSet, issuers: Sequence[CaaIssuer], *, plain: bool, wildcard: bool) -> CaaPlan:
    """Work out the records of a name.

    Properties that limit nobody (`iodef`, contacts, whatever is not known) and the records of other CAs stay; where
    they are those of a domain above, they are said again: a name's own records count alone (RFC 8659 section 3).

    Args:
        name: A domain name, no wildcard.
        found: What counts for it now.
        issuers: The CAs that are to be allowed.
        plain: Whether the name itself has a certificate of theirs.
        wildcard: Whether the wildcard of it has one.

    """
    ours = {each.lower() for issuer in issuers for each in issuer.names}
    kept = [each for each in found.records if each.tag not in _LIMITING or not _is_about(each, ours)]
    others_wild = any(each.tag == "issuewild" for each in kept)
    made: list[CaaRecord] = []
    for issuer in issuers:
        if plain or not any(each.tag == "issue" for each in kept):
            made.append(CaaRecord(False, "issue", _value(issuer, issuer.methods)))
        if wildcard:
            made.append(CaaRecord(False, "issuewild", _value(issuer, issuer.wild_methods)))
    if not wildcard and not others_wild:
        made.append(CaaRecord(False, "issuewild", _NOBODY))
    elif wildcard:
        kept = [each for each in kept if (each.tag, each.value.strip()) != ("issuewild", _NOBODY)]
    return CaaPlan(name=name, found=found, wanted=tuple(dict.fromkeys([*kept, *made])))


def _is_about(record: CaaRecord, names: Iterable[str]) -> bool:
    return issuer_of(record.value) in names


def _value(issuer: CaaIssuer, methods: Sequence[str]) -> str:
    parameters = [f"accounturi={issuer.account}"] if issuer.account else []
    parameters += [f"validationmethods={','.join(methods)}"] if methods else []
    return "; ".join([issuer.names[0], *parameters])


def is_writable(issuer: CaaIssuer) -> bool:
    """Tell whether what a CA and its directory call themselves can stand in a record (RFC 8659 section 4.2)."""
    plain = all(char.isascii() and char.isprintable() and char not in '";\\ ' for char in issuer.account)
    return plain and all(_DOMAIN.fullmatch(each) for each in issuer.names[:1]) and bool(issuer.names)


def in_zone_form(record: CaaRecord) -> str:
    """Write a record's data as zone files have it (RFC 8659 section 4.1.1)."""
    escaped = record.value.replace("\\", "\\\\").replace('"', '\\"')
    return f'{128 if record.critical else 0} {record.tag} "{escaped}"'
