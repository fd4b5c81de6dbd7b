"""Open an order at a CA: at which one, and in the place of which certificate."""

from datetime import timedelta

from msgspec import Struct
from msgspec.structs import replace

from inkstamp.acme.ari import certificate_id
from inkstamp.acme.client import CaClient, OrderExtras
from inkstamp.acme.resources import Order
from inkstamp.config.model import Certificate
from inkstamp.errors import CaProblem, ConfigurationError, EditionUnfit, FileTrouble
from inkstamp.jobs.orders.context import OrdersContext
from inkstamp.ledger.records import OrderRecord
from inkstamp.wording import header_of

_ABOUT_DATES = frozenset({"malformed"})
_ABOUT_REPLACING = frozenset({"alreadyReplaced", "malformed", "unauthorized"})
"""Problems that a CA may have with `replaces` alone (RFC 9773 section 5): the same order without it may pass."""


def open_at_ca(context: OrdersContext, client: CaClient, record: OrderRecord, entry: Certificate) -> tuple[str, Order]:
    """Open an order at its CA: which certificate it replaces (RFC 9773 section 5), which profile, until when.

    What the CA does not take is left out, but for the profile. Returns the order's URL and first snapshot.

    Raises:
        ConfigurationError: The CA does not offer the profile that is configured.

    """
    wish = _wish(context, client, record, entry)
    while True:
        try:
            return client.new_order(record.names, wish)
        except CaProblem as problem:
            concession = _concession(wish, problem)
            if concession is None:
                raise
            context.progress.step(record.certificate, f"{concession.why} ({problem.kind}); orders without that")
            wish = concession.extras


def _wish(context: OrdersContext, client: CaClient, record: OrderRecord, entry: Certificate) -> OrderExtras:
    authority = context.config.authority[record.authority]
    profile = entry.profile or authority.profile
    offered = client.directory().meta.profiles
    if profile and profile not in offered:
        known = ", ".join(f"{name} ({told})" for name, told in offered.items()) or "none at all"
        header = header_of("certificate", record.certificate)
        raise ConfigurationError(
            f"“{record.authority}” offers no profile “{profile}”",
            where=authority.directory,
            said=f"it offers {known}",
            advice=f"correct `profile` under {header} or [authority.{record.authority}]",
        )
    end = context.clock.now() + timedelta(days=entry.lifetime_days) if entry.lifetime_days else None
    return OrderExtras(replaces=_replaced(context, client, record), profile=profile, not_after=end)


class _Concession(Struct, frozen=True):
    """What is asked for once the CA has refused a wish."""

    extras: OrderExtras
    why: str


def _concession(wish: OrderExtras, problem: CaProblem) -> _Concession | None:
    """Return what to ask for after a refusal that may be about a wish; None where it is about the names."""
    if wish.replaces and (problem.kind in _ABOUT_REPLACING or problem.status in {404, 409}):
        return _Concession(replace(wish, replaces=""), "the CA does not accept `replaces`")
    if wish.not_after is not None and problem.kind in _ABOUT_DATES:
        return _Concession(replace(wish, not_after=None), "the CA does not let clients choose the lifetime")
    return None


def _replaced(context: OrdersContext, client: CaClient, record: OrderRecord) -> str:
    """Return how the CA knows the edition that an order is to replace; empty where it is not one of its own."""
    newest = context.ledger.newest_edition(record.certificate)
    if newest is None or newest.authority != record.authority or not set(newest.names) & set(record.names):
        return ""
    if not client.directory().renewal_info:
        return ""
    try:
        return certificate_id(context.shelf.chain(newest)[0])
    except (EditionUnfit, FileTrouble):
        return ""  # it is not on the shelf any more; the order is as good without
