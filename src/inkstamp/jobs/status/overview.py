"""Where every certificate stands."""

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime, timedelta
from enum import StrEnum
from typing import TYPE_CHECKING

from msgspec import Struct

from inkstamp.bulkhead import apart, reached
from inkstamp.clock import whole_days
from inkstamp.config.carrying import is_portal, key_server
from inkstamp.config.model import Certificate, Mistake
from inkstamp.config.words import BY_HAND
from inkstamp.errors import Actor, ConfigurationError, InkStampError
from inkstamp.jobs.status.context import StatusContext
from inkstamp.jobs.status.renewal_reasons import decision_on, reasons
from inkstamp.jobs.status.stall import Stall, csr_stall, records_stall, setback_stall
from inkstamp.ledger.brought_csr import next_csr
from inkstamp.ledger.failures import RecordedFailure
from inkstamp.ledger.installs import has_edition
from inkstamp.ledger.observations import Observation, of_edition
from inkstamp.ledger.records import (
    ALL,
    OPEN_STATES,
    EditionRecord,
    InstallRecord,
    InstallState,
    OrderRecord,
    OrderState,
    PortalProof,
    PortalWait,
    Selection,
)

if TYPE_CHECKING:
    from inkstamp.ledger.store import Ledger


class CertificateState(StrEnum):
    """In one word, the most urgent first."""

    UNKNOWN = "internal error"
    """It cannot be said, since Ink Stamp itself failed at it."""
    MISCONFIGURED = "configuration error"
    """Nothing is done for it, since the configuration says what cannot be."""
    EXPIRED = "expired"
    REFUSED = "refused"
    """The CA refused the last order, and there is no good edition or it is due."""
    NOT_INSTALLED = "not installed"
    """The newest edition is not on its servers."""
    ROLLED_BACK = "rolled back"
    """Somebody undid the install of the newest edition."""
    WAITING_FOR_YOU = "waiting for you"
    """At a portal: a person has to act."""
    WAITING_FOR_DNS = "waiting for DNS"
    WAITING_FOR_SERVER = "waiting for the server"
    WAITING_FOR_APPROVAL = "waiting for approval"
    """At a portal: somebody else has to approve the order there."""
    WAITING_FOR_CA = "waiting for the CA"
    OPEN = "order open"
    ORPHANED = "not configured"
    """Its entry is gone, so nobody renews it; a server may have its edition yet."""
    MISSING = "not issued"
    DUE = "due"
    OK = "ok"


class CertificateStatus(Struct, frozen=True, kw_only=True):
    """Where one certificate stands."""

    name: str
    names: tuple[str, ...]
    authority: str
    servers: tuple[str, ...]
    state: CertificateState
    edition: int | None
    not_after: datetime | None
    days_left: int | None
    renews_at: datetime | None
    wanted: str
    """Why a newer edition is, or what servers were seen to serve instead; empty when nothing is wanted."""
    next_command: str
    """What to type; empty when nothing to do."""
    stall: Stall | None
    """What an open order waits for; None when there is none."""
    by_hand: str = ""
    """Why no timer can renew it, so that somebody is needed on the day of `renews_at`; empty where one can."""
    records: tuple[str, ...] = ()
    """How its validation records are that stay in DNS, as they were seen last."""

    @property
    def needs_somebody(self) -> bool:
        """Whether it is not as it should be, so that a person or the next `renew` has something to do."""
        return self.state is not CertificateState.OK


class GroupState(Struct, frozen=True):
    """How the certificates of a group are."""

    group: str
    total: int
    ok: int


class Overview(Struct, frozen=True, kw_only=True):
    """Where all certificates stand."""

    certificates: tuple[CertificateStatus, ...]
    """The most urgent first: all that need somebody, all of the file, and of the roster those that were read."""
    total: int
    groups: tuple[GroupState, ...]
    """Those of the roster, counted by group; empty where there is none."""
    upcoming: tuple[str, datetime] | None
    """Which certificate of the roster has to be looked at next, and when; aware, UTC."""


