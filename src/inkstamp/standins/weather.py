"""What may go wrong on the way to the simulated CA, and in it: by chance, from a seed."""

import random
from dataclasses import dataclass, field
from enum import Enum


class Fate(Enum):
    """What becomes of one request."""

    FINE = "fine"
    LOST = "lost"
    """The connection breaks before the CA has read it."""
    UNHEARD = "unheard"
    """The CA does what it was asked, and the connection breaks before it answers."""
    CUT = "cut"
    """The answer ends in its middle."""
    ERROR = "error"
    """The CA answers 500 or 503."""
    SLOW = "slow"
    """The answer comes later than anybody waits."""


@dataclass
class Weather:
    """Shares of requests, from 0 to 1, that meet each fate; changed while the CA runs."""

    lost: float = 0.0
    unheard: float = 0.0
    cut: float = 0.0
    error: float = 0.0
    slow: float = 0.0
    nonces: float = 0.0
    """Share of nonces that are refused."""
    down: bool = False
    """Whether every connection breaks at once."""
    patience: float = 1.0
    """Seconds after which a slow answer comes."""
    chance: random.Random = field(default_factory=random.Random)

    def fate(self) -> Fate:
        """Draw what becomes of the next request."""
        if self.down:
            return Fate.LOST
        drawn = self.chance.random()
        shares = ((Fate.LOST, self.lost), (Fate.UNHEARD, self.unheard), (Fate.CUT, self.cut),
                  (Fate.ERROR, self.error), (Fate.SLOW, self.slow))  # fmt: skip
        for fate, share in shares:
            if drawn < share:
                return fate
            drawn -= share
        return Fate.FINE

    def refuses_nonce(self) -> bool:
        """Draw whether the next nonce is refused."""
        return self.nonces > 0 and self.chance.random() < self.nonces
