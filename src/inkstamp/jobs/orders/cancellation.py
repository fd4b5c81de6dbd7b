"""Give an order up, and its authorizations back to the CA (RFC 8555 section 7.5.2)."""

from typing import TYPE_CHECKING

from inkstamp.acme.client import CaClient
from inkstamp.acme.messages import AuthorizationStatus
from inkstamp.acme.patience import HURRY
from inkstamp.errors import AccountTrouble, CaMisbehaved, CaProblem, NetworkTrouble, UsageError
from inkstamp.jobs.account import make_session
from inkstamp.jobs.order_files import drop
from inkstamp.ledger.records import OrderRecord, OrderState

if TYPE_CHECKING:
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
