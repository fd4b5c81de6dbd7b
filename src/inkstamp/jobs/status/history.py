"""What happened, as the ledger has it."""

from inkstamp.jobs.status.context import StatusContext
from inkstamp.ledger.records import EventRecord


def history(context: StatusContext, certificate: str = "", last: int = 40) -> list[EventRecord]:
    """Return the last events, of one certificate or of all, the oldest first; none where there is no ledger yet."""
    if not context.has_ledger():
        return []
    return context.ledger.events(certificate, last)
