"""What the room needs of a run."""

from typing import Protocol

from inkstamp.parts import (
    WithCertificates,
    WithClock,
    WithConfiguration,
    WithLedger,
    WithProgress,
    WithServers,
    WithShelf,
)


class NotificationContext(
    WithClock, WithCertificates, WithConfiguration, WithProgress, WithLedger, WithServers, WithShelf, Protocol
):
    """The parts of a run that notification works with."""
