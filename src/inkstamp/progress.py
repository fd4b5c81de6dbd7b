"""How jobs tell what they are doing, without knowing who listens."""

from collections.abc import Iterable, Sequence
from typing import Protocol, TypeVar

from inkstamp.findings import Finding

T = TypeVar("T")


class Progress(Protocol):
    """Told about each step as it begins; the default one keeps silent."""

    def step(self, certificate: str, text: str) -> None:
        """Say that a step begins (`order`, `prove`), in a few words."""
        ...

    def waits(self, why: str, seconds: float) -> None:
        """Say that nothing will happen for some seconds, and why."""
        ...

    def found(self, certificate: str, finding: Finding) -> None:
        """Tell a finding at the moment it is made."""
        ...

    def counts(self, what: str, done: int, total: int) -> None:
        """Say how many of many are done; `what` says what is done with them (`checked`)."""
        ...

    def stopped(self, what: str, left: Sequence[str], total: int, stop: KeyboardInterrupt) -> None:
        """Say that a person, or SIGTERM, ended the work on many, and which are left; the command fails by it."""
        ...


def as_far_as_it_goes(
    progress: Progress, what: str, results: Iterable[tuple[int, T]], titles: Sequence[str]
) -> dict[int, T]:
    """Take in what comes of each of many, telling how many are done; returns it by number, in order.

    When a person ends it with Ctrl-C, what is done is returned, and what is not is told. With nothing done, the whole
    command ends.

    Args:
        progress: Who is told.
        what: What is done with them, in one word (`checked`).
        results: Numbers, from 0, and what came of them, as they are done.
        titles: What each of all is called.

    """
    done: dict[int, T] = {}
    try:
        for number, result in results:
            done[number] = result
            progress.counts(what, len(done), len(titles))
    except KeyboardInterrupt as stop:
        if not done:
            raise
        left = [title for number, title in enumerate(titles) if number not in done]
        progress.stopped(what, left, len(titles), stop)
    return dict(sorted(done.items()))


class Silent:
    """Tells nobody."""

    def step(self, certificate: str, text: str) -> None:
        """Keep silent."""

    def waits(self, why: str, seconds: float) -> None:
        """Keep silent."""

    def found(self, certificate: str, finding: Finding) -> None:
        """Keep silent."""

    def counts(self, what: str, done: int, total: int) -> None:
        """Keep silent."""

    def stopped(self, what: str, left: Sequence[str], total: int, stop: KeyboardInterrupt) -> None:  # noqa: ARG002  it tells nobody
        """End the command, and tell nobody what is left."""
        raise stop
