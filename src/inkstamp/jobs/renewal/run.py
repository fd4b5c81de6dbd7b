"""Renew what is due, and nothing else; one that fails never stops the others."""

from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import replace

from inkstamp.bulkhead import apart, attempt
from inkstamp.deadline import within
from inkstamp.errors import Busy, ConfigurationError, InkStampError, InternalError, StillWaiting, TtlNotExpired
from inkstamp.jobs.renewal.polling import ask_around
from inkstamp.jobs.renewal.watch import Watch
from inkstamp.jobs.status.due import (
    Due,
    DueList,
    find_among,
    known_of,
    levelled,
    mistaken,
    names_meant,
    with_the_others,
)
from inkstamp.jobs.status.next_look import settle
from inkstamp.jobs.status.run_record import is_overdue
from inkstamp.ledger.failures import record_failure
from inkstamp.ledger.records import ALL, TRIAL_ORDER, Selection
from inkstamp.ledger.run_summary import LastSweep, last_sweep, record_sweep, running

if TYPE_CHECKING:
    from inkstamp.config.model import Configuration
    from inkstamp.jobs.lifecycle.provisioning import Outcome
    from inkstamp.jobs.notification.messages import RunResult
    from inkstamp.ledger.store import Ledger
    from inkstamp.runtime import Runtime


RUN_SECONDS = 4 * 3600.0
"""For a whole run: shorter than the pause of a timer that runs twice a day, with its spread. What was not begun by
then is left to the next run; the unit of the timer gives up a while later."""
_TELLING_SECONDS = 600.0


class Renewed(Struct, frozen=True):
    """What became of one certificate that was due."""

    due: Due
    outcome: "Outcome | None"
    error: InkStampError | None


class Sweep(Struct, frozen=True):
    """A whole run of renewal."""

    found: DueList
    renewed: tuple[Renewed, ...]
    internal: tuple[InkStampError, ...] = ()
    """Internal errors that were met while people were told, and not with any certificate."""
    cut_off: datetime | None = None
    """When the run before this one began, if it was interrupted; aware, UTC."""
    missed_since: LastSweep | None = None
    """The run before this one, if others should have been made since."""

    @property
    def done(self) -> tuple[Renewed, ...]:
        """Those that are good now."""
        return tuple(each for each in self.renewed if each.error is None)

    @property
    def failed(self) -> tuple[Renewed, ...]:
        """Those that something went wrong with."""
        return tuple(each for each in self.renewed if each.error and not isinstance(each.error, Busy | StillWaiting))

    @property
    def waiting(self) -> tuple[Renewed, ...]:
        """Those that somebody else has to act for first."""
        return tuple(each for each in self.renewed if isinstance(each.error, StillWaiting))

    @property
    def awaits_person(self) -> bool:
        """Whether somebody has to do something before the next run can go on."""
        return any(not isinstance(each.error, TtlNotExpired) for each in self.waiting)

    def summary(self, at: datetime) -> LastSweep:
        """Return what it came to in figures; `at` is when it ended."""
        return LastSweep(at=at, looked_at=self.found.looked_at, renewed=len(self.done), failed=len(self.failed),
                         waiting=len(self.waiting), held=len(self.found.held))  # fmt: skip

    @property
    def again(self) -> tuple[str, ...]:
        """What to name to `renew` for another try of what failed; nothing where another entry than theirs stops it."""
        if any(each.due.other_entry for each in self.failed):
            return ()
        return tuple(each.due.name for each in self.failed)

    @property
    def elsewhere(self) -> tuple[Renewed, ...]:
        """Those that another run is at work on in this moment."""
        return tuple(each for each in self.renewed if isinstance(each.error, Busy))


def renew(
    runtime: "Runtime",
    only: tuple[str, ...] = (),
    *,
    selection: Selection = ALL,
    even_held: bool = False,
    at_once: int | None = None,
    watch: Watch | None = None,
) -> Sweep:
    """Renew what is due.

    Args:
        runtime: The parts of the run.
        only: Certificates to look at; empty for all.
        selection: Which certificates of the roster to look at, where none is named.
        even_held: Whether those are tried that failed lately, as those are that are named.
        at_once: How many of one authority are worked on at the same time; None for as many as its `at_once` says.
        watch: Told how far it is.

    """
    runtime.configuration.leaves_out_mistakes = True
    orders = _configured(runtime).orders
    if not only and orders:
        runtime.certificates.take_in_settings()
    names = names_meant(runtime, only, selection)
    machines = runtime.ledger.machines if not only and not selection else None
    presence = None
    if machines is not None:
        from inkstamp.jobs.fleet.presence import appear  # noqa: PLC0415  where machines share a ledger

        presence = appear(runtime, machines)
        names = tuple(dict.fromkeys((*names, *presence.names)))
    last, began = last_sweep(runtime.home), runtime.clock.now()
    with within(RUN_SECONDS), running(runtime.home, began) as before:
        if before is not None:
            text = f"the run that began {before:%Y-%m-%d %H:%M} UTC was interrupted; resuming"
            runtime.progress.step("renew", text)
            runtime.ledger.note("cut off", text)
        sweep = replace(
            _renew(runtime, names, only=only, selection=selection, even_held=even_held, at_once=at_once, watch=watch),
            cut_off=before,
            missed_since=last if is_overdue(last, began) else None,
        )
        summary = sweep.summary(runtime.clock.now())
        if orders:
            settle(runtime, [name for name in names if runtime.certificates.record(name) is not None])
        if machines is not None and presence is not None:
            from inkstamp.jobs.fleet.presence import settle_presence  # noqa: PLC0415  as above

            settle_presence(runtime, machines, presence, names)
        if not only and not selection:  # all were looked at: so that it is noticed when nobody does so any more
            record_sweep(runtime.home, summary)
    if orders and (runtime.config.messenger or runtime.config.renewal.metrics):
        from inkstamp.jobs.notification.messages import report  # noqa: PLC0415  the door to what a run with nothing due does without
        from inkstamp.jobs.notification.unreadable import keep_messengers  # noqa: PLC0415  as above

        with within(_TELLING_SECONDS):
            keep_messengers(runtime)
            told_of = report(runtime, _result(sweep, summary), names, mistaken=not only and not selection)
            sweep = replace(sweep, internal=told_of)
    return sweep


