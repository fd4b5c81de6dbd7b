"""Which certificates are due, by what is known of them: nothing is asked and nothing changed."""

from collections import Counter
from collections.abc import Mapping
from collections.abc import Set as AbstractSet
from datetime import datetime

from msgspec import Struct
from msgspec.structs import replace

from inkstamp.bulkhead import apart, reached
from inkstamp.config.model import Certificate
from inkstamp.errors import CaProblem, InkStampError
from inkstamp.jobs.status.context import StatusContext
from inkstamp.jobs.status.overview import names_to_ask_about, stays_back
from inkstamp.jobs.status.renewal_reasons import RenewalReason, decision_on, reasons
from inkstamp.ledger.failures import RecordedFailure
from inkstamp.ledger.installs import has_edition
from inkstamp.ledger.observations import Observation, of_edition
from inkstamp.ledger.records import ALL, EditionRecord, InstallRecord, Selection
from inkstamp.policy.load_levelling import FEW, day_of, midnight, room_today
from inkstamp.policy.renewal_time import Decision, next_try, renewal_moment

_OF_THE_CA = frozenset({"about:blank", "badNonce", "serverInternal"})
"""Problems (RFC 8555 section 6.7) that are trouble of the CA's own, or of a proxy before it."""


class Due(Struct, frozen=True):
    """A certificate that something must be done for."""

    name: str
    reason: str
    new_edition: bool
    """False when the newest edition only has to be installed."""
    astray: bool = False
    """Whether it is on its servers by our records, and they were seen to serve something else."""
    pressing: bool = False
    """Whether it comes before all others: expired, revoked, or the CA wants it replaced at once."""
    can_wait: bool = False
    """Whether another day does as well."""
    other_entry: bool = False
    """Whether it is no certificate, but another entry of the configuration that has a mistake."""


class Held(Struct, frozen=True):
    """A certificate that is due, and rests after failures so that the CA's limits are not used up."""

    name: str
    reason: str
    until: datetime
    """Aware, UTC."""
    times: int
    """How often it failed in a row in the same way."""


class DueList(Struct, frozen=True):
    """What there is to do, and what will be next."""

    looked_at: int
    due: tuple[Due, ...]
    """The most urgent first."""
    next_name: str
    """The certificate that comes due after these; empty when there is none."""
    next_at: datetime | None
    """When it does; aware, UTC."""
    held: tuple[Held, ...] = ()
    """What is due and not tried in this run, the first to be tried again first."""
    put_off: tuple[Due, ...] = ()
    """What is due and left to the next days, so that its authority is asked for about as many each day."""
    unknown: tuple[tuple[str, InkStampError], ...] = ()
    """Certificates of which it cannot be said whether they are due, each with what went wrong."""


class LedgerSnapshot(Struct, frozen=True):
    """What the ledger says of all certificates, asked once."""

    editions: Mapping[str, EditionRecord]
    ordering: AbstractSet[str]
    installs: Mapping[str, Mapping[str, InstallRecord]]
    setbacks: Mapping[str, RecordedFailure]
    observed: Mapping[str, Observation]


def known_of(context: StatusContext, names: tuple[str, ...], *, even_held: bool) -> LedgerSnapshot:
    """Read what the ledger knows of some certificates; with `even_held`, what failed lately does not count."""
    ledger, wanted = context.ledger, names_to_ask_about(context, names)
    context.certificates.read(names)
    context.shelf.expect_keys(names)
    with ledger.snapshot():
        # An order at a portal waits for people while the edition before it is good; it is told when that comes due.
        return LedgerSnapshot(
            editions=ledger.newest_editions(wanted),
            ordering=ledger.certificates_with_open_orders() - {each.certificate for each in ledger.waiting_orders()},
            installs=ledger.installs.by_server(wanted),
            setbacks={} if even_held else ledger.failures.all(wanted),
            observed=ledger.observations.all(wanted),
        )