_WAITS = {
    Actor.YOU: CertificateState.WAITING_FOR_YOU,
    Actor.DNS: CertificateState.WAITING_FOR_DNS,
    Actor.SERVER: CertificateState.WAITING_FOR_SERVER,
    Actor.CA: CertificateState.WAITING_FOR_CA,
    Actor.APPROVER: CertificateState.WAITING_FOR_APPROVAL,
}


def overview(context: StatusContext, selection: Selection = ALL, *, whole: bool = False) -> Overview:
    """Return where all certificates stand, or a selection of the roster.

    Those of the roster that are known to be as they should be are counted and not read, unless the `whole` is wanted.

    Raises:
        UsageError: The group is not configured.

    """
    config, now, roster = context.config, context.clock.now(), context.certificates.roster
    context.certificates.expect_group(selection)
    of_roster = roster.names(selection) if roster and whole else context.certificates.to_judge(now, selection)
    statuses = statuses_of(context, [*(() if selection else config.certificate), *of_roster])
    if not selection:
        statuses = by_urgency([*statuses, *statuses_of_mistakes(context), *_orphans(context, now)])
    counts = roster.counts(selection) if roster is not None else []
    enrolled = [(each, record.group) for each in statuses if (record := context.certificates.record(each.name))]
    at_fault = Counter(group for each, group in enrolled if each.needs_somebody)
    return Overview(
        certificates=tuple(statuses),
        total=len(statuses) - len(enrolled) + sum(each.total for each in counts),
        groups=tuple(GroupState(each.group, each.total, each.total - at_fault[each.group]) for each in counts),
        upcoming=roster.next_due(now, selection) if roster is not None else None,
    )


def statuses_of(context: StatusContext, names: Sequence[str]) -> list[CertificateStatus]:
    """Return where some configured certificates stand, the most urgent first."""
    ledger, now = context.ledger, context.clock.now()
    context.certificates.read(names)
    wanted = names_to_ask_about(context, names)
    with ledger.snapshot():
        known = _Known(
            ledger.newest_editions(wanted),
            ledger.newest_orders(wanted),
            ledger.installs.by_server(wanted),
            ledger.portal.of_open_orders(),
            ledger.portal.waits_of_open_orders(),
            ledger.failures.all(wanted),
            ledger.observations.all(wanted),
        )
    return by_urgency([_status_of(context, name, known, now) for name in names])


def names_to_ask_about(context: StatusContext, names: Sequence[str]) -> Sequence[str] | None:
    """Return for which names to ask the ledger; None for all that it knows, which is quicker where they are all."""
    is_all = context.certificates.roster is None and len(names) == len(context.config.certificate)
    return None if is_all else names


def by_urgency(statuses: Iterable[CertificateStatus]) -> list[CertificateStatus]:
    """Sort them, the most urgent first."""
    rank = {state: number for number, state in enumerate(CertificateState)}
    far = 1 << 30
    return sorted(statuses, key=lambda each: (rank[each.state], far if each.days_left is None else each.days_left))


def statuses_of_mistakes(context: StatusContext) -> list[CertificateStatus]:
    """Return where those entries of the file stand that cannot be used."""
    wrong, now = {**context.config.mistaken, **context.config.mistaken_beside}, context.clock.now()
    editions = context.ledger.newest_editions(tuple(wrong))
    return [_mistaken(name, mistake, editions.get(name), now) for name, mistake in wrong.items()]


def _orphans(context: StatusContext, now: datetime) -> list[CertificateStatus]:
    """Return where those stand that have no entry any more."""
    config, editions = context.config, context.ledger.newest_editions_off_roster()
    gone = editions.keys() - config.certificate.keys() - config.mistaken.keys()
    return [_orphaned(editions[name], now) for name in gone if now < editions[name].not_after]


class _Known(Struct, frozen=True):
    """What the ledger says of all certificates, asked once."""

    editions: Mapping[str, EditionRecord]
    orders: Mapping[str, OrderRecord]
    installs: Mapping[str, Mapping[str, InstallRecord]]
    proofs: Mapping[int, Sequence[PortalProof]]
    waits: Mapping[int, PortalWait]
    setbacks: Mapping[str, RecordedFailure]
    observed: Mapping[str, Observation]


