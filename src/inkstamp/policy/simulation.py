"""A year of a fleet's renewals in NumPy, by the same rules as `when`: does the spread hold, do a CA's limits? Pure."""

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from inkstamp.policy.load_levelling import CROWDED, FEW, room_today
from inkstamp.policy.renewal_time import renewal_day

_RUNS_A_DAY = 2
RUN_HOURS = 4.0
"""How long one run orders at most; the next one goes on."""
WORKER_A_SECOND = 5.0
"""Certificates that one machine orders in a second where nothing else is waited for (benchmarks/README.md)."""
_FIRST_PAUSE, _LONGEST_PAUSE = 0.5 / 24, 8 / 24
"""Days that one that failed rests at least, and at most; see `when.next_try`."""

Days = NDArray[np.float64]


class Fleet(Struct, frozen=True, kw_only=True):
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
    levelled: bool = True
    """Whether days are chosen so that each has about as many orders (`load_levelling`)."""
    outage: tuple[int, int] = (0, 0)
    """From which day on, and for how many days, the CA issues nothing."""
    workers: int | None = None
    """Machines that order; None for as many as are needed."""
    at_once: int = 4
    """Orders that go on at the same time, on all machines together."""
    order_seconds: float = 10.0
    """How long the CA takes for one order."""

    @property
    def a_run(self) -> int | None:
        """How many the machines can order in one run; None for any number."""
        if self.workers is None:
            return None
        a_second = min(self.workers * WORKER_A_SECOND, self.at_once / self.order_seconds)
        return int(a_second * RUN_HOURS * 3600)


class Year(Struct, frozen=True):
    """What came of it."""

    orders: NDArray[np.int64]
    """By day, failed ones included."""
    failed: NDArray[np.int64]
    """Of those, the ones that failed."""
    waiting: NDArray[np.int64]
    """By day, how many had to be left for another day: the CA's limit was reached, or the machines were at work."""
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
    plan = _Plan(fleet, days)
    due: Days = plan.due(ends, 0.0, chance)
    failures = np.zeros(many, np.int64)
    orders, failed, waiting = (np.zeros(days, np.int64) for _ in range(3))
    expired, least_left = 0, fleet.lifetime
    for run in range(days * _RUNS_A_DAY):
        now, day = run / _RUNS_A_DAY, run // _RUNS_A_DAY
        (wanting,) = np.nonzero(due <= now)
        if fleet.outage[0] <= day < sum(fleet.outage):
            continue
        wanting = plan.put_off(wanting, ends, now, int(orders[day]))
        room = min(len(wanting), many if fleet.a_run is None else fleet.a_run)
        if fleet.a_day is not None:
            room = min(room, fleet.a_day - int(orders[day]))
        waiting[day] = len(wanting) - room
        if waiting[day]:
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
            due[done] = plan.due(ends[done], now, chance)
    return Year(orders, failed, waiting, expired, least_left)


class _Plan:
    """How many renewals are planned for each day."""

    def __init__(self, fleet: Fleet, days: int) -> None:
        self._fleet = fleet
        self._latest, self._spread = renewal_day(fleet.lifetime, fleet.with_left)
        self._planned = np.zeros(days + int(fleet.begun_within + fleet.lifetime) + 3, np.int64)

    def due(self, ends: Days, now: float, chance: np.random.Generator) -> Days:
        """Return from when each is due that expires then, in days."""
        fractions = chance.random(len(ends)) if self._fleet.spread else np.zeros(len(ends))
        begun = ends - self._fleet.lifetime
        latest: Days = begun + self._latest
        if not self._fleet.levelled:
            unlevelled: Days = latest - self._spread * fractions
            return unlevelled
        chosen = np.empty(len(ends))
        for first in np.unique(begun.astype(np.int64)):  # those of one day have the same days to choose from
            (of_day,) = np.nonzero(begun.astype(np.int64) == first)
            chosen[of_day] = self._choose(int(first), len(of_day), int(now), chance)
        until = np.minimum(chosen + 1, latest)
        own: Days = chosen + np.maximum(until - chosen, 0.0) * fractions
        return np.minimum(own, latest)

    def _choose(self, begun: int, many: int, today: int, chance: np.random.Generator) -> NDArray[np.int64]:
        """Do for many of one day what `load_levelling.choose_day` does for one after the other."""
        last = int(begun + self._latest)
        usual = max(min(int(begun + self._fleet.lifetime / 2), last), today)
        early = max(min(int(begun + self._fleet.lifetime / 10), usual), min(today + 1, usual))
        whole = int(self._planned[today:].sum()) + many
        level = int(max(CROWDED * whole / max(last - today, 1), FEW))
        room = int(np.maximum(level - self._planned[usual : last + 1], 0).sum())
        found = [self._fill(usual, last, min(many, room))]
        if many > room:
            found.append(self._fill(early, last, many - room))
        return chance.permutation(np.concatenate(found))

    def _fill(self, first: int, last: int, many: int) -> NDArray[np.int64]:
        """Add to the days with the fewest first, of several to the last; returns the day of each."""
        loads = self._planned[first : last + 1]
        before = loads.copy()
        level = np.sort(loads)
        for count in range(1, len(loads) + 1):
            upto = int(level[count]) if count < len(loads) else None
            needed = None if upto is None else int(upto * count - level[:count].sum())
            if needed is None or needed >= many:
                height, more = divmod(int(level[:count].sum()) + many, count)
                lowest = np.argsort(loads, kind="stable")[:count]
                loads[lowest] = height
                loads[np.sort(lowest)[count - more :]] += 1
                break
        return np.repeat(np.arange(first, last + 1), np.maximum(loads - before, 0))

    def put_off(self, wanting: NDArray[np.int64], ends: Days, now: float, ordered: int) -> NDArray[np.int64]:
        """Return those that are ordered in this run; the others can wait for another day."""
        if not self._fleet.levelled:
            return wanting
        today = int(now)
        room = room_today(int(self._planned[today + 1 :].sum()) + len(wanting), int(self._latest), ordered)
        if len(wanting) <= room:
            return wanting
        wanting = wanting[np.argsort(ends[wanting], kind="stable")]
        pressing = ends[wanting] - now <= self._fleet.lifetime / 10 + 1
        return wanting[(np.arange(len(wanting)) < room) | pressing]