def find_due(
    context: StatusContext, only: tuple[str, ...] = (), selection: Selection = ALL, *, even_held: bool = False
) -> DueList:
    """Find the certificates that are due by what is known, among all or among those meant; asks and changes nothing.

    Those that failed lately rest for a while, but not when they are named, or wanted `even_held`.
    """
    context.configuration.leaves_out_mistakes = True
    names = names_meant(context, only, selection)
    known = known_of(context, names, even_held=even_held or bool(only))
    found = find_among(context, names, known)
    if only:
        return found
    if not even_held:
        found = levelled(context, found, known)
    found = with_the_others(context, found, selection)
    return found if selection else replace(found, unknown=(*found.unknown, *mistaken(context)))


def mistaken(context: StatusContext) -> tuple[tuple[str, InkStampError], ...]:
    """Return the entries that are left out since they have a mistake, each with what is wrong."""
    config = context.config
    return tuple((key, each.error) for key, each in {**config.mistaken, **config.mistaken_beside}.items())


def names_meant(context: StatusContext, only: tuple[str, ...], selection: Selection = ALL) -> tuple[str, ...]:
    """Return the certificates that have to be looked at: those named, else those whose time it may be.

    Those are all of the file, where nothing is selected of the roster, and those of the roster that are not known to
    be as they should be until later.

    Raises:
        UsageError: One that is named, or the group, is not configured.

    """
    context.certificates.read(only)
    for name in only:
        context.certificates.entry(name)
    if only:
        return only
    context.certificates.expect_group(selection)
    of_file = () if selection else tuple(context.config.certificate)
    return tuple(dict.fromkeys((*of_file, *context.certificates.to_look_at(context.clock.now(), selection))))


def with_the_others(context: StatusContext, found: DueList, selection: Selection = ALL) -> DueList:
    """Add those of the roster that did not have to be looked at, since they are known to be as they should be."""
    roster, now = context.certificates.roster, context.clock.now()
    if roster is None:
        return found
    total = roster.total(selection) + (0 if selection else len(context.config.certificate))
    upcoming = roster.next_due(now, selection)
    if upcoming is None or (found.next_at is not None and found.next_at <= upcoming[1]):
        return replace(found, looked_at=total)
    return replace(found, looked_at=total, next_name=upcoming[0], next_at=upcoming[1])


def find_among(context: StatusContext, names: tuple[str, ...], known: LedgerSnapshot) -> DueList:
    """Find those of `names` that are due by what is known; otherwise as `find_due`."""
    now = context.clock.now()
    found: list[tuple[bool, float, Due]] = []
    held: list[Held] = []
    upcoming: tuple[datetime, str] | None = None
    unknown: list[tuple[str, InkStampError]] = []
    for name in names:
        edition = known.editions.get(name)
        try:
            with apart():
                reached("decide", name)
                due, decision = _judge(context, name, known, now)
                until = _rests_until(context, due, known, now) if due is not None else None
        except InkStampError as error:
            unknown.append((name, error))
            continue
        if due is None:
            if decision is not None and (upcoming is None or decision.at < upcoming[0]):
                upcoming = decision.at, name
        elif until is not None and until > now:
            held.append(Held(name, due.reason, until, known.setbacks[name].times))
        else:
            left = (edition.not_after - now).total_seconds() if edition is not None else 0.0
            found.append((not due.pressing, left, due))
    due_now = tuple(due for _, _, due in sorted(found, key=lambda each: each[:2]))
    resting = tuple(sorted(held, key=lambda each: each.until))
    next_name, next_at = (upcoming[1], upcoming[0]) if upcoming else ("", None)
    return DueList(len(names), due_now, next_name, next_at, resting, unknown=tuple(unknown))


