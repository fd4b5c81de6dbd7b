"""Renew what is due, and nothing else; one that fails never stops the others."""

from collections.abc import Callable, Iterable, Iterator, Mapping
from collections.abc import Set as AbstractSet
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING

from inkstamp.errors import Busy, InkStampError, StillWaiting
from inkstamp.jobs.status import stays_back
from inkstamp.jobs.sweep_record import LastSweep, record_sweep
from inkstamp.ledger.installs import has_edition
from inkstamp.ledger.records import TRIAL_ORDER, EditionRecord, InstallRecord
from inkstamp.ledger.setbacks import Setback
from inkstamp.renewal.when import decide, next_try

if TYPE_CHECKING:
    from inkstamp.jobs.stamp import Outcome
    from inkstamp.jobs.workplace import Workplace


@dataclass(frozen=True, slots=True)
class Due:
    """A certificate that something must be done for."""

    name: str
    reason: str
    new_edition: bool
    """False when the newest edition only has to be installed."""


@dataclass(frozen=True, slots=True)
class Renewed:
    """What became of one certificate that was due."""

    due: Due
    outcome: "Outcome | None"
    error: InkStampError | None


@dataclass(frozen=True, slots=True)
class Held:
    """A certificate that is due, and rests after failures so that the CA's limits are not used up."""

    name: str
    reason: str
    until: datetime
    """Aware, UTC."""
    times: int
    """How often it failed in a row in the same way."""


@dataclass(frozen=True, slots=True)
class DueList:
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


@dataclass(frozen=True, slots=True)
class Sweep:
    """A whole run of renewal."""

    found: DueList
    renewed: tuple[Renewed, ...]

    @property
    def failed(self) -> tuple[Renewed, ...]:
        """Those that something went wrong with."""
        return tuple(
            each for each in self.renewed if each.error is not None and not isinstance(each.error, StillWaiting)
        )

    @property
    def waiting(self) -> tuple[Renewed, ...]:
        """Those that somebody else has to act for first."""
        return tuple(each for each in self.renewed if isinstance(each.error, StillWaiting))


def find_due(workplace: "Workplace", only: tuple[str, ...] = ()) -> DueList:
    """Find the certificates that are due, among all or among those named, changing nothing.

    Those that failed lately rest for a while, but not when they are named.
    """
    names = only or tuple(workplace.config.certificate)
    for name in only:
        workplace.certificate(name)
    ledger = workplace.ledger
    now = workplace.clock.now()
    # An order at a portal waits for people while the edition before it is good; it is told when that comes due.
    known = _Known(
        editions=ledger.newest_editions(),
        ordering=ledger.certificates_with_open_orders() - {each.certificate for each in ledger.waiting_orders()},
        installs=ledger.installs.by_server(),
        setbacks={} if only else ledger.setbacks.all(),
    )
    found: list[tuple[float, Due]] = []
    held: list[Held] = []
    upcoming: tuple[datetime, str] | None = None
    for name in names:
        edition = known.editions.get(name)
        due = _due(workplace, name, known, now)
        if due is None:
            if edition is not None:
                at = decide(edition.not_before, edition.not_after, now).at
                upcoming = min(upcoming, (at, name)) if upcoming is not None else (at, name)
            continue
        setback = known.setbacks.get(name)
        until = next_try(setback.times, setback.last, edition.not_after if edition else None) if setback else now
        if setback is not None and due.new_edition and until > now and _counts_failures(workplace, name):
            held.append(Held(name, due.reason, until, setback.times))
        else:
            urgency = (edition.not_after - now).total_seconds() if edition is not None else 0.0
            found.append((urgency, due))
    due_now = tuple(due for _, due in sorted(found, key=lambda pair: pair[0]))
    resting = tuple(sorted(held, key=lambda each: each.until))
    next_name, next_at = (upcoming[1], upcoming[0]) if upcoming else ("", None)
    return DueList(len(names), due_now, next_name, next_at, resting)


def _counts_failures(workplace: "Workplace", name: str) -> bool:
    """Tell whether a certificate comes from a CA that counts failures: at a portal a person acts."""
    config = workplace.config
    return config.authority[config.certificate[name].authority].kind == "acme"


@dataclass(frozen=True, slots=True)
class _Known:
    """What the ledger says of all certificates, asked once."""

    editions: Mapping[str, EditionRecord]
    ordering: AbstractSet[str]
    installs: Mapping[str, Mapping[str, InstallRecord]]
    setbacks: Mapping[str, Setback]


