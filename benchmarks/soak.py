"""Years of renewals in simulated time, in bad weather: does anything expire, is anything ordered twice or left behind?

    python benchmarks/soak.py [DAYS [SEED [MANY]]]

1,095 days, seed 1, 300 certificates of 90, 47 and 6 days (MANY of them in all). The CA refuses nonces, answers 500 and
503, breaks connections before and after it has done its work, cuts answers short, is slow, is down for three days; DNS
is unreachable for two, the disk is full for one; runs are killed, clocks jump. Exits with 1 when something went wrong.
"""

import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent / "tests"))


def main() -> int:
    from soak import Plan, play, world

    given = [int(each) for each in sys.argv[1:]]
    days, seed, many = (*given, *(1095, 1, 300)[len(given) :])
    short = max(many // 15, 1)
    middle = max(many * 2 // 5, 1)
    plan = Plan(lifetimes={90: max(many - short - middle, 1), 47: middle, 6: short}, days=days, seed=seed)
    began = time.monotonic()
    with tempfile.TemporaryDirectory(prefix="soak-") as folder, world(Path(folder), plan) as soak:
        seen = play(soak, lambda text: print(f"{time.monotonic() - began:6.0f} s  {text}", flush=True))
    print(f"\nseed {seed}, {days} days, certificates by lifetime {plan.lifetimes}, {time.monotonic() - began:.0f} s")
    print(f"runs: {', '.join(f'{count} {word}' for word, count in sorted(seen.runs.items()))}")
    print(f"long faults: {', '.join(f'{count} times {word}' for word, count in sorted(seen.faults.items())) or 'none'}")
    print(f"issued by the CA {seen.issued}, editions here {seen.editions}")
    print(f"least share of a lifetime left before the next edition: {seen.least_left:.0%}")
    print(f"wrong: {len(seen.wrong)}")
    for each in seen.wrong[:40]:
        print(f"  {each}")
    return 1 if seen.wrong else 0


if __name__ == "__main__":
    sys.exit(main())
