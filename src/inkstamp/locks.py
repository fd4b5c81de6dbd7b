"""Locks by what they are for. Here those of the kernel: between the threads and the runs of this machine.

Each goes with the process that holds it, at the moment it dies; nothing has to be cleared away after a kill. All raise
Busy when another holder keeps one for longer than is waited for.

Each sort of lock has a scope: how far it has to reach where several machines share one ledger. The kernel's reach this
machine, which is as far as a ledger in a file does; `ledger/leases.py` has those that reach further.
"""

from collections.abc import Iterator
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass
from enum import Enum
from pathlib import Path

from msgspec import Struct

from inkstamp.files import held

_SOON = 10.0
"""Seconds to wait for what takes moments."""
_SERVER_PATIENCE = 180.0
"""Seconds to wait for another thread or run that is changing the same server."""


class Scope(Enum):
    """Who must not meet."""

    MACHINE = "the runs on this machine"
    LEDGER = "all runs that share the ledger, on whichever machine"


class Quota(Struct, frozen=True):
    """How many certificates are ordered of an authority at the same time, by all runs that share the ledger."""

    authority: str
    at_once: int


class Lock(Struct, frozen=True):
    """One thing that only one run may work on at a time."""

    key: str
    """Unlike any other's; a file's name."""
    what: str
    """What it is, as people are told when another run has it."""
    scope: Scope
    patience: float = 0.0
    """Seconds to wait for another holder."""
    quota: Quota | None = None
    """What it counts against, for as long as it is held, where other machines order of the same authority."""


@dataclass(frozen=True)
class Locks:
    """The locks in one folder: runs that must not meet use the same one."""

    folder: Path

    def hold(self, lock: Lock) -> AbstractContextManager[None]:
        """Keep others out for the time of the block; Busy when another holder does not end in time."""
        return held(self.folder / lock.key, lock.what, patience=lock.patience)

    def expect(self) -> None:
        """Make sure, before something is done that others see, that what is held is held still.

        A lock of the kernel is not lost as long as we live; LeaseLost for one that reaches further and was.
        """

    def reach(self, server: str) -> Scope:  # noqa: ARG002  the kernel's reach no further
        """Tell how far a lock has to reach that is about a server."""
        return Scope.LEDGER

    def account(self, authority: str) -> AbstractContextManager[None]:
        """Keep other runs from changing the key of the same account in the same moment."""
        return self.hold(Lock(f"account-{authority}", f"the account at “{authority}”", Scope.LEDGER, _SOON))

    def certificate(self, name: str, quota: Quota | None = None) -> AbstractContextManager[None]:
        """Keep other runs from working on the same certificate, and keep to a quota; StillWaiting where it lasts."""
        return self.hold(Lock(f"certificate-{name}", f"the certificate “{name}”", Scope.LEDGER, quota=quota))

    def rest(self, authority: str, seconds: float) -> None:
        """Have all runs that share the ledger leave an authority alone for a while, since it asked for that."""

    def rests(self, authority: str) -> float:  # noqa: ARG002  here each run knows of its own
        """Return for how many seconds an authority is to be left alone, as another run was told."""
        return 0.0

    def trial(self, patience: float = _SERVER_PATIENCE) -> AbstractContextManager[None]:
        """Keep other runs from testing challenge responses in the same moment; `patience` in seconds."""
        return self.hold(Lock("trial", "a test of challenge responses", Scope.MACHINE, patience))

    def challenge_responses(self, server: str) -> AbstractContextManager[None]:
        """Keep other threads and runs from removing challenge responses from the same server in the same moment."""
        what = f"the challenge responses on “{server}”"
        return self.hold(Lock(f"proofs-{server}", what, self.reach(server), _SERVER_PATIENCE))

    def record_sets(self, nameserver: str) -> AbstractContextManager[None]:
        """Keep other threads and runs from replacing record sets of a nameserver in the same moment."""
        what = f"the record sets of “{nameserver}”"
        return self.hold(Lock(f"records-{nameserver}", what, Scope.LEDGER, _SERVER_PATIENCE))

    def port(self, port: int) -> AbstractContextManager[None]:
        """Keep other runs from answering on the same port in the same moment."""
        return self.hold(Lock(f"port-{port}", f"port {port}", Scope.MACHINE, _SERVER_PATIENCE))

    def configuration(self, file: Path) -> AbstractContextManager[None]:
        """Keep other runs from adding to the configuration in the same moment."""
        return self.hold(Lock("configuration", str(file), Scope.MACHINE, _SOON))

    def server(self, name: str) -> AbstractContextManager[None]:
        """Keep other threads and runs from changing the same server."""
        return self.hold(Lock(f"server-{name}", f"the server “{name}”", self.reach(name), _SERVER_PATIENCE))

    @contextmanager
    def servers(self, names: tuple[str, ...]) -> Iterator[None]:
        """Keep other threads and runs from changing the same servers; always taken in the same order."""
        if not names:
            yield
            return
        first, *rest = sorted(set(names))
        with self.server(first), self.servers(tuple(rest)):
            yield
