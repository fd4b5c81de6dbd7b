"""What an order at a portal waits for after its domain control validation, as a person was told by the CA."""

from datetime import datetime

from inkstamp.config.words import PortalStep
from inkstamp.jobs.portal.context import PortalContext
from inkstamp.jobs.portal.order import PortalOrder, show_order, waiting_order
from inkstamp.ledger.records import PortalWait
from inkstamp.policy.portal_steps import sentence_of


def wait_at_step(context: PortalContext, name: str, step: PortalStep, until: datetime | None) -> PortalOrder:
    """Record which step an order is at; `validation` leaves it to what is seen of its validation.

    Args:
        context: The parts of the run.
        name: The certificate, which the caller holds.
        step: Where the CA says the order is.
        until: When that is expected to be over, or a call to come; aware. None when nobody knows.

    Raises:
        UsageError: No order waits.

    """
    record = waiting_order(context.ledger, name)
    before = context.ledger.portal.wait_of(record.id)
    if step == "validation":
        context.ledger.portal.wait_no_longer(record.id)
    else:
        same = before is not None and before.step == step
        since = before.since if same and before is not None else context.clock.now()
        context.ledger.portal.wait_for(PortalWait(order_id=record.id, step=step, since=since, until=until))
    expected = f", expected until {until:%Y-%m-%d %H:%M} UTC" if until is not None else ""
    context.ledger.note("waits", f"order {record.id}: {sentence_of(step)}{expected}", name)
    return show_order(context, record)
