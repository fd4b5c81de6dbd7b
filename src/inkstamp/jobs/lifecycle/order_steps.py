"""The steps of a round one by one: open the order, prove, collect; for an ACME CA and for a portal."""

from collections.abc import Callable
from typing import TYPE_CHECKING

from inkstamp.config.carrying import is_portal
from inkstamp.errors import StillWaiting, UsageError
from inkstamp.jobs.lifecycle.enrolment import Plan
from inkstamp.jobs.lifecycle.provisioning import check_beforehand, good_edition, settle, write_entries
from inkstamp.jobs.orders.acme_order import Goal, Reached
from inkstamp.jobs.orders.attempts import lead
from inkstamp.jobs.portal.order import PortalOrder, open_order
from inkstamp.jobs.setback import kept
from inkstamp.ledger.records import EditionRecord
from inkstamp.wording import counted

if TYPE_CHECKING:
    from inkstamp.jobs.workplace import Workplace
    from inkstamp.ledger.store import Ledger


def order(
    workplace: "Workplace", plan: Plan, *, anew: bool, said: Callable[[Plan], None] = lambda _plan: None
) -> PortalOrder | Reached:
    """Open an order, or go on with the open one.

    Args:
        workplace: The run's surroundings.
        plan: Which certificate.
        anew: Open one although the present edition is good: a new key and request; the edition stays live.
        said: Called with the plan when all checks have passed, before anything is changed.

    Raises:
        UsageError: The present edition is good and `anew` was not asked for.

    """
    with workplace.locks.certificate(plan.name), kept(workplace, plan.name):
        settle(workplace, plan.name)
        fresh = workplace.ledger.open_order(plan.name) is None
        good = good_edition(workplace, plan, anew=anew) if fresh else None
        if good is not None:
            raise UsageError(
                f"edition {good.number} of “{plan.name}” is valid until {good.not_after:%Y-%m-%d}",
                advice=f"for a new one before that, with a new key: inkstamp order {plan.name} --reissue",
            )
        if fresh:
            check_beforehand(workplace, plan)
            said(plan)
            write_entries(workplace.configuration, plan)
        if is_portal(workplace.config, plan.entry):
            return open_order(workplace, plan.name, plan.entry)
        return lead(workplace, plan.name, plan.entry, Goal.OPENED)


def prove_at_ca(workplace: "Workplace", name: str, *, wait: float = 0.0) -> Reached:
    """Put up the proofs of the open order at an ACME CA, have the CA look, take them down.

    Records in DNS are waited for `wait` seconds at least.

    Raises:
        UsageError: No order is open.

    """
    with workplace.locks.certificate(name), kept(workplace, name):
        _expect_open(workplace.ledger, name)
        return lead(workplace, name, workplace.certificate(name), Goal.PROVEN, wait=wait)


def collect_at_ca(workplace: "Workplace", name: str) -> EditionRecord:
    """Send the request of an order whose names are proven, and take in what the CA issues.

    Raises:
        UsageError: No order is open.
        StillWaiting: Names are not validated yet.

    """
    with workplace.locks.certificate(name), kept(workplace, name):
        _expect_open(workplace.ledger, name)
        reached = lead(workplace, name, workplace.certificate(name), Goal.COLLECTED)
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
