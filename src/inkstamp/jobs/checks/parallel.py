"""Look at many names at the same time: in threads, and where there are hundreds in several processes of threads.

A look is half waiting and half work, and threads of one process do not work at the same time.
"""

import multiprocessing
import os
import signal
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ProcessPoolExecutor, as_completed
from concurrent.futures.process import BrokenProcessPool
from contextlib import contextmanager
from typing import Any, TypeVar

from inkstamp.bulkhead import as_they_end

_MANY = 100
"""Below that, starting processes takes longer than it saves."""
_CHUNK = 25

S = TypeVar("S")
T = TypeVar("T")

_work: Callable[[Any], Any]
"""What the processes of a pool do; they are forked after it is set."""


def look_at_many(work: Callable[[S], T], subjects: Sequence[S], at_once: int) -> Iterator[T]:
    """Do `work` for each subject, `at_once` at the same time; yields what comes of it, in any order.

    With many subjects it is done in forked processes: `work` must not use what another process cannot, as an open
    database, and what it returns must be picklable. A process that dies takes nothing with it: what it was at is done
    again in this one.
    """
    processes = min(os.cpu_count() or 1, at_once)
    if len(subjects) < _MANY or processes < 2:
        yield from _in_threads(work, subjects, at_once)
        return
    global _work  # noqa: PLW0603  the way into a forked process
    _work = work
    left = [subjects[begin : begin + _CHUNK] for begin in range(0, len(subjects), _CHUNK)]
    try:
        with _processes(processes) as pool:
            begun: dict[Future[list[T]], Sequence[S]] = {
                pool.submit(_do_chunk, chunk, at_once // processes): chunk for chunk in left
            }
            for done in as_completed(begun):
                yield from done.result()
                left.remove(begun[done])
    except BrokenProcessPool:
        for chunk in left:
            yield from _in_threads(work, chunk, at_once)


@contextmanager
def _processes(number: int) -> Iterator[ProcessPoolExecutor]:
    """Give processes, which are ended when the block is left before all is done."""
    pool = ProcessPoolExecutor(number, multiprocessing.get_context("fork"), initializer=_leave_stopping_to_parent)
    before = set(multiprocessing.active_children())
    try:
        yield pool
    except (KeyboardInterrupt, GeneratorExit):
        pool.shutdown(wait=False, cancel_futures=True)
        for each in set(multiprocessing.active_children()) - before:
            each.kill()
        raise
    except BaseException:
        pool.shutdown(cancel_futures=True)
        raise
    pool.shutdown()


def _leave_stopping_to_parent() -> None:
    """Ignore Ctrl-C in a process of the pool: the terminal sends it to all, and one has to tell what is done."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, signal.SIG_DFL)


def _in_threads(work: Callable[[S], T], subjects: Sequence[S], at_once: int) -> Iterator[T]:
    yield from as_they_end(work, subjects, at_once)


def _do_chunk(subjects: Sequence[S], at_once: int) -> list[T]:
    return list(_in_threads(_work, subjects, at_once))
