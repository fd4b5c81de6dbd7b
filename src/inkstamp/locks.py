"""Locks of the kernel by what they are for: between the threads and the runs of this machine.

Each goes with the process that holds it, at the moment it dies; nothing has to be cleared away after a kill. All raise
Busy when another holder keeps one for longer than is waited for.
"""

from collections.abc import Iterator
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass
from pathlib import Path

from inkstamp.files import held

_SOON = 10.0
"""Seconds to wait for what takes moments."""
_SERVER_PATIENCE = 180.0
"""Seconds to wait for another thread or run that is changing the same server."""


@dataclass(frozen=True, slots=True)
class Locks:
    """The locks in one folder: runs that must not meet use the same one."""

    folder: Path

    def account(self, authority: str) -> AbstractContextManager[None]:
        """Keep other runs from changing the key of the same account in the same moment."""
        return held(self.folder / f"account-{authority}", f"the account at “{authority}”", patience=_SOON)

    def certificate(self, name: str) -> AbstractContextManager[None]:
        """Keep other runs from working on the same certificate."""
        return held(self.folder / f"certificate-{name}", f"the certificate “{name}”")

    def trial(self, patience: float = _SERVER_PATIENCE) -> AbstractContextManager[None]:
        """Keep other runs from testing challenge responses in the same moment; `patience` in seconds."""
        return held(self.folder / "trial", "a test of challenge responses", patience=patience)

    def challenge_responses(self, server: str) -> AbstractContextManager[None]:
        """Keep other threads and runs from removing challenge responses from the same server in the same moment."""
        what = f"the challenge responses on “{server}”"
        return held(self.folder / f"proofs-{server}", what, patience=_SERVER_PATIENCE)

    def port(self, port: int) -> AbstractContextManager[None]:
        """Keep other runs from answering on the same port in the same moment."""
        return held(self.folder / f"port-{port}", f"port {port}", patience=_SERVER_PATIENCE)

    def configuration(self, file: Path) -> AbstractContextManager[None]:
        """Keep other runs from adding to the configuration in the same moment."""
        return held(self.folder / "configuration", str(file), patience=_SOON)

    @contextmanager
    def servers(self, names: tuple[str, ...]) -> Iterator[None]:
        """Keep other threads and runs from changing the same servers; always taken in the same order."""
        if not names:
            yield
            return
        first, *rest = sorted(set(names))
        lock = self.folder / f"server-{first}"
        with held(lock, f"the server “{first}”", patience=_SERVER_PATIENCE), self.servers(tuple(rest)):
            yield
