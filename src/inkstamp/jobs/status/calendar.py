"""What expires and what is planned, from what the ledger knows."""

from contextlib import suppress
from datetime import datetime

from msgspec import Struct

from inkstamp.bulkhead import apart
from inkstamp.errors import InkStampError
from inkstamp.jobs.status.context import StatusContext
from inkstamp.jobs.status.renewal_reasons import decision_on
from inkstamp.ledger.observations import Observation, of_edition
from inkstamp.ledger.records import ALL, EditionRecord, Selection
from inkstamp.policy.forecast import Life, Outlook, look_ahead
from inkstamp.policy.validity_limits import ValidityLimits, limits_at, next_limits, validation_ends


class Calendar(Struct, frozen=True, kw_only=True):
    """When certificates were renewed and will be, and the load that this means."""

    at: datetime
    """When it was made; aware, UTC."""
    lives: tuple[Life, ...]
    """By when they are renewed, the first one first."""
    without: tuple[str, ...]
    """Certificates that have no edition yet."""
    outlook: Outlook
    limits: ValidityLimits | None
    """What counts for certificates that public CAs issue now."""
    next_limits: ValidityLimits | None
    """What will count then; None where no change is decided."""


def _life(context: StatusContext, edition: EditionRecord, heard: Observation, now: datetime) -> Life:
    window = heard.window
    return Life(
        name=edition.certificate,
        authority=edition.authority,
        not_before=edition.not_before,
        not_after=edition.not_after,
        renews_at=now if heard.revoked else decision_on(context, edition, heard, now).at,
        window=(window.start, window.end) if window else None,
        validated_until=_validated_until(context, edition),
    )


def _validated_until(context: StatusContext, edition: EditionRecord) -> datetime | None:
    """Return until when a portal's CA may go by its last validation of an edition's names."""
    authority = context.config.authority.get(edition.authority)
    if authority is None or authority.is_acme:
        return None
    order = context.ledger.order_of_edition(edition.certificate, edition.number)
    proofs = context.ledger.portal.of(order.id) if order is not None else []
    seen = [each.approved or each.seen for each in proofs]
    validated = [each for each in seen if each is not None]
    return validation_ends(min(validated)) if validated and len(validated) == len(seen) else None


def calendar(context: StatusContext, weeks: int, selection: Selection = ALL) -> Calendar:
    """Gather the lives of all certificates or of a selection, and count the next `weeks` weeks; asks nobody."""
    ledger, now = context.ledger, context.clock.now()
    names = context.certificates.read(context.certificates.names(selection))
    with ledger.snapshot():
        wanted = names if selection else None
        editions, observed = ledger.newest_editions(wanted), ledger.observations.all(wanted)
    lives = []
    for name in names:
        edition = editions.get(name)
        if edition is None:
            continue
        with suppress(InkStampError), apart():  # `status` says what is wrong with it
            lives.append(_life(context, edition, of_edition(observed.get(name), edition), now))
    lives.sort(key=lambda each: (each.renews_at, each.name))
    return Calendar(
        at=now,
        lives=tuple(lives),
        without=tuple(name for name in names if name not in editions),
        outlook=look_ahead(lives, now, weeks),
        limits=limits_at(now),
        next_limits=next_limits(now),
    )
