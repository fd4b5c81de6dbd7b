"""Give an order up, and its authorizations back to the CA (RFC 8555 section 7.5.2)."""

from contextlib import suppress
from typing import TYPE_CHECKING

from msgspec import Struct

from inkstamp.accounts.account import make_session
from inkstamp.acme.client import CaClient
from inkstamp.acme.patience import HURRY
from inkstamp.acme.resources import AuthorizationStatus
from inkstamp.config.model import Certificate
from inkstamp.errors import AccountTrouble, CaMisbehaved, CaProblem, InkStampError, NetworkTrouble, UsageError
from inkstamp.files import remove_tree
from inkstamp.jobs.orders.context import OrdersContext
from inkstamp.jobs.validation.by_hand import tell_done
from inkstamp.jobs.validation.web_files import take_down, take_down_of
from inkstamp.ledger.records import OrderRecord, OrderState
from inkstamp.pki.keys import spki_digest

if TYPE_CHECKING:
    from pathlib import Path


class Cancelled(Struct, frozen=True):
    """An order that was ended by hand."""

    order: OrderRecord
    at_portal: bool
    """Whether a portal may have it too."""


def give_up(context: OrdersContext, name: str) -> Cancelled:
    """End the open order of a certificate: proofs down, key and request removed; the caller holds the certificate.

    Raises:
        UsageError: None is open.

    """
    record = context.ledger.open_order(name)
    if record is None:
        raise UsageError(f"no order for “{name}” is open", advice=f"see: inkstamp why {name}")
    ended = abandon(context, record, "cancelled by hand", valid_too=True)
    return Cancelled(ended, at_portal=record.state is OrderState.WAITING)


def abandon(context: OrdersContext, record: OrderRecord, why: str, *, valid_too: bool) -> OrderRecord:
    """Give up an order; at an ACME CA its authorizations are given back, so that none is left to count against limits.

    Args:
        context: The parts of the run.
        record: The order.
        why: Told in the history.
        valid_too: Whether those that are proven go too; the next order may do without proofs where they stay.

    """
    authority = context.config.authority.get(record.authority)
    if record.state is not OrderState.WAITING and record.url and authority is not None and authority.is_acme:
        try:
            _deactivate(context, record, valid_too=valid_too)
        except (AccountTrouble, CaProblem, CaMisbehaved, NetworkTrouble) as error:
            # It ends here all the same; at the CA it runs out by itself.
            context.progress.step(record.certificate, f"cannot deactivate its authorizations: {error.what}")
    return drop(context, record, why)


def _deactivate(context: OrdersContext, record: OrderRecord, *, valid_too: bool) -> None:
    account = context.accounts.get(record.authority)
    session = make_session(context, account.entry, HURRY)  # nobody should have to wait for this
    client = CaClient(session, account.signer)
    unwanted = {AuthorizationStatus.PENDING, *([AuthorizationStatus.VALID] if valid_too else [])}
    try:
        for url in client.order(record.url).order.authorizations:
            if client.authorization(url).status in unwanted:
                client.deactivate(url)
    finally:
        session.close()


def drop(context: OrdersContext, record: OrderRecord, why: str) -> OrderRecord:
    """Give an order up: take its proofs down, remove its key, end it in the ledger."""
    take_down(context, record)
    if record.state is not OrderState.WAITING:
        tell_done(context, record)
    else:
        with suppress(InkStampError):  # what it was for is told later, if it can still be said
            key = context.order_keys.read(record)
            context.ledger.portal.remember_key(record.id, spki_digest(key.public))
    ended = context.ledger.move_order(record, OrderState.DROPPED, "order dropped", f"order {record.id}: {why}")
    remove_tree(context.home.order(record.id))
    return ended


def clear_ended(context: OrdersContext, name: str) -> None:
    """Remove what a run that was killed left of the certificate's ended orders; the caller holds the certificate."""
    ledger = context.ledger
    ended = ledger.ended_orders(name)
    standing = set(ledger.orders_with_proofs()) if ended else set()
    for order_id in ended:
        if order_id in standing:
            take_down_of(context, order_id)
        remove_tree(context.home.order(order_id))


def expect_same(config_file: "Path", record: OrderRecord, entry: Certificate) -> None:
    """Refuse to go on with an order for something else: it may be paid for, so only a person gives it up."""
    if record.names == entry.names and record.authority == entry.authority:
        return
    raise UsageError(
        f"order {record.id} is open for {', '.join(record.names)} at {record.authority}, and the configuration asks "
        "for something else now",
        where=str(config_file),
        advice=f"change the configuration back, or end that order: inkstamp order {record.certificate} --cancel",
    )
