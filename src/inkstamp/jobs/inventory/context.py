"""What the room needs of a run."""

from typing import Protocol

from inkstamp.parts import (
    WithCertificates,
    WithClock,
    WithConfiguration,
    WithHome,
    WithLedger,
    WithServers,
    WithTrust,
    WithView,
)


class InventoryContext(
    WithClock, WithCertificates, WithConfiguration, WithHome, WithLedger, WithServers, WithView, WithTrust, Protocol
):
    """The parts of a run that inventory works with."""


class PlacementContext(WithConfiguration, WithServers, Protocol):
    """What tells on which server a name is."""
