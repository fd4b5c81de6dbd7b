"""The life of an order: what the CA's snapshot of it means, and which action comes next.

RFC 8555 section 7.1.6, as a client sees it. We poll, so we see snapshots and not every state: `MOVES` holds
the transitive closure of the RFC's diagram, with the skips that follow (pending → valid). A move that is not
in it is the CA's mistake and never guessed around.

    pending ──▶ ready ──▶ processing ──▶ valid
       └──────────┴────────────┴───────▶ invalid
"""

from collections.abc import Mapping

import msgspec
from msgspec import Struct

from inkstamp.acme.resources import Authorization, AuthorizationStatus, Challenge, ChallengeStatus, Order, OrderStatus
from inkstamp.errors import CaMisbehaved

MOVES: dict[OrderStatus, frozenset[OrderStatus]] = {
    OrderStatus.PENDING: frozenset(OrderStatus),
    OrderStatus.READY: frozenset(OrderStatus) - {OrderStatus.PENDING},
    OrderStatus.PROCESSING: frozenset({OrderStatus.PROCESSING, OrderStatus.VALID, OrderStatus.INVALID}),
    OrderStatus.VALID: frozenset({OrderStatus.VALID, OrderStatus.INVALID}),
    OrderStatus.INVALID: frozenset({OrderStatus.INVALID}),
}
"""From each status, those that the next snapshot may show."""


ENDED = frozenset({"canceled", "cancelled", "deactivated", "expired", "revoked"})
"""States of orders that RFC 8555 does not list and some CAs have: nothing comes of such an order any more."""

LAPSED = frozenset({AuthorizationStatus.DEACTIVATED, AuthorizationStatus.EXPIRED, AuthorizationStatus.REVOKED})
"""Authorizations that were good, or might have become so, and are not any more."""


class FetchAuthorizations(Struct, frozen=True):
    """Ask for these authorizations, which have not been seen yet."""

    urls: tuple[str, ...]


class Prove(Struct, frozen=True):
    """Put up proofs for these authorizations, look at them, answer a challenge of each."""

    pending: tuple[Authorization, ...]


class Wait(Struct, frozen=True):
    """Poll the order: the CA is at work."""


class Finalize(Struct, frozen=True):
    """Send the CSR."""


class Download(Struct, frozen=True):
    """Fetch the certificate from this URL."""

    url: str


class Refused(Struct, frozen=True):
    """The CA will not issue for this order; the causes stand in these authorizations, as far as known."""

    authorizations: tuple[Authorization, ...]


Step = FetchAuthorizations | Prove | Wait | Finalize | Download | Refused


def check_move(before: OrderStatus, after: OrderStatus, url: str) -> None:
    """Raise CaMisbehaved when an order cannot come from `before` to `after`."""
    if before.is_listed and after.is_listed and after not in MOVES[before]:
        raise CaMisbehaved(
            f"the CA moved the order from “{before}” to “{after}”, which RFC 8555 does not allow",
            where=url,
            advice="run the command again; if it persists, report it to the CA",
        )


def challenge_of(authorization: Authorization, method: str) -> Challenge | None:
    """Return the authorization's challenge of that type, None when the CA offers none."""
    return next((each for each in authorization.challenges if each.type == method), None)


def next_step(order: Order, seen: Mapping[str, Authorization], answered: frozenset[str]) -> Step:
    """Decide what comes next for an order.

    Args:
        order: The newest snapshot.
        seen: Authorizations by URL, as newest known (an answered challenge's reply is worked in).
        answered: URLs of the challenges that this process has answered.

    """
    if order.status is OrderStatus.INVALID:
        return Refused(tuple(seen.values()))
    if order.status is OrderStatus.VALID:
        return Download(order.certificate) if order.certificate else Wait()
    if order.status is OrderStatus.PROCESSING:
        return Wait()
    if order.status is OrderStatus.READY:
        return Finalize()
    if not order.status.is_listed:
        return Refused(tuple(seen.values())) if order.status in ENDED else Wait()
    return _next_proof(order, seen, answered)


def _next_proof(
    order: Order, seen: Mapping[str, Authorization], answered: frozenset[str]
) -> FetchAuthorizations | Prove | Wait | Finalize | Refused:
    """Decide what comes next for an order whose names are not validated yet."""
    unseen = tuple(url for url in order.authorizations if url not in seen)
    if unseen:
        return FetchAuthorizations(unseen)
    mine = [seen[url] for url in order.authorizations]
    if any(each.status is AuthorizationStatus.INVALID or each.status in LAPSED for each in mine):
        return Refused(tuple(mine))
    if all(each.status is AuthorizationStatus.VALID for each in mine):
        # RFC 8555 section 7.1.3: the order is ready once all authorizations are valid; no need to ask.
        return Finalize()
    pending = [
        each
        for each in mine
        if each.status is AuthorizationStatus.PENDING
        and not answered & {challenge.url for challenge in each.challenges}
    ]
    return Prove(tuple(pending)) if pending else Wait()


def with_answer(authorization: Authorization, reply: Challenge) -> Authorization:
    """Work the CA's reply to an answered challenge into its authorization.

    A challenge that is `valid` or `invalid` makes the authorization so (RFC 8555 section 7.1.6).
    """
    status = {
        ChallengeStatus.VALID: AuthorizationStatus.VALID,
        ChallengeStatus.INVALID: AuthorizationStatus.INVALID,
    }.get(reply.status, authorization.status)
    challenges = tuple(reply if each.url == reply.url else each for each in authorization.challenges)
    return msgspec.structs.replace(authorization, status=status, challenges=challenges)
