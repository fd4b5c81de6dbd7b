"""One end for everything that is waited for.

A limit for each read is no limit at all: a server that sends a byte every few seconds is never cut off. So whoever
begins a piece of work opens a scope (`within`), and every wait inside of it, in whatever room, asks how much time is
left. Scopes nest: a look has an end, the name that it belongs to, the order, the run; the earliest counts. The limit
follows the work into threads where these are started by `inkstamp.bulkhead`.
"""

import math
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar

from inkstamp.clock import Clock

_end: ContextVar[float] = ContextVar("inkstamp_deadline", default=math.inf)


@contextmanager
def within(seconds: float) -> Iterator[None]:
    """Bound all waits of the block together to `seconds`, and to what the scopes around it leave."""
    token = _end.set(min(_end.get(), time.monotonic() + seconds))
    try:
        yield
    finally:
        _end.reset(token)


@contextmanager
def at_least(seconds: float) -> Iterator[None]:
    """Give the block so much time, whatever the scopes around it leave: to put back what was begun, to take down."""
    token = _end.set(max(_end.get(), time.monotonic() + seconds))
    try:
        yield
    finally:
        _end.reset(token)


def time_left(most: float = math.inf) -> float:
    """Return for how many seconds may be waited: what the scope leaves, `most` at most, 0 when its time is over."""
    return max(min(most, _end.get() - time.monotonic()), 0.0)


def is_over() -> bool:
    """Tell whether the time of the scope is over."""
    return time.monotonic() >= _end.get()


def wait_limit(most: float = math.inf) -> float:
    """Return the same for what takes a time-out and knows no 0, as sockets do.

    Raises:
        TimeoutError: No time is left.

    """
    left = time_left(most)
    if left <= 0:
        raise TimeoutError("no time is left")
    return left


def poll(clock: Clock, *, pause: float, seconds: float, waits: Callable[[float], None] | None = None) -> Iterator[None]:
    """Yield for each look at something that may need a while; whoever has seen enough leaves the loop.

    There is one look at least. The loop ends by itself after the first one that comes `seconds` after the beginning, or
    when the time of the scope is over.

    Args:
        clock: What waits.
        pause: Seconds between two looks.
        seconds: For all looks together.
        waits: Told before each pause for how many seconds it is.

    """
    deadline = clock.monotonic() + seconds
    while True:
        yield
        if clock.monotonic() >= deadline or is_over():
            return
        wait = time_left(pause)
        if waits is not None:
            waits(wait)
        clock.sleep(wait)