def levelled(context: StatusContext, found: DueList, known: LedgerSnapshot) -> DueList:
    """Put off what another day does as well for, where days without any order have made a wave of it."""
    room: dict[str, int] = {}
    now, put_off = context.clock.now(), set[str]()
    waiting = Counter(context.certificates[each.name].authority for each in found.due if each.can_wait)
    for each in found.due:
        edition = known.editions.get(each.name)
        if not each.can_wait or edition is None:
            continue
        authority = context.certificates[each.name].authority
        if waiting[authority] <= FEW:
            continue
        if authority not in room:
            room[authority] = _room_today(context, authority, edition, waiting[authority], now)
        room[authority] -= 1
        if room[authority] < 0:
            put_off.add(each.name)
    return replace(
        found,
        due=tuple(each for each in found.due if each.name not in put_off),
        put_off=tuple(each for each in found.due if each.name in put_off),
    )


def _room_today(context: StatusContext, authority: str, edition: EditionRecord, waiting: int, now: datetime) -> int:
    """Return how many renewals an authority may be asked for today."""
    ledger, today = context.ledger, day_of(now)
    span = (renewal_moment(edition.not_before, edition.not_after) - edition.not_before).days
    planned = sum(ledger.observations.planned_days(authority, today + 1, today + max(span, 1)).values())
    # Editions of older releases have no planned day, and come all the same.
    load = max(planned + waiting, ledger.certificates_of(authority, now))
    return room_today(load, span, ledger.renewals_since(authority, midnight(now)))


def _judge(
    context: StatusContext, name: str, known: LedgerSnapshot, now: datetime
) -> tuple[Due | None, Decision | None]:
    """Return why something must be done for a certificate, None when nothing must, and when it is renewed."""
    entry, edition = context.certificates.entry(name), known.editions.get(name)
    if edition is None:
        is_ours = context.config.orders
        return (Due(name, "not issued yet", new_edition=True) if is_ours else None), None
    observed = of_edition(known.observed.get(name), edition)
    decision = decision_on(context, edition, observed, now)
    return _due(context, entry, edition, observed, decision, known=known, now=now), decision


def _rests_until(context: StatusContext, due: Due, known: LedgerSnapshot, now: datetime) -> datetime | None:
    """Return until when a certificate that failed is left alone; None for one that need not be."""
    setback, edition = known.setbacks.get(due.name), known.editions.get(due.name)
    config = context.config
    if setback is None or not due.new_edition or not config.authority[context.certificates[due.name].authority].is_acme:
        return None  # a CA counts failures; an install may be tried by every run, and at a portal a person acts
    if setback.last > now:
        return None  # the clock was ahead then, and how long it rests cannot be known
    told = setback.told
    counted = issubclass(told.error_class, CaProblem) and told.problem not in _OF_THE_CA
    return next_try(setback.times, setback.last, edition.not_after if edition else None, told.asked, counted=counted)


def _due(
    context: StatusContext,
    entry: Certificate,
    edition: EditionRecord,
    observed: Observation,
    decision: Decision,
    *,
    known: LedgerSnapshot,
    now: datetime,
) -> Due | None:
    """Tell why something must be done for a certificate that has an edition; None when nothing must."""
    name, reason = edition.certificate, None
    if context.config.orders:
        reason = next(reasons(context, entry, edition, observed, now, decision=decision), None)
        if reason is None and name in known.ordering:
            reason = RenewalReason("an order is open")
    if reason is not None:
        return Due(name, reason.text, new_edition=True, pressing=reason.pressing, can_wait=reason.can_wait)
    if not entry.install and (not context.config.orders or context.certificates.is_installed_elsewhere(name)):
        return None  # it is other machines' to install
    installs = known.installs.get(name, {})
    if not has_edition(installs, entry.install, edition.number):
        if stays_back(context.ledger, installs, edition):
            return None
        return Due(name, f"edition {edition.number} is not installed", new_edition=False)
    return Due(name, observed.astray, new_edition=False, astray=True) if observed.astray else None
