"""How jobs tell what they are doing, without knowing who listens."""

from typing import Protocol

from inkstamp.findings import Finding


class Progress(Protocol):
    """Told about each step as it begins; the default one keeps silent."""

    def step(self, certificate: str, text: str) -> None:
        """Say that a step begins (`order`, `prove`), in a few words."""
        ...

    def waits(self, why: str, seconds: float) -> None:
        """Say that nothing will happen for some seconds, and why."""
        ...

    def found(self, certificate: str, finding: Finding) -> None:
        """Tell a finding at the moment it is made."""
        ...


class Silent:
    """Tells nobody."""

    def step(self, certificate: str, text: str) -> None:
        """Keep silent."""

    def waits(self, why: str, seconds: float) -> None:
        """Keep silent."""

    def found(self, certificate: str, finding: Finding) -> None:
        """Keep silent."""
