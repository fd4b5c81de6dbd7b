"""Whether Python looks for garbage."""

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def collecting_none() -> Iterator[None]:
    """Do not look for garbage in the block: where all that is made stays, looking takes up to half the time."""
    was = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was:
            gc.enable()
