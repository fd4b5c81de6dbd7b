"""Keep what stands in a certificate's way, so that `why` can tell it the next morning."""

from collections.abc import Iterator
from contextlib import contextmanager
from datetime import timedelta
from typing import TYPE_CHECKING

from inkstamp.bulkhead import apart
from inkstamp.errors import Busy, CaProblem, ConfigurationError, InkStampError, InternalError, LedgerTrouble, UsageError
from inkstamp.ledger.failures import FailureReport

if TYPE_CHECKING:
    from inkstamp.jobs.workplace import Workplace

_NO_SETBACK = (Busy, ConfigurationError, LedgerTrouble, UsageError)
"""What is wrong with the command, or cannot be written down."""


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


@contextmanager
def kept(workplace: "Workplace", certificate: str, *, overcome: bool = True) -> Iterator[None]:
    """Write an error that leaves the block into the ledger; strike out the one before when none does.

    Not with `overcome` False: for a block after which there is more to do.
    """
    ledger = workplace.ledger
    try:
        with apart():
            yield
    except _NO_SETBACK:
        raise
    except InkStampError as error:
        record(workplace, certificate, error)
        raise
    if overcome:
        ledger.setbacks.overcome(certificate)


def record(workplace: "Workplace", certificate: str, error: InkStampError) -> None:
    """Write what stands in a certificate's way into the ledger; nothing of one that was never configured."""
    if certificate not in workplace.config.certificate:
        return
    order = workplace.ledger.open_order(certificate)
    pause = error.retry_after if isinstance(error, CaProblem) else None
    told = FailureReport(
        kind=error.class_name,
        step=error.step,
        what=error.what,
        where=error.where,
        said=error.said,
        problem=error.kind if isinstance(error, CaProblem) else "",
        advice=error.advice,
        findings=error.findings,
        order=order.id if order is not None else 0,
        asked=workplace.clock.now() + timedelta(seconds=pause) if pause else None,
        traceback=error.traceback if isinstance(error, InternalError) else "",
    )
    workplace.ledger.setbacks.meet(certificate, told)
