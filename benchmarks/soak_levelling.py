"""A wave of renewals in simulated time: how many orders a day come back after all were issued on one day?

    python benchmarks/soak_levelling.py [LIFETIME [MANY]]

47 days, 150 certificates, three lifetimes; the CA is down for three days in the second one, and each order fails once
in fifty. `renew` is the real one, twice a day, with ledger, orders and certificates. A day on which fewer orders than
20 are planned is not levelled, since no CA notices those; here that number is 1, so that as few certificates do.
"""

import random
import sqlite3
import sys
import tempfile
import time
from contextlib import closing
from datetime import timedelta
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent / "tests"))

_DAY = 86_400
_ROUNDS = 3


def main() -> int:
    import soak

    from inkstamp.jobs.status import due
    from inkstamp.policy import load_levelling

    load_levelling.FEW = due.FEW = 1  # type: ignore[attr-defined]
    given = [int(each) for each in sys.argv[1:]]
    lifetime, many = (*given, *(47, 150)[len(given) :])
    plan, began = soak.Plan(lifetimes={lifetime: many}, days=lifetime * _ROUNDS, killed=0.0), time.monotonic()
    chance, outage = random.Random(2), lifetime * 3 // 2
    with tempfile.TemporaryDirectory(prefix="soak-") as folder, soak.world(Path(folder), plan) as world:
        world.chance = _Steady()
        world.ca.state.mood.names_windows = False  # the CA's window (RFC 9773) would be kept to
        for day in range(plan.days):
            for hour in (3, 15):
                world.clock.moment = soak.BEGIN + timedelta(days=day, hours=hour, minutes=chance.randint(0, 180))
                world.ca.weather.down = outage <= day < outage + 3
                world.ca.weather.error = 0.02 / 6 if day else 0.0  # six requests an order
                world.run()
            if not world.ca.weather.down:
                world.look()
        with closing(sqlite3.connect(world.home / "ledger.db")) as ledger:
            asked = "SELECT opened / ?, count(*) FROM ca_order WHERE state = 'issued' GROUP BY 1"
            first = int(soak.BEGIN.timestamp()) // _DAY
            orders = {day - first: count for day, count in ledger.execute(asked, (_DAY,))}
    later = [orders.get(day, 0) for day in range(lifetime, plan.days)]
    quiet = [count for day, count in enumerate(later, start=lifetime) if not outage <= day < outage + 7]
    mean = sum(later) / len(later)
    print(f"{many} certificates of {lifetime} days, all issued on day 0; {time.monotonic() - began:.0f} s")
    print(
        f"orders a day after one lifetime: {mean:.1f} on average, {max(quiet)} at most, {max(later)} after the outage"
    )
    print(f"worst day / average: {max(quiet) / mean:.2f}, after the outage {max(later) / mean:.2f}")
    print(f"least share of a lifetime left: {world.seen.least_left:.0%}; wrong: {len(world.seen.wrong)}")
    for each in world.seen.wrong[:10]:
        print(f"  {each}")
    return 1 if world.seen.wrong else 0


class _Steady(random.Random):
    """Chance that never strikes: no clock jumps and no run is killed."""

    def random(self) -> float:
        return 0.99


if __name__ == "__main__":
    sys.exit(main())
