"""Where every certificate stands."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum
from typing import TYPE_CHECKING

from inkstamp.bulkhead import apart, reached
from inkstamp.clock import whole_days
from inkstamp.config.model import Certificate, Mistake
from inkstamp.errors import Actor, InkStampError
from inkstamp.jobs.status.context import StatusContext
from inkstamp.jobs.status.renewal_reasons import decision_on, reasons
from inkstamp.jobs.status.stall import Stall, setback_stall, stall_of
from inkstamp.ledger.failures import RecordedFailure
from inkstamp.ledger.installs import has_edition
from inkstamp.ledger.observations import Observation, of_edition
from inkstamp.ledger.records import (
    OPEN_STATES,
    EditionRecord,
    InstallRecord,
    InstallState,
    OrderRecord,
    OrderState,
    PortalProof,
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
    WAITING_FOR_CA = "waiting for the CA"
    OPEN = "order open"
    ORPHANED = "not configured"
    """Its entry is gone, so nobody renews it; a server may have its edition yet."""
    MISSING = "not issued"
    DUE = "due"
    OK = "ok"


@dataclass(frozen=True, slots=True, kw_only=True)
class CertificateStatus:
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
    """Why a newer edition is; empty when none is."""
    next_command: str
    """What to type; empty when nothing to do."""
    stall: Stall | None
    """What an open order waits for; None when there is none."""

    @property
    def needs_somebody(self) -> bool:
        """Whether it is not as it should be, so that a person or the next `renew` has something to do."""
        return self.state is not CertificateState.OK


_WAITS = {
    Actor.YOU: CertificateState.WAITING_FOR_YOU,
    Actor.DNS: CertificateState.WAITING_FOR_DNS,
    Actor.SERVER: CertificateState.WAITING_FOR_SERVER,
    Actor.CA: CertificateState.WAITING_FOR_CA,
}


def all_statuses(context: StatusContext, only: str = "") -> list[CertificateStatus]:
    """Return where each configured certificate stands, or just one of them, the most urgent first."""
    configured = {only: context.configuration.certificate(only)} if only else context.config.certificate
    ledger = context.ledger
    now = context.clock.now()
    wanted = [only] if only else None
    with ledger.snapshot():
        known = _Known(
            ledger.newest_editions(wanted),
            ledger.newest_orders(wanted),
            ledger.installs.by_server(wanted),
            ledger.portal.of_open_orders(),
            ledger.failures.all(wanted),
            ledger.observations.all(wanted),
        )
    editions = known.editions
    found = [_status_of(context, name, entry, known, now) for name, entry in configured.items()]
    if not only:
        found += [
            _mistaken(name, mistake, editions.get(name), now) for name, mistake in context.config.mistaken.items()
        ]
        gone = editions.keys() - configured.keys() - context.config.mistaken.keys()
        found += [_orphaned(editions[name], now) for name in gone if now < editions[name].not_after]
    rank = list(CertificateState)
    far = 1 << 30
    return sorted(found, key=lambda each: (rank.index(each.state), far if each.days_left is None else each.days_left))


@dataclass(frozen=True, slots=True)
class _Known:
    """What the ledger says of all certificates, asked once."""

    editions: Mapping[str, EditionRecord]
    orders: Mapping[str, OrderRecord]
    installs: Mapping[str, Mapping[str, InstallRecord]]
    proofs: Mapping[int, Sequence[PortalProof]]
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


def _status_of(
    context: StatusContext, name: str, entry: Certificate, known: _Known, now: datetime
) -> CertificateStatus:
    """Say where one stands; what goes wrong with that is its own state, and the others are told of."""
    try:
        with apart():
            reached("status", name)
            return _judge(context, name, entry, known, now)
    except InkStampError as error:
        edition = known.editions.get(name)
        return CertificateStatus(
            name=name, names=entry.names, authority=entry.authority, servers=entry.install,
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
    stall = _stall(context, entry, order, known.proofs)
    mine = known.installs.get(name, {})
    installed = edition is not None and has_edition(mine, entry.install, edition.number)
    wanting = edition is None or wanted is not None
    state = _state(edition, order, stall, now, wanting=wanting, installed=installed)
    if state is CertificateState.NOT_INSTALLED and edition is not None and stays_back(ledger, mine, edition):
        state = CertificateState.ROLLED_BACK
    if name in known.setbacks and state is not CertificateState.OK and (stall is None or not portal):
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
        wanted=wanted.text if wanted else "",
        next_command=stall.next_command if stall else _next_command(name, state, portal=portal),
        stall=stall,
    )


def _stall(
    context: StatusContext,
    entry: Certificate,
    order: OrderRecord | None,
    proofs: Mapping[int, Sequence[PortalProof]],
) -> Stall | None:
    if order is None or order.state not in OPEN_STATES:
        return None
    authority = context.config.authority.get(order.authority)
    return stall_of(order, proofs.get(order.id, ()), entry, authority)


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
    if order is not None and stall is not None:
        return _WAITS[stall.who] if order.state is OrderState.WAITING else CertificateState.OPEN
    if edition is None:
        return CertificateState.MISSING
    if not installed:
        return CertificateState.NOT_INSTALLED
    return CertificateState.DUE if wanting else CertificateState.OK


def _next_command(name: str, state: CertificateState, *, portal: bool) -> str:
    if state is CertificateState.OK:
        return ""
    if state is CertificateState.ROLLED_BACK:
        return f"inkstamp install {name}"
    if portal and state is not CertificateState.NOT_INSTALLED:
        return f"inkstamp order {name}"
    if state in {CertificateState.DUE, CertificateState.EXPIRED}:
        return "inkstamp renew"
    return f"inkstamp stamp {name}"
