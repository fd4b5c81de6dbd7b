"""When a new edition is to be renewed: decided once, so that its authority is asked for about as many each day."""

from datetime import datetime

from inkstamp.config.model import Certificate
from inkstamp.jobs.issuance.context import IssuanceContext
from inkstamp.ledger.records import EditionRecord
from inkstamp.policy.load_levelling import allowed_days, choose_day, day_of, moment_in
from inkstamp.policy.renewal_time import fraction_of


def renewal_moment(context: IssuanceContext, entry: Certificate | None, edition: EditionRecord) -> datetime | None:
    """Choose from when a new edition is to be renewed, among the moments that its lifetime allows.

    None for one that is due already, as one that was taken over may be.
    """
    share = entry.renew_with_left if entry is not None else None
    with_left = context.config.renewal.with_left if share is None else share
    today = day_of(context.clock.now())
    days = allowed_days(edition.not_before, edition.not_after, with_left)
    if days.last <= today:
        return None
    planned = context.ledger.observations.planned_days(edition.authority, today, days.last)
    day = choose_day(days, planned, today)
    return moment_in(day, edition.not_before, edition.not_after, with_left, fraction_of(edition.sha256))