def _mistaken(name: str, mistake: Mistake, edition: EditionRecord | None, now: datetime) -> CertificateStatus:
    """Say where one stands whose entry cannot be used; an edition of before may be served yet."""
    return CertificateStatus(
        name=name, names=edition.names if edition else (), authority=edition.authority if edition else "", servers=(),
        state=CertificateState.MISCONFIGURED, edition=edition.number if edition else None,
        not_after=edition.not_after if edition else None,
        days_left=whole_days(edition.not_after, now) if edition else None, renews_at=None,
        wanted=f"{mistake.what} ({mistake.where}); {mistake.advice}",
        next_command=f"inkstamp why {name}", stall=None,
    )  # fmt: skip


def _orphaned(edition: EditionRecord, now: datetime) -> CertificateStatus:
    """Say where one stands that was in the configuration once."""
    return CertificateStatus(
        name=edition.certificate, names=edition.names, authority=edition.authority, servers=(),
        state=CertificateState.ORPHANED, edition=edition.number, not_after=edition.not_after,
        days_left=whole_days(edition.not_after, now), renews_at=None,
        wanted="it is not in the configuration and not renewed; `inkstamp survey` shows whether a site uses it",
        next_command="inkstamp survey", stall=None,
    )  # fmt: skip


def _status_of(context: StatusContext, name: str, known: _Known, now: datetime) -> CertificateStatus:
    """Say where one stands; what goes wrong with that is its own state, and the others are told of."""
    edition = known.editions.get(name)
    try:
        with apart():
            reached("status", name)
            return _judge(context, name, context.certificates.entry(name), known, now)
    except ConfigurationError as error:
        mistake = Mistake(what=error.what, where=error.where, advice=error.advice)
        return _mistaken(name, mistake, edition, now)
    except InkStampError as error:
        return CertificateStatus(
            name=name, names=edition.names if edition else (), authority="", servers=(),
            state=CertificateState.UNKNOWN, edition=edition.number if edition else None,
            not_after=edition.not_after if edition else None, days_left=None, renews_at=None,
            wanted=error.what, next_command=f"inkstamp why {name} --debug", stall=None,
        )  # fmt: skip


def _judge(context: StatusContext, name: str, entry: Certificate, known: _Known, now: datetime) -> CertificateStatus:
    ledger, order, edition = context.ledger, known.orders.get(name), known.editions.get(name)
    page = of_edition(known.observed.get(name), edition) if edition else None
    decision = decision_on(context, edition, page, now) if edition and page else None
    why = reasons(context, entry, edition, page, now, decision=decision) if edition and page else iter(())
    wanted = next(why, None)
    portal = not context.config.authority[entry.authority].is_acme
    stall = _stall(context, entry, order, known)
    awaiting = stall is None and (edition is None or wanted is not None) and awaits_csr(context, name, entry, edition)
    if awaiting:
        stall = csr_stall(name, edition, decision.at if decision is not None else now, portal=portal)
    elif stall is None and page is not None and page.records_trouble and "dns-persist-01" in entry.methods:
        stall = records_stall(name, page.records_trouble, (page.records_again or now) - timedelta(days=1))
    mine = known.installs.get(name, {})
    installed = edition is not None and (
        has_edition(mine, entry.install, edition.number) or context.certificates.is_installed_elsewhere(name)
    )
    wanting = edition is None or wanted is not None
    state = _state(edition, order, stall, now, wanting=wanting, installed=installed)
    if state is CertificateState.NOT_INSTALLED and edition is not None and stays_back(ledger, mine, edition):
        state = CertificateState.ROLLED_BACK
    astray = page.astray if page is not None and state is CertificateState.OK else ""
    if astray:  # by our records it is on its servers, and they were seen to serve something else
        state = CertificateState.NOT_INSTALLED
    by_hand = portal or awaiting or (stall is not None and stall.by_hand)
    if name in known.setbacks and state is not CertificateState.OK and (stall is None or not by_hand):
        stall = setback_stall(known.setbacks[name])
    return CertificateStatus(
        name=name,
        names=entry.names,
        authority=entry.authority,
        servers=entry.install,
        state=state,
        edition=edition.number if edition else None,
        not_after=edition.not_after if edition else None,
        days_left=whole_days(edition.not_after, now) if edition else None,
        renews_at=decision.at if decision else None,
        wanted=wanted.text if wanted else astray,
        next_command="inkstamp renew"
        if astray and stall is None
        else stall.next_command
        if stall
        else _next_command(name, state, portal=portal, enrolled=context.certificates.record(name) is not None),
        stall=stall,
        by_hand=needs_person(context, entry),
        records=tuple(page.records.splitlines()) if page is not None and "dns-persist-01" in entry.methods else (),
    )


