"""What the room needs of a run."""

from typing import Protocol

from inkstamp.accounts.context import WithAccounts
from inkstamp.parts import (
    WithCertificates,
    WithClock,
    WithConfiguration,
    WithHome,
    WithLedger,
    WithLocks,
    WithProgress,
    WithServers,
    WithStore,
    WithView,
)


class ValidationContext(
    WithClock,
    WithCertificates,
    WithConfiguration,
    WithHome,
    WithStore,
    WithLocks,
    WithProgress,
    WithLedger,
    WithServers,
    WithView,
    Protocol,
):
    """The parts of a run that validation works with."""

    @property
    def asks_anyway(self) -> bool:
        """Whether the CA is asked although an address of a name cannot be reached from here."""
        ...


class WaitingContext(WithClock, WithConfiguration, WithView, Protocol):
    """The parts of a run that waiting for nameservers needs."""


class StandingContext(ValidationContext, WithAccounts, Protocol):
    """The same, and our accounts, for whose keys servers answer."""
