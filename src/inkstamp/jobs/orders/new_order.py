"""Open an order at a CA: at which one, and in the place of which certificate."""

from dataclasses import replace
from datetime import timedelta
from typing import TYPE_CHECKING

import msgspec

from inkstamp.acme.client import CaClient, Wish
from inkstamp.acme.messages import Order
from inkstamp.acme.problems import OF_PROOFS
from inkstamp.acme.renewal import certificate_id
from inkstamp.config.model import Certificate
from inkstamp.errors import CaMisbehaved, CaProblem, ConfigurationError, EditionUnfit, FileTrouble, NetworkTrouble
from inkstamp.jobs.deployment.plan import chain_of
from inkstamp.ledger.records import EditionRecord, OrderRecord
from inkstamp.policy.renewal_time import turn_to_other

if TYPE_CHECKING:
    from inkstamp.jobs.workplace import Workplace

_ABOUT_DATES = frozenset({"malformed"})
_ABOUT_REPLACING = frozenset({"alreadyReplaced", "malformed", "unauthorized"})
"""Problems that a CA may have with `replaces` alone (RFC 9773 section 5): the same order without it may pass."""


def open_at_ca(workplace: "Workplace", client: CaClient, record: OrderRecord, entry: Certificate) -> tuple[str, Order]:
    """Open an order at its CA: which certificate it replaces (RFC 9773 section 5), which profile, until when.

    What the CA does not take is left out, but for the profile. Returns the order's URL and first snapshot.

    Raises:
        ConfigurationError: The CA does not offer the profile that is configured.

    """
    wish = _wish(workplace, client, record, entry)
    while True:
        try:
            return client.new_order(record.names, wish)
        except CaProblem as problem:
            less, why = _less(wish, problem)
            if less is None:
                raise
            workplace.progress.step(record.certificate, f"{why} ({problem.kind}); orders without that")
            wish = less


def _wish(workplace: "Workplace", client: CaClient, record: OrderRecord, entry: Certificate) -> Wish:
    authority = workplace.config.authority[record.authority]
    profile = entry.profile or authority.profile
    offered = client.directory().meta.profiles
    if profile and profile not in offered:
        known = ", ".join(f"{name} ({told})" for name, told in offered.items()) or "none at all"
        raise ConfigurationError(
            f"“{record.authority}” offers no profile “{profile}”",
            where=authority.directory,
            said=f"it offers {known}",
            advice=f"correct `profile` under [certificate.{record.certificate}] or [authority.{record.authority}]",
        )
    end = workplace.clock.now() + timedelta(days=entry.lifetime_days) if entry.lifetime_days else None
    return Wish(replaces=_replaced(workplace, client, record), profile=profile, not_after=end)


def _less(wish: Wish, problem: CaProblem) -> tuple[Wish | None, str]:
    """Return what to ask for after a refusal that may be about a wish and not about the names; None for nothing."""
    if wish.replaces and (problem.kind in _ABOUT_REPLACING or problem.status in {404, 409}):
        return replace(wish, replaces=""), "the CA does not accept `replaces`"
    if wish.not_after is not None and problem.kind in _ABOUT_DATES:
        return replace(wish, not_after=None), "the CA does not let clients choose the lifetime"
    return None, ""


def _replaced(workplace: "Workplace", client: CaClient, record: OrderRecord) -> str:
    """Return how the CA knows the edition that an order is to replace; empty where it is not one of its own."""
    newest = workplace.ledger.newest_edition(record.certificate)
    if newest is None or newest.authority != record.authority or not set(newest.names) & set(record.names):
        return ""
    if not client.directory().renewal_info:
        return ""
    try:
        return certificate_id(chain_of(workplace, newest)[0])
    except (EditionUnfit, FileTrouble):
        return ""  # it is not on the shelf any more; the order is as good without


def obtain_somewhere(workplace: "Workplace", name: str, entry: Certificate) -> EditionRecord:
    """Get a new edition at the configured authority, or at one of the others when that is in no state to issue.

    An open order is gone on with where it is open. Raises as `order.obtain`, for the last authority that was asked.
    """
    from inkstamp.jobs.orders.attempts import obtain

    if not entry.otherwise:
        return obtain(workplace, name, entry)
    known = (entry.authority, *entry.otherwise)
    record = workplace.ledger.open_order(name)
    first = record.authority if record is not None and record.authority in known else entry.authority
    rest = [each for each in known if each != first]
    for number, authority in enumerate((first, *rest)):
        try:
            # Profiles are each CA's own: another one is asked for its own.
            profile = entry.profile if authority == entry.authority else ""
            asked = msgspec.structs.replace(entry, authority=authority, otherwise=(), profile=profile)
            return obtain(workplace, name, asked)
        except (CaProblem, CaMisbehaved, EditionUnfit, NetworkTrouble) as error:
            if number == len(rest) or not _another_helps(workplace, name, error):
                raise
            workplace.progress.step(name, f"{authority} does not issue ({error.what}); turns to {rest[number]}")
            workplace.ledger.note("turned", f"from {authority} to {rest[number]}: {error.what}", name)
    raise AssertionError("the last authority's error was raised")  # pragma: no cover


def _another_helps(workplace: "Workplace", name: str, error: Exception) -> bool:
    setback = workplace.ledger.setbacks.of(name)
    times = 1 + (setback.times if setback is not None else 0)
    kind = error.kind if isinstance(error, CaProblem) else ""
    edition = workplace.ledger.newest_edition(name)
    return turn_to_other(
        kind, times, workplace.clock.now(), edition.not_after if edition else None, proof=kind in OF_PROOFS
    )
