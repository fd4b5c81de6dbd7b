"""What the room needs of a run."""

from typing import TYPE_CHECKING, Protocol

from inkstamp.parts import WithClock, WithConfiguration, WithHome, WithLedger, WithProgress

if TYPE_CHECKING:
    from inkstamp.ledger.shared import SharedLedger


class BackupContext(WithClock, WithConfiguration, WithHome, WithLedger, WithProgress, Protocol):
    """The parts of a run that backups work with."""

    @property
    def shared(self) -> "SharedLedger | None":
        """The ledger that several machines share; None where it is a file in HOME."""
        ...
