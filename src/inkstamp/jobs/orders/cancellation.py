"""Give an order up, and its authorizations back to the CA (RFC 8555 section 7.5.2)."""

from typing import TYPE_CHECKING

from inkstamp.acme.client import CaClient
from inkstamp.acme.messages import AuthorizationStatus
from inkstamp.acme.patience import HURRY
from inkstamp.config.model import Certificate
from inkstamp.errors import AccountTrouble, CaMisbehaved, CaProblem, NetworkTrouble, UsageError
from inkstamp.files import remove_tree
from inkstamp.jobs.account import make_session
from inkstamp.jobs.order_files import order_folder
from inkstamp.jobs.validation import web_files
from inkstamp.ledger.records import OrderRecord, OrderState

if TYPE_CHECKING:
    from pathlib import Path

    from inkstamp.jobs.workplace import Workplace


def give_up(workplace: "Workplace", name: str) -> tuple[OrderRecord, bool]:
    """End the open order of a certificate: proofs down, key and request removed; the caller holds the certificate.

    Returns the order, and whether a portal may have it too.

    Raises:
        UsageError: None is open.

    """
    record = workplace.ledger.open_order(name)
    if record is None:
        raise UsageError(f"no order for “{name}” is open", advice=f"see: inkstamp why {name}")
    ended = abandon(workplace, record, "cancelled by hand", valid_too=True)
    return ended, record.state is OrderState.WAITING


def abandon(workplace: "Workplace", record: OrderRecord, why: str, *, valid_too: bool) -> OrderRecord:
    """Give up an order; at an ACME CA its authorizations are given back, so that none is left to count against limits.

    Args:
        workplace: The run's surroundings.
        record: The order.
        why: Told in the history.
        valid_too: Whether those that are proven go too; the next order may do without proofs where they stay.

    """
    authority = workplace.config.authority.get(record.authority)
    if record.state is not OrderState.WAITING and record.url and authority is not None and authority.kind == "acme":
        try:
            _deactivate(workplace, record, valid_too=valid_too)
        except (AccountTrouble, CaProblem, CaMisbehaved, NetworkTrouble) as error:
            # It ends here all the same; at the CA it runs out by itself.
            workplace.progress.step(record.certificate, f"cannot deactivate its authorizations: {error.what}")
    return drop(workplace, record, why)


def _deactivate(workplace: "Workplace", record: OrderRecord, *, valid_too: bool) -> None:
    account = workplace.account(record.authority)
    session = make_session(workplace, account.entry, HURRY)  # nobody should have to wait for this
    client = CaClient(session, account.signer)
    unwanted = {AuthorizationStatus.PENDING, *([AuthorizationStatus.VALID] if valid_too else [])}
    try:
        for url in client.order(record.url).order.authorizations:
            if client.authorization(url).status in unwanted:
                client.deactivate(url)
    finally:
        session.close()


def drop(workplace: "Workplace", record: OrderRecord, why: str) -> OrderRecord:
    """Give an order up: take its proofs down, remove its key, end it in the ledger."""
    web_files.take_down(workplace, record)
    ended = workplace.ledger.move_order(record, OrderState.DROPPED, "order dropped", f"order {record.id}: {why}")
    remove_tree(order_folder(workplace.home, record.id))
    return ended


def clear_ended(workplace: "Workplace", name: str) -> None:
    """Remove what a run that was killed left of the certificate's ended orders; the caller holds the certificate."""
    ledger = workplace.ledger
    standing = set(ledger.orders_with_proofs())
    for order_id in ledger.ended_orders(name):
        if order_id in standing:
            web_files.take_down_of(workplace, order_id)
        remove_tree(order_folder(workplace.home, order_id))


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
