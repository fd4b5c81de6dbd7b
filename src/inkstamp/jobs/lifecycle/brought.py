"""What a person brings for the next order of a certificate: a CSR from where the key is, or an existing key."""

from inkstamp.errors import UsageError
from inkstamp.jobs.lifecycle.context import LifecycleContext
from inkstamp.jobs.lifecycle.proposal import Plan
from inkstamp.jobs.portal.order import expect_same_csr
from inkstamp.ledger.brought_csr import brought_since, csr_of_edition, keep_brought
from inkstamp.pki.keys import PrivateKey, describe, spki_digest


def bring_csr(context: LifecycleContext, plan: Plan) -> None:
    """Keep the CSR for the order; the caller holds the certificate."""
    newest, order = context.ledger.newest_edition(plan.name), context.ledger.open_order(plan.name)
    number, brought = newest.number if newest is not None else None, plan.brought.encode("ascii")
    if order is not None:
        expect_same_csr(context, order, brought)
    known = (
        csr_of_edition(context.shelf, plan.name, number),
        brought_since(context.home, context.shelf, plan.name, number),
    )
    if brought in known:
        return
    keep_brought(context.home, context.store, plan.name, brought)
    context.ledger.note("CSR", "a CSR was brought, whose key is elsewhere", plan.name)


def bring_key(context: LifecycleContext, plan: Plan, key: PrivateKey) -> None:
    """Keep a key that there is already for the order; UsageError when one is open with another key."""
    order = context.ledger.open_order(plan.name)
    if order is not None and (context.home.order(order.id) / "key.pem").exists():
        if spki_digest(context.order_keys.read(order).public) == spki_digest(key.public_key()):
            return
        raise UsageError(
            f"order {order.id} of “{plan.name}” is open with another key",
            where=str(context.home.order(order.id)),
            advice=f"go on with that one, or end the order: inkstamp order {plan.name} --cancel",
        )
    if _is_new_key(context, plan):
        context.order_keys.keep(plan.name, key)
        context.ledger.note("key", f"a key was brought: {describe(key.public_key())}", plan.name)


def _is_new_key(context: LifecycleContext, plan: Plan) -> bool:
    """Tell whether a key was brought that is another one than that of the last edition."""
    newest = context.ledger.newest_edition(plan.name)
    if plan.own_key is None or newest is None or not context.shelf.has_key(plan.name, newest.number):
        return plan.own_key is not None
    return spki_digest(context.shelf.key(newest.certificate, newest.number).public_key()) != spki_digest(
        plan.own_key.public_key()
    )


def is_new_csr(context: LifecycleContext, plan: Plan) -> bool:
    """Tell whether a CSR or a key was brought that is another one than that of the last edition."""
    if plan.own_key is not None:
        return _is_new_key(context, plan)
    newest = context.ledger.newest_edition(plan.name) if plan.brought else None
    brought = plan.brought.encode("ascii")
    return newest is not None and csr_of_edition(context.shelf, plan.name, newest.number) != brought


def expect_new_csr(context: LifecycleContext, plan: Plan) -> None:
    """Raise UsageError when the CSR that was brought for a new order is that of the last edition."""
    newest = context.ledger.newest_edition(plan.name) if plan.brought else None
    if newest is None or plan.entry.same_request or is_new_csr(context, plan):
        return
    raise UsageError(
        f"this CSR is that of edition {newest.number} of “{plan.name}” already",
        advice=f"have a new one made, or use it again: inkstamp stamp {plan.name} --same-request",
    )
