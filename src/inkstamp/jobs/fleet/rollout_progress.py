"""New editions that machines are given in steps: how far each is, and the next step when those before serve well."""

from collections.abc import Mapping, Sequence
from enum import StrEnum

from msgspec import Struct

from inkstamp.bulkhead import apart
from inkstamp.config.sharing import not_shared, servers_on
from inkstamp.errors import InkStampError, UsageError
from inkstamp.jobs.fleet.context import AssignmentContext
from inkstamp.ledger.machine_records import Machine
from inkstamp.ledger.staged_rollouts import StagedRollout, StagedRollouts
from inkstamp.policy.rollout_steps import steps_of
from inkstamp.wording import some_of

_MINUTE = 60.0


class RolloutState(StrEnum):
    """What a roll-out waits for."""

    GIVING = "a step begins"
    """Machines of a step have not been given the edition yet: the next run of a worker does so."""
    INSTALLING = "machines install"
    STOPPED = "stopped"
    """A machine of a step failed, or serves something else: no further one is given the edition."""
    AWAY = "machines are away"
    """No machine of the step gives a sign of life."""
    SERVED = "waiting"
    """All of the step serve it; the next begins after a while."""
    DONE = "done"
    WENT_BACK = "taken back"


class RolloutProgress(Struct, frozen=True, kw_only=True):
    """How far the newest edition of a certificate is on its way to its machines."""

    certificate: str
    edition: int
    state: RolloutState
    step: int
    """Which one it is at, from 1."""
    steps: tuple[tuple[str, ...], ...]
    """The machines of each."""
    serving: tuple[str, ...]
    """The machines that serve it."""
    waits_for: tuple[str, ...]
    """The machines that it waits for."""
    why: str
    """What went wrong there, in words; empty where nothing did."""
    hours: float
    """For how long it has been under way."""
    seconds_left: float | None
    """In how many seconds the next step may begin, where it waits for nothing else."""

    @property
    def machines(self) -> int:
        """How many machines are given it in the end."""
        return sum(map(len, self.steps))

    @property
    def is_stopped(self) -> bool:
        """Whether it goes on only when somebody does something."""
        return self.state in {RolloutState.STOPPED, RolloutState.AWAY}

    @property
    def stopped_by(self) -> str:
        """What stopped it, in words."""
        them = some_of(self.waits_for)
        if self.state is RolloutState.AWAY:
            return f"no sign of life of {them}"
        return f"{them}: {self.why}" if them else self.why

    @property
    def told(self) -> str:
        """Where it stands, in words."""
        if self.state is RolloutState.WENT_BACK:
            return "was taken back: machines have the edition before"
        so_far = f"step {self.step} of {len(self.steps)}, {len(self.serving)} of {self.machines} machines serve it"
        if self.is_stopped:
            return f"{so_far}; stopped: {self.stopped_by}"
        if self.state is RolloutState.INSTALLING:
            return f"{so_far}; waits for {some_of(self.waits_for)}"
        if self.state is RolloutState.SERVED and self.seconds_left is not None and self.seconds_left > 0:
            return f"{so_far}; the next step in {self.seconds_left / _MINUTE:.0f} min"
        return f"{so_far}; the next run of a worker goes on"


class _Seen(Struct, frozen=True):
    """What the ledger says of all that is under way, asked once."""

    machines: Mapping[str, Machine]
    installed: Mapping[tuple[str, int], Mapping[str, set[str]]]
    troubles: Mapping[tuple[str, str], str]
    away_hours: float


def expect_rollouts(context: AssignmentContext) -> StagedRollouts:
    """Return the roll-outs; UsageError where no machines share the ledger, or this one does not order."""
    if context.ledger.rollouts is None:
        raise not_shared(context.configuration.path)
    if not context.config.orders:
        raise UsageError(
            "this machine installs what others order", where="[ledger] workers",
            advice="roll-outs are led by the machines that order: run it on one of them",
        )  # fmt: skip
    return context.ledger.rollouts