def _configured(runtime: "Runtime") -> "Configuration":
    """Return the configuration; where it cannot be read, the messengers that it named last are told."""
    try:
        return runtime.config
    except ConfigurationError as error:
        from inkstamp.jobs.notification.unreadable import tell_unreadable  # noqa: PLC0415  as above

        attempt(tell_unreadable, runtime, error)
        raise


def _renew(
    runtime: "Runtime",
    names: tuple[str, ...],
    *,
    only: tuple[str, ...],
    selection: Selection,
    even_held: bool,
    at_once: int | None,
    watch: Watch | None,
) -> Sweep:
    known = known_of(runtime, names, even_held=even_held or bool(only))
    newest = [edition for name in names if (edition := known.editions.get(name)) is not None]
    asked = ask_around(runtime, newest, known.observed, known.installs)
    if asked.anybody:
        known = known_of(runtime, names, even_held=even_held or bool(only))
    found = find_among(runtime, names, known)
    if not only:
        found = with_the_others(runtime, found if even_held else levelled(runtime, found, known), selection)
    results = []
    for name, error in {**dict(asked.failed), **dict(found.unknown)}.items():
        runtime.ledger.note("failed", error.what, name)
        record_failure(runtime.ledger, runtime.certificates, name, error)
        results.append(Renewed(Due(name, "it could not be checked", new_edition=False), None, error))
    for name, error in () if only or selection else mistaken(runtime):
        due = Due(name, "configuration error", new_edition=False, other_entry=name in runtime.config.mistaken_beside)
        results.append(Renewed(due, None, error))
    if runtime.config.orders and runtime.ledger.tlsa.all():
        from inkstamp.jobs.deployment.tlsa_rollover import go_on_with_changes  # noqa: PLC0415  as below

        go_on_with_changes(runtime)
    if runtime.home.standing("").is_dir() and (found.due or runtime.shared is not None):
        from inkstamp.jobs.validation.standing_keys import recover_all_standing  # noqa: PLC0415  as below

        recover_all_standing(runtime)
    if found.due:
        swept = attempt(sweep_proofs, runtime) if runtime.config.orders else None
        if isinstance(swept, InkStampError):
            runtime.progress.step("proofs", f"challenge responses of earlier runs could not be removed: {swept.what}")
        if runtime.home.hardened("").is_dir():
            from inkstamp.jobs.deployment.hardening import recover_all_hardening  # noqa: PLC0415  as below

            recover_all_hardening(runtime)
        results += _each_done(runtime, found.due, at_once, watch)
    return Sweep(found, tuple(results))


def _result(sweep: Sweep, summary: LastSweep) -> "RunResult":
    from inkstamp.jobs.notification.messages import RunResult  # noqa: PLC0415  as above

    return RunResult(
        summary=summary,
        renewed=tuple(each.outcome.edition for each in sweep.done if each.outcome is not None and each.outcome.issued),
        errors={each.due.name: each.error for each in sweep.renewed if each.error is not None},
        cut_off=sweep.cut_off,
        missed_since=sweep.missed_since,
    )


def _each_done(runtime: "Runtime", due: Sequence[Due], at_once: int | None, watch: Watch | None) -> Iterator[Renewed]:
    """Work on all that is due; yields what became of each in order of urgency."""
    from inkstamp.jobs.renewal.batch import work_off  # noqa: PLC0415  as above

    config = runtime.config
    authorities = {runtime.certificates[each.name].authority for each in due}
    limits = {name: at_once or config.authority[name].at_once for name in authorities}
    for each, ended in work_off(runtime, due, limits, watch):
        if not isinstance(ended, InkStampError):
            yield Renewed(each, ended, None)
            continue
        if not isinstance(ended, Busy | StillWaiting):
            runtime.ledger.note("failed", ended.what, each.name)
        if isinstance(ended, InternalError) and not _is_recorded(runtime.ledger, each.name, ended):
            record_failure(runtime.ledger, runtime.certificates, each.name, ended)
        yield Renewed(each, None, ended)


def _is_recorded(ledger: "Ledger", name: str, error: InternalError) -> bool:
    setback = ledger.failures.of(name)
    return setback is not None and setback.told.traceback == error.traceback


def sweep_proofs(runtime: "Runtime") -> None:
    """Take down proofs that killed runs left behind for orders that no one continues with."""
    ledger = runtime.ledger
    left = ledger.orders_with_proofs()
    if not left:
        return
    from inkstamp.jobs.validation.web_files import take_down_of  # noqa: PLC0415  as above

    ordering = ledger.certificates_with_open_orders()
    for order_id in left:
        name = ledger.certificate_of_order(order_id)
        if name in ordering and runtime.certificates.get(name) is not None:
            continue  # its own run takes it down
        try:
            with apart(), runtime.locks.trial(0.0) if order_id == TRIAL_ORDER else runtime.locks.certificate(name):
                take_down_of(runtime, order_id)
        except Busy:
            continue
        except InkStampError as error:  # the next run tries again
            runtime.progress.step(
                name or "trial", f"a challenge response of an earlier run could not be removed: {error.what}"
            )
