"""What the room needs of a run."""

from typing import TYPE_CHECKING, Protocol

from inkstamp.parts import (
    WithCertificates,
    WithClock,
    WithConfiguration,
    WithHome,
    WithLedger,
    WithLocks,
    WithProgress,
    WithShelf,
    WithStore,
)

if TYPE_CHECKING:
    from inkstamp.ledger.shared import SharedLedger


class AssignmentContext(WithClock, WithCertificates, WithConfiguration, WithLedger, Protocol):
    """What tells which machines are given which certificates."""


class FleetContext(
    WithClock,
    WithCertificates,
    WithConfiguration,
    WithHome,
    WithStore,
    WithLedger,
    WithLocks,
    WithProgress,
    WithShelf,
    Protocol,
):
    """The parts of a run that a shared ledger's upkeep works with."""

    @property
    def shared(self) -> "SharedLedger | None":
        """The ledger that several machines share; None where it is a file in HOME."""
        ...