def _due(workplace: "Workplace", name: str, known: _Known, now: datetime) -> Due | None:
    """Tell why something must be done for a certificate; None when nothing must."""
    edition, entry = known.editions.get(name), workplace.config.certificate[name]
    if edition is None:
        return Due(name, "it has no edition yet", new_edition=True)
    reason = next(_reasons(workplace, edition, known, now), "")
    if reason:
        return Due(name, reason, new_edition=True)
    installs = known.installs.get(name, {})
    if not has_edition(installs, entry.install, edition.number) and not stays_back(workplace.ledger, installs, edition):
        return Due(name, f"edition {edition.number} is not installed", new_edition=False)
    return None


def _reasons(workplace: "Workplace", edition: EditionRecord, known: _Known, now: datetime) -> Iterator[str]:
    """Yield why a newer edition is wanted, the most pressing reason first."""
    name = edition.certificate
    decision = decide(edition.not_before, edition.not_after, now)
    if decision.due:
        yield decision.reason
    if name in known.ordering:
        yield "an order is open"
    lacking = [each for each in workplace.config.certificate[name].names if each not in edition.names]
    if lacking:
        yield f"edition {edition.number} does not cover {', '.join(lacking)}"
    if not workplace.shelf.has_key(name, edition.number):
        yield f"the key of edition {edition.number} is gone"


def renew(
    workplace: "Workplace",
    only: tuple[str, ...] = (),
    *,
    at_once: int = 1,
    told: Callable[[Renewed], None] = lambda _renewed: None,
) -> Sweep:
    """Renew what is due.

    Args:
        workplace: The run's surroundings.
        only: Certificates to look at; empty for all.
        at_once: How many are worked on at the same time.
        told: Called as each is done, from one thread at a time and in order of urgency.

    """
    found = find_due(workplace, only)
    if not found.due:
        return _recorded(workplace, Sweep(found, ()), only)
    _sweep_proofs(workplace)
    results = []
    with _mapper(at_once) as at_work:
        for result in at_work(lambda each: _renew_one(workplace, each), found.due):
            results.append(result)
            told(result)
    return _recorded(workplace, Sweep(found, tuple(results)), only)


def _recorded(workplace: "Workplace", sweep: Sweep, only: tuple[str, ...]) -> Sweep:
    """Write down that all certificates were looked at, so that it is noticed when nobody does so any more."""
    if not only:
        done = len(sweep.renewed) - len(sweep.failed) - len(sweep.waiting)
        last = LastSweep(at=workplace.clock.now(), looked_at=sweep.found.looked_at, renewed=done,
                         failed=len(sweep.failed), waiting=len(sweep.waiting), held=len(sweep.found.held))  # fmt: skip
        record_sweep(workplace.home, last)
    return sweep


@contextmanager
def _mapper(at_once: int) -> Iterator[Callable[[Callable[[Due], Renewed], Iterable[Due]], Iterable[Renewed]]]:
    """Give a `map` that works on so many at the same time."""
    if at_once <= 1:
        yield map
        return
    from concurrent.futures import ThreadPoolExecutor

    with ThreadPoolExecutor(max_workers=at_once) as pool:
        yield pool.map


def _renew_one(workplace: "Workplace", due: Due) -> Renewed:
    from inkstamp.jobs.plan import Plan
    from inkstamp.jobs.stamp import carry_out

    workplace.progress.step(due.name, f"is due: {due.reason}")
    try:
        plan = Plan(name=due.name, entry=workplace.certificate(due.name))
        return Renewed(due, carry_out(workplace, plan), None)
    except InkStampError as error:
        if not isinstance(error, Busy | StillWaiting):
            workplace.ledger.note("failed", error.what, due.name)
        return Renewed(due, None, error)


def _sweep_proofs(workplace: "Workplace") -> None:
    """Take down proofs that killed runs left behind for orders that no one goes on with."""
    ledger = workplace.ledger
    left = ledger.orders_with_proofs()
    if not left:
        return
    from inkstamp.jobs.prove import take_down_of

    ordering = ledger.certificates_with_open_orders()
    for order_id in left:
        name = ledger.certificate_of_order(order_id)
        if name in ordering and name in workplace.config.certificate:
            continue  # its own run takes it down
        try:
            with workplace.hold_trial(0.0) if order_id == TRIAL_ORDER else workplace.hold_certificate(name):
                take_down_of(workplace, order_id)
        except Busy:
            continue
