"""What the room needs of a run."""

from typing import Protocol

from inkstamp.parts import (
    WithCertificates,
    WithClock,
    WithConfiguration,
    WithHome,
    WithLedger,
    WithLocalCopy,
    WithLocks,
    WithProgress,
    WithServers,
    WithShelf,
    WithView,
)


class DeploymentContext(
    WithClock,
    WithCertificates,
    WithConfiguration,
    WithHome,
    WithLocks,
    WithProgress,
    WithLedger,
    WithServers,
    WithView,
    WithShelf,
    WithLocalCopy,
    Protocol,
):
    """The parts of a run that deployment works with."""
