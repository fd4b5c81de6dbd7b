"""What the room needs of a run."""

from typing import TYPE_CHECKING, Protocol

from inkstamp.parts import (
    WithCertificates,
    WithClock,
    WithConfiguration,
    WithHome,
    WithLedger,
    WithOrderKeys,
    WithProgress,
    WithServers,
    WithShelf,
    WithTrust,
    WithView,
)

if TYPE_CHECKING:
    from inkstamp.view.revocation_status import RevocationStatus


class ChecksContext(
    WithClock,
    WithCertificates,
    WithConfiguration,
    WithHome,
    WithProgress,
    WithLedger,
    WithServers,
    WithView,
    WithOrderKeys,
    WithShelf,
    WithTrust,
    Protocol,
):
    """The parts of a run that checks work with."""

    @property
    def revocation_status(self) -> "RevocationStatus":
        """Whether certificates are revoked, as their CAs tell."""
        ...

    def forget_parent(self) -> None:
        """In a forked process, go on without what cannot be shared with the one that it came from."""
        ...
