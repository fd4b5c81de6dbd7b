"""A year of a fleet's renewals in NumPy, by the same rules as `when`: does the spread hold, do a CA's limits? Pure."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from inkstamp.policy.renewal_time import renewal_day

_RUNS_A_DAY = 2
_FIRST_PAUSE, _LONGEST_PAUSE = 0.5 / 24, 8 / 24
"""Days that one that failed rests at least, and at most; see `when.next_try`."""

Days = NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True)
class Fleet:
    """What is simulated."""

    certificates: int
    lifetime: float
    """Days."""
    failing: float = 0.0
    """Share of the tries that fail, by chance."""
    a_day: int | None = None
    """Orders that the CA takes in a day, failed ones included; None for any number."""
    begun_within: float = 1.0
    """Days over which the first ones were issued."""
    with_left: float | None = None
    """Share of the lifetime that is left when one is renewed; None for the usual one."""
    spread: bool = True
    """Whether each has a moment of its own."""


@dataclass(frozen=True, slots=True)
class Year:
    """What came of it."""

    orders: NDArray[np.int64]
    """By day, failed ones included."""
    failed: NDArray[np.int64]
    """Of those, the ones that failed."""
    waiting: NDArray[np.int64]
    """By day, how many had to be left for another day, since the CA's limit was reached."""
    expired: int
    """How often one expired before it was renewed."""
    least_left: float
    """Days that were left when the last-minute one of all was renewed; negative when it had expired."""


def simulate(fleet: Fleet, *, days: int = 365, seed: int = 1) -> Year:
    """Play the renewals of `days` days, two runs a day, the most urgent first."""
    chance = np.random.default_rng(seed)
    many = fleet.certificates
    ends: Days = fleet.lifetime - chance.random(many) * fleet.begun_within
    ends += fleet.begun_within
    due: Days = _due(fleet, ends, chance)
    failures = np.zeros(many, np.int64)
    orders, failed, waiting = (np.zeros(days, np.int64) for _ in range(3))
    expired, least_left = 0, fleet.lifetime
    for run in range(days * _RUNS_A_DAY):
        now, day = run / _RUNS_A_DAY, run // _RUNS_A_DAY
        (wanting,) = np.nonzero(due <= now)
        if fleet.a_day is not None:
            room = fleet.a_day - int(orders[day])
            if len(wanting) > room:
                waiting[day] = len(wanting) - room
                wanting = wanting[np.argsort(ends[wanting], kind="stable")[:room]]
        if not len(wanting):
            continue
        orders[day] += len(wanting)
        bad = chance.random(len(wanting)) < fleet.failing
        failed[day] += int(bad.sum())
        lost, done = wanting[bad], wanting[~bad]
        failures[lost] += 1
        due[lost] = now + np.minimum(_FIRST_PAUSE * 2.0 ** np.minimum(failures[lost] - 1, 10), _LONGEST_PAUSE)
        if len(done):
            left = ends[done] - now
            expired += int((left < 0).sum())
            least_left = min(least_left, float(left.min()))
            failures[done] = 0
            ends[done] = now + fleet.lifetime
            due[done] = _due(fleet, ends[done], chance)
    return Year(orders, failed, waiting, expired, least_left)


def _due(fleet: Fleet, ends: Days, chance: np.random.Generator) -> Days:
    """Return from when each is due that expires then, in days."""
    fractions = chance.random(len(ends)) if fleet.spread else np.zeros(len(ends))
    latest, spread = renewal_day(fleet.lifetime, fleet.with_left)
    result: Days = ends - fleet.lifetime + latest - spread * fractions
    return result