def needs_person(context: StatusContext, entry: Certificate) -> str:
    """Say why a certificate cannot be renewed without a person; empty where it can."""
    if is_portal(context.config, entry):
        return "it is ordered at a portal"
    if entry.key_elsewhere and not entry.same_request and not key_server(entry):
        return "its CSR comes from another machine"
    by_hand = entry.carriers == (BY_HAND,) and "dns-persist-01" not in entry.methods
    return "its validation is done by hand" if by_hand else ""


def awaits_csr(context: StatusContext, name: str, entry: Certificate, edition: EditionRecord | None) -> bool:
    """Tell whether the next edition has to wait until somebody brings a CSR from where the key is."""
    number = edition.number if edition is not None else None
    return (
        entry.key_elsewhere
        and not key_server(entry)
        and next_csr(context.home, context.shelf, name, entry, number) is None
    )


def _stall(
    context: StatusContext,
    entry: Certificate,
    order: OrderRecord | None,
    known: _Known,
) -> Stall | None:
    if order is None or order.state not in OPEN_STATES:
        return None
    from inkstamp.jobs.status.portal_stall import stall_of  # noqa: PLC0415  most have no open order

    authority = context.config.authority.get(order.authority)
    return stall_of(order, known.proofs.get(order.id, ()), known.waits.get(order.id), entry, authority)


def stays_back(ledger: "Ledger", installs: Mapping[str, InstallRecord], edition: EditionRecord) -> bool:
    """Tell whether somebody undid the install of this very edition, so that no timer is to do it again."""
    undone = [each for each in installs.values() if each.state is InstallState.ROLLED_BACK]
    if not undone:
        return False
    order = ledger.order_of_edition(edition.certificate, edition.number)
    return order is None or order.changed <= max(each.at for each in undone)


def _state(
    edition: EditionRecord | None,
    order: OrderRecord | None,
    stall: Stall | None,
    now: datetime,
    *,
    wanting: bool,
    installed: bool,
) -> CertificateState:
    if edition is not None and now > edition.not_after:
        return CertificateState.EXPIRED
    if order is not None and order.state is OrderState.REFUSED and wanting:
        return CertificateState.REFUSED
    if stall is not None:  # an order, or one that needs a CSR from elsewhere
        is_led = order is not None and order.state in OPEN_STATES and order.state is not OrderState.WAITING
        is_led = is_led and not stall.by_hand
        return CertificateState.OPEN if is_led else _WAITS[stall.who]
    if edition is None:
        return CertificateState.MISSING
    if not installed:
        return CertificateState.NOT_INSTALLED
    return CertificateState.DUE if wanting else CertificateState.OK


def _next_command(name: str, state: CertificateState, *, portal: bool, enrolled: bool) -> str:
    if state is CertificateState.OK:
        return ""
    if state is CertificateState.ROLLED_BACK:
        return f"inkstamp install {name}"
    if portal and state is not CertificateState.NOT_INSTALLED:
        return f"inkstamp order {name}"
    if state in {CertificateState.DUE, CertificateState.EXPIRED} or (enrolled and state is CertificateState.MISSING):
        return "inkstamp renew"
    return f"inkstamp stamp {name}"
