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
    WithShelf,
    WithLocalCopy,
    Protocol,
):
    """The parts of a run that deployment works with."""


class HardeningContext(WithView, DeploymentContext, Protocol):
    """The parts of a run that changes of TLS settings need: deployment's, and the public's view."""
