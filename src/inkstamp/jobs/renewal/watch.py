"""Who is told how far a run is."""

from typing import Protocol


class Watch(Protocol):
    """Told how far the work on many certificates is; from several threads."""

    def begins(self, total: int) -> None:
        """Say how many there are."""
        ...

    def ended(self, *, failed: bool, rests: float) -> None:
        """Say that one has ended; `rests` are the seconds for which a CA wants to be left alone, 0 for none."""
        ...