def rollouts_under_way(context: AssignmentContext, certificate: str = "") -> list[RolloutProgress]:
    """Return how far each is, the oldest first, or that of one certificate."""
    rollouts = context.ledger.rollouts
    if rollouts is None or not context.config.orders:
        return []
    return [progress for _, progress in _judged(context, rollouts, certificate)]


def _judged(
    context: AssignmentContext, rollouts: StagedRollouts, certificate: str
) -> list[tuple[StagedRollout, RolloutProgress]]:
    """Return what is under way, each with how far it is."""
    under_way = rollouts.under_way(certificate)
    if not under_way:
        return []
    context.certificates.read(each.certificate for each in under_way)
    seen = _see(context, rollouts)
    return [(each, _judge(context, each, seen)) for each in under_way]


def advance_rollouts(context: AssignmentContext, certificate: str = "") -> None:
    """Begin each step whose time it is; a worker does so in each run, and when a machine has installed."""
    rollouts = context.ledger.rollouts
    if rollouts is None or not context.config.orders:
        return
    for rollout, progress in _judged(context, rollouts, certificate):
        try:
            with apart():
                _advance(context, rollouts, rollout, progress)
        except InkStampError as error:
            text = f"the roll-out of edition {rollout.edition}: {error.what}"
            context.ledger.note("failed", text, rollout.certificate)


def _advance(
    context: AssignmentContext, rollouts: StagedRollouts, rollout: StagedRollout, progress: RolloutProgress
) -> None:
    entry = context.certificates.get(rollout.certificate)
    wait = entry.rollout_wait_minutes * _MINUTE if entry is not None else 0.0
    if progress.state is RolloutState.SERVED and rollout.seconds_left is None:
        rollouts.served(rollout, wait)
        if wait > 0:
            return
    if progress.state is RolloutState.DONE:
        rollouts.end(rollout)
        told = f"edition {rollout.edition} is on all {progress.machines} machines that it was rolled out to"
        context.ledger.note("rolled out", told, rollout.certificate)
    elif progress.state is RolloutState.GIVING:
        _give(context, rollouts, rollout, progress, progress.step)
    elif progress.state is RolloutState.SERVED and (rollout.seconds_left or 0.0) <= 0:
        _give(context, rollouts, rollout, progress, progress.step + 1)


def _give(
    context: AssignmentContext, rollouts: StagedRollouts, rollout: StagedRollout, progress: RolloutProgress, step: int
) -> None:
    machines = progress.steps[step - 1]
    rollouts.give(rollout, machines)
    told = f"edition {rollout.edition}, step {step} of {len(progress.steps)}: {some_of(machines)}"
    context.ledger.note("roll-out", told, rollout.certificate)


def end_rollout(context: AssignmentContext, certificate: str) -> RolloutProgress:
    """Give an edition to all machines at once, whatever its roll-out waits for; returns how far it was.

    Raises:
        UsageError: None is under way.

    """
    rollouts = expect_rollouts(context)
    found = _expect_one(context, certificate)
    rollout = rollouts.under_way(certificate)[0]
    rollouts.end(rollout, whatever=True)
    context.ledger.note("rolled out", f"edition {rollout.edition} was given to all machines", certificate)
    return found


def take_edition_back(context: AssignmentContext, certificate: str) -> tuple[int, int]:
    """Have all machines go back to the edition before the newest one; returns the numbers of both.

    Raises:
        UsageError: There is none before it, or it has expired or is revoked.

    """
    rollouts, now = expect_rollouts(context), context.clock.now()
    context.certificates.entry(certificate)
    newest = context.ledger.newest_edition(certificate)
    before = rollouts.edition_before(certificate, newest.number) if newest is not None else None
    if newest is None or before is None:
        raise UsageError(f"“{certificate}” has no edition to go back to", advice=f"see: inkstamp history {certificate}")
    revoked = context.ledger.revocations.of(certificate, before.number) is not None
    if revoked or before.not_after <= now:
        raise UsageError(
            f"edition {before.number} of “{certificate}” {'is revoked' if revoked else 'has expired'}",
            advice=f"get a new one: inkstamp stamp {certificate} --reissue",
        )
    rollouts.go_back(certificate, newest.number)
    context.ledger.note("taken back", f"machines go back from edition {newest.number} to {before.number}", certificate)
    return newest.number, before.number


