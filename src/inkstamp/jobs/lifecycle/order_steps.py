"""The steps of a round one by one: open the order, prove, collect; for an ACME CA and for a portal."""

from collections.abc import Callable
from typing import TYPE_CHECKING

from inkstamp.config.carrying import is_portal
from inkstamp.errors import StillWaiting, UsageError
from inkstamp.jobs.lifecycle.brought import expect_new_csr, is_new_csr
from inkstamp.jobs.lifecycle.context import LifecycleContext
from inkstamp.jobs.lifecycle.proposal import Plan
from inkstamp.jobs.lifecycle.provisioning import (
    check_beforehand,
    good_edition,
    settle,
    write_entries,
)
from inkstamp.jobs.orders.acme_order import Goal, Reached
from inkstamp.jobs.orders.attempts import lead
from inkstamp.jobs.portal.order import PortalOrder, open_order
from inkstamp.ledger.failures import failure_kept
from inkstamp.ledger.records import EditionRecord
from inkstamp.wording import counted

if TYPE_CHECKING:
    from inkstamp.ledger.store import Ledger


def order(
    context: LifecycleContext, plan: Plan, *, anew: bool, said: Callable[[Plan], None] = lambda _plan: None
) -> PortalOrder | Reached:
    """Open an order, or go on with the open one.

    Args:
        context: The parts of the run.
        plan: Which certificate.
        anew: Open one although the present edition is good: a new key and request; the edition stays live.
        said: Called with the plan when all checks have passed, before anything is changed.

    Raises:
        UsageError: The present edition is good and `anew` was not asked for.

    """
    with context.locks.certificate(plan.name), failure_kept(context.ledger, context.certificates, plan.name):
        settle(context, plan.name)
        fresh = context.ledger.open_order(plan.name) is None
        good = good_edition(context, plan, anew=anew or is_new_csr(context, plan)) if fresh else None
        if good is not None:
            raise UsageError(
                f"edition {good.number} of “{plan.name}” is valid until {good.not_after:%Y-%m-%d}",
                advice=f"for a new one before that, with a new key: inkstamp order {plan.name} --reissue",
            )
        expect_new_csr(context, plan)
        if fresh:
            check_beforehand(context, plan)
            said(plan)
        write_entries(context, plan)
        if is_portal(context.config, plan.entry):
            return open_order(context, plan.name, plan.entry)
        return lead(context, plan.name, plan.entry, Goal.OPENED)


def prove_at_ca(context: LifecycleContext, name: str, *, wait: float = 0.0) -> Reached:
    """Put up the proofs of the open order at an ACME CA, have the CA look, take them down.

    Records in DNS are waited for `wait` seconds at least.

    Raises:
        UsageError: No order is open.

    """
    with context.locks.certificate(name), failure_kept(context.ledger, context.certificates, name):
        _expect_open(context.ledger, name)
        return lead(context, name, context.certificates.entry(name), Goal.PROVEN, wait=wait)


def collect_at_ca(context: LifecycleContext, name: str) -> EditionRecord:
    """Send the request of an order whose names are proven, and take in what the CA issues.

    Raises:
        UsageError: No order is open.
        StillWaiting: Names are not validated yet.

    """
    with context.locks.certificate(name), failure_kept(context.ledger, context.certificates, name):
        _expect_open(context.ledger, name)
        reached = lead(context, name, context.certificates.entry(name), Goal.COLLECTED)
        if reached.edition is None:
            raise StillWaiting(
                f"{counted(len(reached.to_prove), 'name')} of order {reached.order.id} not validated yet",
                where=reached.order.url,
                said=", ".join(reached.to_prove),
                advice=f"inkstamp prove {name}",
            )
        return reached.edition


def _expect_open(ledger: "Ledger", name: str) -> None:
    if ledger.open_order(name) is None:
        raise UsageError(f"no order for “{name}” is open", advice=f"open one: inkstamp order {name}")
