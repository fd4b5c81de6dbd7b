"""Why a CA does not issue for an order, put together from all that it says: the order's own words are often vague."""

from collections.abc import Mapping, Sequence

from msgspec import Struct

from inkstamp.acme.order_states import LAPSED
from inkstamp.acme.problems import OF_PROOFS, describe, short_kind
from inkstamp.acme.resources import Authorization, Order, Problem


class Refusal(Struct, frozen=True, kw_only=True):
    """All causes of a refusal."""

    problem: Problem
    """The first of the CA's problems (RFC 8555 section 6.7)."""
    said: str
    """All of them, line by line."""
    names: tuple[str, ...]
    """The names that the CA has problems with, where it says so."""
    methods: Mapping[str, str]
    """By name, the challenge type by which its validation failed."""
    lapsed: bool
    """Whether nothing is wrong but that an authorization expired or was revoked: another order may do."""


def causes_of(order: Order, authorizations: Sequence[Authorization]) -> Refusal:
    """Gather why an order was refused from its newest snapshot and its authorizations'."""
    failed = [
        (each, challenge, challenge.error)
        for each in authorizations
        for challenge in each.challenges
        if challenge.error is not None
    ]
    lines = [f"{each.identifier.value}: {describe(problem)}" for each, _, problem in failed]
    if order.error is not None:
        lines.append(describe(order.error))
    states = [f"{each.identifier.value}: the authorization is {each.status}" for each in authorizations]
    return Refusal(
        problem=failed[0][2] if failed else order.error or Problem(detail="no reason given"),
        said="\n".join(lines or states),
        names=tuple(dict.fromkeys(each.identifier.value for each, _, _ in failed)),
        methods={
            ("*." if each.wildcard else "") + each.identifier.value: challenge.type
            for each, challenge, problem in failed
            if short_kind(problem) in OF_PROOFS
        },
        lapsed=not failed and order.error is None and any(each.status in LAPSED for each in authorizations),
    )
