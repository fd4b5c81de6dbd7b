"""Where many are worked on, what goes wrong with one stays with that one.

Whatever leaves the work on one certificate, site, server or name — an error of ours, a bug, a library that
gives up on a stranger's bytes — becomes the outcome of that one; the others go on. An exception that is not ours is an
`InternalError`, which has the traceback. Only a person who breaks the run off, and a kill, end it for all.
"""

import contextvars
import sys
import traceback
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING, ParamSpec, TypeVar

from inkstamp.errors import InkStampError, InternalError
from inkstamp.printable import printable

if TYPE_CHECKING:
    from concurrent.futures import Executor, Future, ThreadPoolExecutor

S = TypeVar("S")
T = TypeVar("T")
P = ParamSpec("P")

_FOR_ALL = (KeyboardInterrupt, SystemExit, GeneratorExit)
"""What ends the run, and not the work on one. Other exceptions may derive from BaseException alone: a library that is
written in Rust raises its panics so."""
_ENDING = "interpreter shutdown"
"""In what the standard library says to a thread that begins something after the program's end has begun (Ctrl-C); that
is not to be recorded as what is wrong with a certificate."""
_MOST_TRACE = 20_000


def internal_error(error: BaseException, *, others: bool = True) -> InternalError:
    """Return an exception that nobody foresaw as an error that can be told and recorded.

    Args:
        error: The exception.
        others: Whether it stayed with one of many, of which the others are worked on all the same.

    """
    made = InternalError(
        f"internal error: {type(error).__name__}: {printable(str(error))[:500]}",
        advice=f"please report it with the output of --debug{'; all others were processed' if others else ''}",
        traceback=printable("".join(traceback.format_exception(error)))[-_MOST_TRACE:],
    )
    made.__cause__ = error
    return made


@contextmanager
def apart() -> Iterator[None]:
    """Turn what leaves the block, and was not foreseen, into an InternalError; an error of ours stays what it is.

    Raises:
        InkStampError: Whatever went wrong, short of what ends the whole run.
        KeyboardInterrupt: The run was broken off, and this thread has outlived it.

    """
    try:
        yield
    except (InkStampError, *_FOR_ALL):
        raise
    except BaseException as error:
        if isinstance(error, RuntimeError) and _ENDING in str(error):
            raise KeyboardInterrupt from error
        raise internal_error(error) from error


@contextmanager
def at_step(text: str) -> Iterator[None]:
    """Say for every error that leaves the block what was being done, unless a block inside said so."""
    try:
        with apart():
            yield
    except InkStampError as error:
        if error.step:
            raise
        raise error.amended(step=text) from error.__cause__


def attempt(work: Callable[P, T], *about: P.args, **options: P.kwargs) -> T | InkStampError:
    """Do the work on one of many; returns what came of it, or what went wrong."""
    try:
        with apart():
            return work(*about, **options)
    except InkStampError as error:
        return error


def reached(place: str, about: str = "") -> None:
    """Tell whoever audits this process that the work on one of many has reached a place (sys.audit, PEP 578).

    Nobody does in production. Tests have an exception thrown there, to check that it stays with that one.
    """
    sys.audit(f"inkstamp.{place}", about)


def submit(pool: "Executor", work: Callable[[S], T], subject: S) -> "Future[T]":
    """Have a thread of `pool` do a piece of work under the deadline that holds here."""
    return pool.submit(contextvars.copy_context().run, work, subject)


@contextmanager
def threads(number: int, *, abandoned: bool = False) -> "Iterator[ThreadPoolExecutor]":
    """Give threads; when the block is left before all is done, what has not begun does not begin.

    What has begun is waited for, since it may change something; not where it only looks and may be `abandoned`.
    """
    from concurrent.futures import ThreadPoolExecutor  # noqa: PLC0415  `status` has no use for threads

    pool = ThreadPoolExecutor(number)
    try:
        yield pool
    except (KeyboardInterrupt, GeneratorExit):
        pool.shutdown(wait=not abandoned, cancel_futures=True)
        raise
    except BaseException:
        pool.shutdown(cancel_futures=True)
        raise
    pool.shutdown()


def side_by_side(work: Callable[[S], T], subjects: Sequence[S], at_once: int) -> list[T]:
    """Do the work for each subject, `at_once` at the same time; returns what came of each, in their order.

    What it raises for one is raised here, after all are done: work that may fail for one returns what `attempt` does.
    """
    if len(subjects) < 2 or at_once < 2:
        return [work(each) for each in subjects]
    with threads(min(at_once, len(subjects))) as pool:
        futures = [submit(pool, work, each) for each in subjects]
        return [each.result() for each in futures]


def as_they_end(work: Callable[[S], T], subjects: Iterable[S], at_once: int) -> Iterator[T]:
    """Look at each, several at the same time; yields what came of each as it is done, and may be left at any time."""
    from concurrent.futures import as_completed  # noqa: PLC0415  as above

    waiting = list(subjects)
    with threads(max(min(at_once, len(waiting)), 1), abandoned=True) as pool:
        for done in as_completed([submit(pool, work, each) for each in waiting]):
            yield done.result()
