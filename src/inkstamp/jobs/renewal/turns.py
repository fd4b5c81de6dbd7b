"""Many editions asked about at the same time, each by itself, the answers written down in chunks."""

from collections.abc import Callable, Iterator, Sequence
from itertools import islice
from typing import TYPE_CHECKING

from inkstamp.bulkhead import attempt, reached, side_by_side
from inkstamp.deadline import is_over, within
from inkstamp.errors import InkStampError, InternalError
from inkstamp.ledger.observations import Heard, Observation
from inkstamp.ledger.records import EditionRecord

if TYPE_CHECKING:
    from inkstamp.runtime import Runtime

_EACH_SECONDS = 60.0
"""For asking about one edition."""
_AT_ONCE = 8
_TOGETHER = 64
"""Answers written down in one go: a run that is killed loses no more."""
Pair = tuple[EditionRecord, Observation]
InternalErrors = tuple[tuple[str, InkStampError], ...]
"""Certificates, and what went wrong with each that is a mistake of ours."""


def in_turns(runtime: "Runtime", pairs: Sequence[Pair], ask: Callable[[EditionRecord], Heard | None]) -> InternalErrors:
    """Ask about many at the same time and write the answers down; None is no answer. Returns the internal errors."""
    failed: list[tuple[str, InkStampError]] = []

    def ask_about(pair: Pair) -> Heard | InkStampError | None:
        edition = pair[0]
        if is_over():  # the next run asks about it
            return None
        with within(_EACH_SECONDS):
            return attempt(_ask_reached, ask, edition)

    waiting: Iterator[Pair] = iter(pairs)
    while chunk := list(islice(waiting, _TOGETHER)):
        heard = []
        for (edition, _), answer in zip(chunk, side_by_side(ask_about, chunk, _AT_ONCE), strict=True):
            if isinstance(answer, InkStampError):
                failed += told_of(runtime, edition, answer)
            elif answer is not None:
                heard.append((edition, answer))
        runtime.ledger.observations.add(heard)
    return tuple(failed)


def _ask_reached(ask: Callable[[EditionRecord], Heard | None], edition: EditionRecord) -> Heard | None:
    reached("ask", edition.certificate)
    return ask(edition)


def told_of(runtime: "Runtime", edition: EditionRecord, error: InkStampError) -> InternalErrors:
    """Tell what went wrong with one; returned is what is a mistake of ours."""
    runtime.progress.step(edition.certificate, f"could not be checked: {error.what}")
    runtime.ledger.note("not asked", error.what, edition.certificate)
    return ((edition.certificate, error),) if isinstance(error, InternalError) else ()
