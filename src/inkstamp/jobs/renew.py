"""Renew what is due, and nothing else; one that fails never stops the others."""

from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING

from inkstamp.errors import Busy, InkStampError, StillWaiting
from inkstamp.jobs.status import stays_back
from inkstamp.ledger.installs import has_edition
from inkstamp.ledger.records import TRIAL_ORDER
from inkstamp.renewal.when import decide

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
class DueList:
    """What there is to do, and what will be next."""

    looked_at: int
    due: tuple[Due, ...]
    """The most urgent first."""
    next_name: str
    """The certificate that comes due after these; empty when there is none."""
    next_at: datetime | None
    """When it does; aware, UTC."""


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
    """Find the certificates that are due, among all or among those named, changing nothing."""
    names = only or tuple(workplace.config.certificate)
    for name in only:
        workplace.certificate(name)
    ledger = workplace.ledger
    now = workplace.clock.now()
    editions = ledger.newest_editions()
    # An order at a portal waits for people while the edition before it is good; it is told when that comes due.
    ordering = ledger.certificates_with_open_orders() - {each.certificate for each in ledger.waiting_orders()}
    installs = ledger.installs.by_server()
    found: list[tuple[float, Due]] = []
    upcoming: tuple[datetime, str] | None = None
    for name in names:
        edition = editions.get(name)
        if edition is None:
            found.append((0.0, Due(name, "it has no edition yet", new_edition=True)))
            continue
        decision = decide(edition.not_before, edition.not_after, now)
        urgency = (edition.not_after - now).total_seconds()
        if decision.due:
            found.append((urgency, Due(name, decision.reason, new_edition=True)))
        elif name in ordering:
            found.append((urgency, Due(name, "an order is open", new_edition=True)))
        elif not has_edition(
            installs.get(name, {}), workplace.config.certificate[name].install, edition.number
        ) and not stays_back(ledger, installs.get(name, {}), edition):
            found.append((urgency, Due(name, f"edition {edition.number} is not installed", new_edition=False)))
        elif upcoming is None or decision.at < upcoming[0]:
            upcoming = (decision.at, name)
    due = tuple(due for _, due in sorted(found, key=lambda pair: pair[0]))
    return DueList(len(names), due, *((upcoming[1], upcoming[0]) if upcoming else ("", None)))


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
        return Sweep(found, ())
    _sweep_proofs(workplace)
    results = []
    with _mapper(at_once) as at_work:
        for result in at_work(lambda each: _renew_one(workplace, each), found.due):
            results.append(result)
            told(result)
    return Sweep(found, tuple(results))


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
