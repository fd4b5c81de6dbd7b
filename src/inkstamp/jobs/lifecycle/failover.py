"""A new edition from the configured authority, or from another one when that is in no state to issue."""

import msgspec

from inkstamp.acme.problems import OF_PROOFS
from inkstamp.config.carrying import is_portal
from inkstamp.config.model import Certificate
from inkstamp.errors import CaMisbehaved, CaProblem, EditionUnfit, NetworkTrouble, UsageError
from inkstamp.jobs.lifecycle.context import LifecycleContext
from inkstamp.jobs.orders.attempts import obtain
from inkstamp.jobs.portal.order import wait_for_person
from inkstamp.ledger.records import EditionRecord
from inkstamp.policy.renewal_time import turn_to_other


def obtain_somewhere(context: LifecycleContext, name: str, entry: Certificate) -> EditionRecord:
    """Get a new edition at the configured authority, or at one of the others when that is in no state to issue.

    An open order is gone on with where it is open. Raises as `obtain`, for the last authority that was asked, or
    UsageError where this machine does not order.
    """
    expect_to_order(context, name)
    if not entry.otherwise:
        return _obtain(context, name, entry)
    known = (entry.authority, *entry.otherwise)
    record = context.ledger.open_order(name)
    first = record.authority if record is not None and record.authority in known else entry.authority
    rest = [each for each in known if each != first]
    for number, authority in enumerate((first, *rest)):
        try:
            # Profiles are each CA's own: another one is asked for its own.
            profile = entry.profile if authority == entry.authority else ""
            asked = msgspec.structs.replace(entry, authority=authority, otherwise=(), profile=profile)
            return _obtain(context, name, asked)
        except (CaProblem, CaMisbehaved, EditionUnfit, NetworkTrouble) as error:
            if number == len(rest) or not _another_helps(context, name, error):
                raise
            context.progress.step(name, f"{authority} does not issue ({error.what}); turns to {rest[number]}")
            context.ledger.note("turned", f"from {authority} to {rest[number]}: {error.what}", name)
    raise AssertionError("the last authority's error was raised")  # pragma: no cover


def expect_to_order(context: LifecycleContext, name: str) -> None:
    """Raise UsageError on a machine that only installs."""
    if not context.config.orders:
        raise UsageError(
            f"this machine installs what others order, and orders no edition of “{name}”",
            where=str(context.configuration.path),
            advice="order it on one of the machines that `workers` under [ledger] names",
        )


def _another_helps(context: LifecycleContext, name: str, error: Exception) -> bool:
    setback = context.ledger.failures.of(name)
    times = 1 + (setback.times if setback is not None else 0)
    kind = error.kind if isinstance(error, CaProblem) else ""
    edition = context.ledger.newest_edition(name)
    return turn_to_other(
        kind, times, context.clock.now(), edition.not_after if edition else None, proof=kind in OF_PROOFS
    )


def _obtain(context: LifecycleContext, name: str, entry: Certificate) -> EditionRecord:
    if is_portal(context.config, entry):
        raise wait_for_person(context, name, entry)
    return obtain(context, name, entry)
