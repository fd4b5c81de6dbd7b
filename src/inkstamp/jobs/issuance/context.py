"""What the room needs of a run."""

from typing import Protocol

from inkstamp.parts import (
    WithCertificates,
    WithClock,
    WithConfiguration,
    WithHome,
    WithLedger,
    WithOrderKeys,
    WithServers,
    WithShelf,
    WithStore,
    WithTrust,
)


class IssuanceContext(
    WithClock,
    WithCertificates,
    WithConfiguration,
    WithHome,
    WithStore,
    WithLedger,
    WithServers,
    WithOrderKeys,
    WithShelf,
    WithTrust,
    Protocol,
):
    """The parts of a run that issuance works with."""

    @property
    def command(self) -> str:
        """The command line of the run."""
        ...