def _expect_one(context: AssignmentContext, certificate: str) -> RolloutProgress:
    context.certificates.entry(certificate)
    found = rollouts_under_way(context, certificate)
    if not found:
        raise UsageError(f"no edition of “{certificate}” is being rolled out", advice="see: inkstamp machines rollout")
    return found[0]


def _see(context: AssignmentContext, rollouts: StagedRollouts) -> _Seen:
    machines = context.ledger.machines
    with context.ledger.snapshot():
        return _Seen(
            machines={each.name: each for each in machines.all()} if machines is not None else {},
            installed=rollouts.installed(),
            troubles={(each.certificate, each.machine): each.why for each in rollouts.troubles()},
            away_hours=context.config.ledger.away_hours,
        )


def _judge(context: AssignmentContext, rollout: StagedRollout, seen: _Seen) -> RolloutProgress:
    entry, whole = context.certificates.get(rollout.certificate), context.configuration.whole
    install = context.certificates.install_of_all(rollout.certificate)
    wanted = {
        each.name: servers
        for each in seen.machines.values()
        if not each.orders and (servers := servers_on(whole, install, each.name))
    }
    steps = steps_of(entry.rollout if entry is not None else (), list(wanted))
    installed = seen.installed.get((rollout.certificate, rollout.edition), {})
    serving = tuple(
        name for name, servers in wanted.items()
        if installed.get(name, set()) >= set(servers) and (rollout.certificate, name) not in seen.troubles
    )  # fmt: skip
    state, step, waits_for = RolloutState.DONE, len(steps), tuple[str, ...]()
    if rollout.went_back:
        state, serving = RolloutState.WENT_BACK, ()
    elif entry is not None and entry.rollout:  # else it was taken out of the configuration meanwhile
        state, step, waits_for = _state_of(rollout, steps, serving, seen)
    elif entry is None and rollout.certificate in context.certificates:
        state = RolloutState.STOPPED
    return RolloutProgress(
        certificate=rollout.certificate, edition=rollout.edition, state=state, step=step, steps=steps, serving=serving,
        waits_for=waits_for, hours=rollout.hours, seconds_left=rollout.seconds_left,
        why="; ".join(
            dict.fromkeys(why for each in waits_for if (why := seen.troubles.get((rollout.certificate, each), "")))
        ) or ("its entry in the configuration has an error" if state is RolloutState.STOPPED else ""),
    )  # fmt: skip


def _state_of(
    rollout: StagedRollout, steps: Sequence[Sequence[str]], serving: Sequence[str], seen: _Seen
) -> tuple[RolloutState, int, tuple[str, ...]]:
    """Return what a roll-out waits for, the number of its step, and the machines that it waits for."""
    for number, machines in enumerate(steps, start=1):
        found = _state_of_step(rollout, number, machines, serving, seen)
        if found is not None:
            return found
    return RolloutState.DONE, len(steps), ()


def _state_of_step(
    rollout: StagedRollout, number: int, machines: Sequence[str], serving: Sequence[str], seen: _Seen
) -> tuple[RolloutState, int, tuple[str, ...]] | None:
    """Return what a step waits for; None where all its machines serve the edition, but for some that are away."""
    lacking = tuple(each for each in machines if each not in rollout.given)
    if lacking:  # also one that has joined a step that others are at
        begins = number == 1 or len(lacking) < len(machines)
        return (RolloutState.GIVING, number, ()) if begins else (RolloutState.SERVED, number - 1, ())
    waits_for = tuple(each for each in machines if each not in serving)
    failed = tuple(each for each in waits_for if (rollout.certificate, each) in seen.troubles)
    if failed:
        return RolloutState.STOPPED, number, failed
    is_there = [each for each in machines if not seen.machines[each].is_away(seen.away_hours)]
    if waits_for and not is_there:
        return RolloutState.AWAY, number, waits_for
    missing = tuple(each for each in waits_for if each in is_there)
    return (RolloutState.INSTALLING, number, missing) if missing else None
