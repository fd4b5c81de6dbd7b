"""Work on all that is due: several orders at a time at each authority, and what they bring installed together.

An order takes seconds and waits for others most of the time, so that many go on beside one another. An install is the
opposite: a server that serves thousands of sites takes seconds for each reload, whatever it is for. So what is issued
is put by, and a server takes all that has come in for it with one reload: the first at once, the others when some time
has passed since, the last when no more is to come.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import ExitStack, contextmanager, suppress
from functools import partial
from queue import Empty, SimpleQueue
from typing import TYPE_CHECKING, TypeVar

from inkstamp.bulkhead import apart, at_step, attempt, reached, submit
from inkstamp.clock import Clock
from inkstamp.deadline import at_least, is_over
from inkstamp.errors import Busy, CaProblem, InkStampError, StillWaiting
from inkstamp.jobs.deployment.rollback import recover
from inkstamp.jobs.deployment.rollout import install_together
from inkstamp.jobs.deployment.transaction import Result
from inkstamp.jobs.lifecycle.proposal import Plan
from inkstamp.jobs.lifecycle.provisioning import (
    ComeBy,
    Outcome,
    carry_out,
    come_by,
    is_installed,
    put_in_place,
    say_installs,
    settle,
)
from inkstamp.jobs.renewal.rate_limits import RateLimits
from inkstamp.jobs.renewal.watch import Watch
from inkstamp.ledger.failures import failure_kept
from inkstamp.locks import Quota

if TYPE_CHECKING:
    from inkstamp.jobs.status.due import Due
    from inkstamp.runtime import Runtime

Ended = Outcome | InkStampError
"""What became of a certificate."""

_T = TypeVar("_T")
_TRIES = 4
"""How often a CA is asked for one certificate in a run, where it limits that."""
_GATHER_SECONDS = 20.0
"""How long a server is left alone after an install: its workers of before have time to end."""
_INSTALL_SECONDS = 900.0
_MOST = 200
"""Certificates installed at a time; each of them is held meanwhile."""


def work_off(
    runtime: "Runtime", due: Sequence["Due"], limits: Mapping[str, int], watch: Watch | None = None
) -> Iterator[tuple["Due", Ended]]:
    """Renew what is due; yields what became of each, in the order of `due`.

    Args:
        runtime: The parts of the run.
        due: What to work on, the most urgent first.
        limits: By authority, how many certificates are ordered at the same time.
        watch: Told how far it is.

    """
    ended: dict[str, Ended] = {}
    told = 0
    rates = RateLimits(runtime.clock, runtime.progress, runtime.locks)
    if watch is not None:
        watch.begins(len(due))
    for name, result in _each_ended(runtime, due, limits, rates):
        ended[name] = result
        if watch is not None:
            watch.ended(failed=isinstance(result, InkStampError), rests=rates.seconds_left())
        while told < len(due) and due[told].name in ended:
            yield due[told], ended[due[told].name]
            told += 1


def _each_ended(
    runtime: "Runtime", due: Sequence["Due"], limits: Mapping[str, int], rates: RateLimits
) -> Iterator[tuple[str, Ended]]:
    """Yield what became of each as it is known."""
    runtime.certificates.read(each.name for each in due)
    _put_back_cut_off(runtime, due)
    ordered: SimpleQueue[Future[ComeBy | Ended]] = SimpleQueue()
    running: dict[Future[ComeBy | Ended], Due] = {}
    with _pools(limits, runtime.clock) as pools:
        for each in due:
            authority = runtime.certificates[each.name].authority
            quota = Quota(authority, limits[authority])
            future = submit(pools[authority], partial(_order, runtime, rates=rates, quota=quota), each)
            running[future] = each
            future.add_done_callback(ordered.put)
        put_by: list[ComeBy] = []
        urgency = {each.name: number for number, each in enumerate(due)}
        earliest = runtime.clock.monotonic()
        while running or put_by:
            pause = max(earliest - runtime.clock.monotonic(), 0.0) if put_by else None
            with suppress(Empty):
                future = ordered.get(bool(running), pause)
                name, got = running.pop(future).name, attempt(future.result)
                if not isinstance(got, ComeBy):
                    yield name, got
                    continue
                put_by = sorted([*put_by, got], key=lambda each: urgency[each.edition.certificate])
            if put_by and (not running or runtime.clock.monotonic() >= earliest):
                now, put_by = put_by[:_MOST], put_by[_MOST:]
                with at_least(_INSTALL_SECONDS):  # what was issued is not left lying because the run's time is over
                    done = _install(runtime, now)
                yield from done
                earliest = runtime.clock.monotonic() + _GATHER_SECONDS


@contextmanager
def _pools(limits: Mapping[str, int], clock: Clock) -> Iterator[dict[str, ThreadPoolExecutor]]:
    """Give threads for each authority; when the run is ended, what has not begun does not begin, and none waits on."""
    with ExitStack() as stack:
        pools = {name: stack.enter_context(ThreadPoolExecutor(limit)) for name, limit in limits.items()}
        try:
            yield pools
        except BaseException as error:
            for pool in pools.values():
                pool.shutdown(wait=False, cancel_futures=True)
            if isinstance(error, KeyboardInterrupt):
                clock.stop_waiting()
            raise


def _put_back_cut_off(runtime: "Runtime", due: Sequence["Due"]) -> None:
    """Put back what a run left that was killed while it installed many, all of it with one reload.

    `settle` would do it for each as its turn comes. What another run is at work on is left to it.
    """
    installs = runtime.ledger.installs
    cut_off = installs.certificates_begun()
    with ExitStack() as stack:
        records = []
        for name in [each.name for each in due if each.name in cut_off][:_MOST]:
            with suppress(Busy):
                stack.enter_context(runtime.locks.certificate(name))
                records += installs.begun(name)  # read again: another run may have ended its own by now
        servers = {server for record in records for server in record.servers}
        with (
            suppress(InkStampError),
            apart(),
            runtime.locks.servers(tuple(servers)),
        ):  # `settle` meets it again, and tells
            recover(runtime, records)


def _order(runtime: "Runtime", due: "Due", rates: RateLimits, quota: Quota) -> ComeBy | Ended:
    """Come by an edition; one that is to be on no server, or is there already, needs no more."""

    def work() -> ComeBy | Ended:
        if is_over():
            raise StillWaiting(
                "the time limit of this run was reached before its turn",
                advice="the next run continues; find out what took so long",
            )
        reached("order", due.name)
        plan = Plan(name=due.name, entry=runtime.certificates.entry(due.name))
        counts = quota if due.new_edition else None  # what only has to be installed asks no CA
        limited = partial(_within_limits, rates, plan) if due.new_edition else _at_once
        if not plan.entry.install:
            return limited(lambda: carry_out(runtime, plan, again=due.astray, quota=counts))
        with (
            runtime.locks.certificate(due.name, counts),
            failure_kept(runtime.ledger, runtime.certificates, due.name, overcome=False),
        ):
            got = limited(lambda: come_by(runtime, plan, again=due.astray))
        return _ended(runtime, got, []) if got.in_place else got

    runtime.progress.step(due.name, f"due: {due.reason}")
    return attempt(work)


def _at_once(work: Callable[[], _T]) -> _T:
    return work()


def _within_limits(rates: RateLimits, plan: Plan, work: Callable[[], _T]) -> _T:
    """Do what asks a CA, and do it again where the CA was asked too much and says when it may be."""
    authority = plan.entry.authority
    for last in (*(False,) * (_TRIES - 1), True):
        rates.wait(authority)
        try:
            done = work()
        except CaProblem as problem:
            if not rates.met(authority, problem) or last:
                raise
        else:
            rates.passed(authority)
            break
    return done


def _install(runtime: "Runtime", some: Sequence[ComeBy]) -> list[tuple[str, Ended]]:
    """Put editions in their places together; other runs may have been at the same certificates meanwhile."""
    results: dict[str, Result] = {}
    with ExitStack() as stack:
        wishes = []
        for got in some:
            name = got.edition.certificate
            standing = attempt(_is_in_place, runtime, got, stack)
            if isinstance(standing, InkStampError):
                results[name] = standing
            elif standing:
                results[name] = []
            else:
                wishes.append(got.wish)
        try:
            with apart():
                results |= install_together(runtime, wishes)
        except InkStampError as error:
            results |= {wish.name: error for wish in wishes}
        return [(got.edition.certificate, _ended(runtime, got, results[got.edition.certificate])) for got in some]


def _is_in_place(runtime: "Runtime", got: ComeBy, stack: ExitStack) -> bool:
    """Hold a certificate for as long as `stack` does; tell whether nothing is left to be installed."""
    name = got.edition.certificate
    reached("install", name)
    stack.enter_context(runtime.locks.certificate(name))
    settle(runtime, name)
    if not got.again and is_installed(runtime, got.edition, got.entry):
        return True
    say_installs(runtime.progress, got)
    return False


def _ended(runtime: "Runtime", got: ComeBy, result: Result) -> Ended:
    """Write down what came of an install."""

    def end() -> Ended:
        with failure_kept(runtime.ledger, runtime.certificates, got.edition.certificate), at_step(got.installing):
            if isinstance(result, InkStampError):
                raise result
            return put_in_place(runtime, got, result)

    return attempt(end)
