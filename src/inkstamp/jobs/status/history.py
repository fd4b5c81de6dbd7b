"""What happened, as the ledger has it."""

from inkstamp.jobs.status.context import StatusContext
from inkstamp.ledger.records import ALL, EventRecord, Selection


def history(
    context: StatusContext, certificate: str = "", last: int = 40, selection: Selection = ALL
) -> list[EventRecord]:
    """Return the last events, the oldest first; none where there is no ledger yet.

    They are those of one certificate, of a selection of the roster, or all.

    Raises:
        UsageError: There is no such group.

    """
    if not context.has_ledger():
        return []
    context.certificates.expect_group(selection)
    return context.ledger.events(certificate, last, selection)
