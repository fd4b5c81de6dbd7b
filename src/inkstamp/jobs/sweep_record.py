"""What the last run of `renew` over all certificates did: a small file in HOME, so that its absence is seen too."""

from datetime import datetime
from pathlib import Path

import msgspec

from inkstamp.errors import FileTrouble
from inkstamp.files import held, private_folder, read_bytes, write_bytes

_NAME = "last-renewal.json"
_PATIENCE = 10.0


class LastSweep(msgspec.Struct, frozen=True, kw_only=True):
    """One run."""

    at: datetime
    """When it ended; aware, UTC."""
    looked_at: int
    renewed: int
    failed: int
    waiting: int
    held: int
    """Certificates that rested after failures."""

    @property
    def told(self) -> str:
        """It in a few words."""
        more = [f"{number} {word}" for number, word in ((self.waiting, "waiting"), (self.held, "resting")) if number]
        return ", ".join([f"{self.looked_at} looked at, {self.renewed} renewed, {self.failed} failed", *more])


def record_sweep(home: Path, sweep: LastSweep) -> None:
    """Write down what a run did."""
    with held(private_folder(home) / "locks" / "last-renewal", "the record of the last renewal", patience=_PATIENCE):
        write_bytes(home / _NAME, msgspec.json.encode(sweep), mode=0o600)


def last_sweep(home: Path) -> LastSweep | None:
    """Return what the last run did; None when there was none."""
    try:
        return msgspec.json.decode(read_bytes(home / _NAME), type=LastSweep)
    except (FileTrouble, msgspec.DecodeError):
        return None
