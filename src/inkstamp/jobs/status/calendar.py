"""What expires and what is planned, from what the ledger knows."""

from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING

from inkstamp.bulkhead import apart
from inkstamp.errors import InkStampError
from inkstamp.jobs.status.renewal_reasons import decision_on
from inkstamp.ledger.observations import Tidings, of_edition
from inkstamp.ledger.records import EditionRecord
from inkstamp.policy.forecast import Life, Outlook, look_ahead

if TYPE_CHECKING:
    from inkstamp.jobs.workplace import Workplace


@dataclass(frozen=True, slots=True, kw_only=True)
class Calendar:
    """All of it."""

    at: datetime
    """When it was made; aware, UTC."""
    lives: tuple[Life, ...]
    """By when they are renewed, the first one first."""
    without: tuple[str, ...]
    """Certificates that have no edition yet."""
    outlook: Outlook


def _life(workplace: "Workplace", edition: EditionRecord, heard: Tidings, now: datetime) -> Life:
    window = heard.window
    return Life(
        name=edition.certificate,
        authority=edition.authority,
        not_before=edition.not_before,
        not_after=edition.not_after,
        renews_at=now if heard.revoked else decision_on(workplace, edition, heard, now).at,
        window=(window.start, window.end) if window else None,
    )


def calendar(workplace: "Workplace", weeks: int) -> Calendar:
    """Gather the lives of all configured certificates, and count the next `weeks` weeks; asks nobody."""
    ledger, now = workplace.ledger, workplace.clock.now()
    editions, tidings = ledger.newest_editions(), ledger.tidings.all()
    lives = []
    for name in workplace.config.certificate:
        edition = editions.get(name)
        if edition is None:
            continue
        with suppress(InkStampError), apart():  # `status` says what is wrong with it
            lives.append(_life(workplace, edition, of_edition(tidings.get(name), edition), now))
    lives.sort(key=lambda each: (each.renews_at, each.name))
    return Calendar(
        at=now,
        lives=tuple(lives),
        without=tuple(name for name in workplace.config.certificate if name not in editions),
        outlook=look_ahead(lives, now, weeks),
    )
