"""What the room needs of a run."""

from typing import Protocol

from inkstamp.parts import WithCertificates, WithClock, WithConfiguration, WithHome, WithLedger, WithServers, WithShelf


class StatusContext(
    WithClock, WithCertificates, WithConfiguration, WithHome, WithLedger, WithServers, WithShelf, Protocol
):
    """The parts of a run that the state of certificates is told from."""
