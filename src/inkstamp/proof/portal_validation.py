"""What a portal wants to see: told by a person or by the portal's rule, for each name of an order."""

from collections.abc import Callable, Iterable, Mapping, Sequence
from enum import StrEnum

from msgspec import Struct

from inkstamp.config.model import Authority, Certificate
from inkstamp.config.templates import fill, wants
from inkstamp.config.words import BY_HAND
from inkstamp.errors import UsageError
from inkstamp.ledger.records import PortalProof, ProofMethod
from inkstamp.proof.web_file import plain_path


class Step(StrEnum):
    """Where an order at a portal stands."""

    REQUEST = "request"
    """The CSR is to be pasted, and what the portal then shows is to be brought back."""
    PROOF = "proof"
    """What the portal wants to see is known and not seen everywhere."""
    REVIEW = "review"
    """All is as the portal wants it; the CA looks, issues, and lets a person download."""


class PortalDemand(Struct, frozen=True, kw_only=True):
    """What a portal wants to see for one name."""

    name: str
    method: ProofMethod
    place: str
    content: str


def step_of(names: Sequence[str], proofs: Iterable[PortalProof]) -> Step:
    """Say where an order for `names` stands."""
    known = {each.name: each for each in proofs}
    if any(name not in known for name in names):
        return Step.REQUEST
    return Step.REVIEW if all(each.seen is not None for each in known.values()) else Step.PROOF


def file_for(names: Sequence[str], path: str, content: str) -> list[PortalDemand]:
    """Tell of a file that all `names` must show.

    Raises:
        UsageError: A name is a wildcard, which no file can prove (Baseline Requirements section 3.2.2.4.18), or
            the path is none.

    """
    for name in names:
        if name.startswith("*."):
            raise UsageError(
                f"a file cannot validate the wildcard {name}", advice="choose a DNS record or e-mail at the portal"
            )
    place = plain_path(path)
    return [PortalDemand(name=name, method=ProofMethod.FILE, place=place, content=content) for name in names]


def record_for(names: Sequence[str], method: ProofMethod, place: str, value: str) -> list[PortalDemand]:
    """Tell of one record, which proves those of `names` that are at or below the domain it stands in.

    Raises:
        UsageError: It validates none of them.

    """
    place = place.strip().rstrip(".").lower()
    base = place
    while base.startswith("_"):
        base = base.partition(".")[2]
    covered = [name for name in names if _is_within(name.removeprefix("*."), base)]
    if not covered:
        raise UsageError(
            f"the record {place} validates none of {', '.join(names)}",
            advice="give its full name, with the domain at its end, or say with --for which names it validates",
        )
    return [PortalDemand(name=name, method=method, place=place, content=value.strip()) for name in covered]


def _is_within(name: str, domain: str) -> bool:
    return bool(domain) and (name == domain or name.endswith("." + domain))


def method_of(entry: Certificate, authority: Authority) -> ProofMethod | None:
    """Return the way of proving that configuration and rule lead to; None when only a person can say."""
    if entry.proof is not None:
        return ProofMethod(entry.methods[0])
    if authority.path and (entry.via != BY_HAND or not authority.record):
        return ProofMethod.FILE
    return ProofMethod(authority.record_type) if authority.record else None


def by_rule(
    entry: Certificate, authority: Authority, names: Sequence[str], values: Callable[[str], Mapping[str, str]]
) -> list[PortalDemand]:
    """Fill in the portal's rule for each name; an empty list when there is none for the way of proving.

    Args:
        entry: The certificate.
        authority: Its portal.
        names: Those to prove.
        values: What the placeholders stand for, for a name.

    """
    method = method_of(entry, authority)
    if method is ProofMethod.FILE and authority.path:
        told = []
        for name in names:
            content = "".join(fill(line, values(name)) + "\n" for line in authority.lines)
            told += file_for([name], fill(authority.path, values(name)), content)
        return told
    if method in {ProofMethod.CNAME, ProofMethod.TXT} and authority.record and method.value == authority.record_type:
        return [
            PortalDemand(
                name=name,
                method=method,
                place=fill(authority.record, values(name)).rstrip(".").lower(),
                content=fill(authority.value, values(name)),
            )
            for name in names
        ]
    return []


def rule_texts(entry: Certificate, authority: Authority) -> tuple[str, ...]:
    """Return the templates of the portal's rule for the certificate's way of proving; empty when it has none."""
    method = method_of(entry, authority)
    if method is ProofMethod.FILE:
        texts: tuple[str, ...] = (authority.path, *authority.lines)
    elif method is not None and method.value == authority.record_type:
        texts = (authority.record, authority.value)
    else:
        return ()
    return texts if texts[0] else ()


def wants_token(entry: Certificate, authority: Authority) -> bool:
    """Tell whether the rule has a place for what the portal shows anew for each order."""
    return any(wants(text, "token") for text in rule_texts(entry, authority))


def has_rule(entry: Certificate, authority: Authority, *, token: bool) -> bool:
    """Tell whether the portal's rule says all; `token` when what the portal shows anew for each order is at hand."""
    return bool(rule_texts(entry, authority)) and (token or not wants_token(entry, authority))
