"""When something has to be asked or decided about a certificate next."""

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime, timedelta

from msgspec import Struct

from inkstamp.clock import LATEST
from inkstamp.config.model import Certificate, Messenger
from inkstamp.jobs.status.context import StatusContext
from inkstamp.jobs.status.overview import CertificateStatus, statuses_of
from inkstamp.ledger.installs import has_edition
from inkstamp.ledger.observations import Observation, of_edition
from inkstamp.ledger.records import EditionRecord, InstallRecord
from inkstamp.ledger.roster import NextLook
from inkstamp.policy.notification_rules import told_from

A_DAY = timedelta(days=1)
_FARTHEST = timedelta(days=40)
"""No moment to ask again lies further ahead than this."""


class Questions(Struct, frozen=True):
    """From when somebody is to be asked about an edition; None where there is nothing to ask. All aware, UTC."""

    window: datetime | None
    """Its CA, when it wants it to be renewed."""
    status: datetime | None
    """Its CA, whether it is revoked."""
    look: datetime | None
    """Its servers, whether they serve it."""
    records: datetime | None = None
    """The nameservers, whether its validation records are there that stay."""

    @property
    def first(self) -> datetime:
        """From when there is anything to ask."""
        return min(
            (each for each in (self.window, self.status, self.look, self.records) if each is not None), default=LATEST
        )


def questions_about(
    context: StatusContext,
    entry: Certificate,
    edition: EditionRecord,
    observed: Observation,
    installs: Mapping[str, InstallRecord],
    *,
    now: datetime,
) -> Questions:
    """Tell from when somebody is to be asked about an edition, the newest of its certificate, as it is `now`."""
    if edition.not_after <= now:
        return Questions(None, None, None)
    authority = context.config.authority.get(edition.authority)
    look = None
    if entry.install and has_edition(installs, entry.install, edition.number):
        look = max(_from(observed.look_again, now), max(each.at for each in installs.values()) + A_DAY)
    if not context.config.orders:  # one that only installs asks its own servers alone
        return Questions(None, None, look)
    return Questions(
        window=_from(observed.ask_again, now) if authority is not None and authority.is_acme else None,
        status=_from(observed.status_again, now),
        look=look,
        records=_from(observed.records_again, now) if "dns-persist-01" in entry.methods else None,
    )


def _from(again: datetime | None, now: datetime) -> datetime:
    """Return from when to ask; a moment that no release of ours would set is not waited for."""
    return now if again is None or again > now + _FARTHEST else again


def settle(context: StatusContext, names: Sequence[str]) -> None:
    """Decide when certificates of the roster have to be looked at next, and write it down."""
    ledger, roster, now = context.ledger, context.certificates.roster, context.clock.now()
    if roster is None or not names:
        return
    with ledger.snapshot():
        records = roster.some(names)  # with their revisions, before anything is judged
        statuses = statuses_of(context, names)
        failing = ledger.failures.all(names).keys()
        editions, installs = ledger.newest_editions(names), ledger.installs.by_server(names)
        observed = ledger.observations.all(names)
    looks = []
    for each in statuses:
        edition, entry, record = editions.get(each.name), context.certificates.get(each.name), records.get(each.name)
        if record is None:
            continue
        until = ask = None
        if edition is not None and entry is not None:
            heard = of_edition(observed.get(each.name), edition)
            ask = questions_about(context, entry, edition, heard, installs.get(each.name, {}), now=now).first
            if not each.needs_somebody and each.name not in failing:
                until = _ok_until(edition, each, context.config.messenger.values())
        looks.append(NextLook(each.name, record.revision, until, ask if edition is not None else LATEST))
    roster.settle(looks)


def _ok_until(edition: EditionRecord, status: CertificateStatus, messengers: Iterable[Messenger]) -> datetime:
    """Return when something comes due for a certificate that is as it should be, or is to be told about it."""
    moments = [told_from(edition.not_before, edition.not_after, each.days_left) for each in messengers]
    if status.renews_at is not None:
        moments.append(status.renews_at)
    return min(moments, default=edition.not_after)
