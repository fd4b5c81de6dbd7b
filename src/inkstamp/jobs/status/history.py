"""What happened, as the ledger has it."""

from typing import TYPE_CHECKING

from inkstamp.ledger.records import EventRecord

if TYPE_CHECKING:
    from inkstamp.jobs.workplace import Workplace


def history(workplace: "Workplace", certificate: str = "", last: int = 40) -> list[EventRecord]:
    """Return the last events, of one certificate or of all, the oldest first; none where there is no ledger yet."""
    if not workplace.has_ledger():
        return []
    return workplace.ledger.events(certificate, last)
