"""What the room needs of a run."""

from typing import Protocol

from inkstamp.parts import (
    WithCertificates,
    WithClock,
    WithConfiguration,
    WithHome,
    WithLedger,
    WithProgress,
    WithServers,
    WithTrust,
    WithView,
)


class InventoryContext(
    WithClock,
    WithCertificates,
    WithConfiguration,
    WithHome,
    WithLedger,
    WithServers,
    WithView,
    WithTrust,
    WithProgress,
    Protocol,
):
    """The parts of a run that inventory works with."""


class HardeningPlanContext(WithConfiguration, WithCertificates, WithServers, Protocol):
    """What tells which sites are meant, and what their TLS settings are."""


class PlacementContext(WithConfiguration, WithServers, Protocol):
    """What tells on which server a name is."""
