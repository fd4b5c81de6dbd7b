"""Four workers that share a ledger are killed at random moments until every certificate is issued, and go on.

    python tests/fleet_soak.py [KILLS [CERTIFICATES [SEED]]]

What counts is what the real CA has: one order and one certificate for each, however often who was at it died. Workers
that end by themselves begin again; the last ones are left alive once there were KILLS (200) kills.
"""

import random
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from fleet_world import FleetWorld, fleet_world

_WORKERS = 4
_SECONDS = 900.0
_LIVES = (0.3, 3.0)
"""Seconds that a worker has until it is killed."""


def soak(fleet: FleetWorld, kills: int, certificates: int, seed: int) -> str:
    """Do so; returns what came of it in words. AssertionError where the CA has another number of orders."""
    chance = random.Random(seed)  # noqa: S311  no secret
    names = [f"reef{number}" for number in range(certificates)]
    fleet.configure(
        "".join(
            f'\n[certificate.{each}]\nauthority = "quayside"\nnames = ["{each}.saltmarsh.test"]\nvia = "primary"\n'
            f'proof = "dns-01"\ninstall = ["front"]\n'
            for each in names
        )
    )
    known = {each.name: each for each in fleet.machines.values()}
    workers = [known.get(name) or fleet.machine(name) for name in (f"ops{number + 1}" for number in range(_WORKERS))]
    orders, issued = fleet.world.ca.orders(), fleet.world.ca.certificates()
    running: dict[str, tuple[subprocess.Popen[bytes], float]] = {}
    killed, began = 0, time.monotonic()
    counted = f"SELECT count(DISTINCT certificate) FROM edition WHERE certificate IN ({', '.join(map(repr, names))})"
    while int(fleet.sql(counted)) < certificates or killed < kills:
        assert time.monotonic() - began < _SECONDS, f"{killed} kills, {fleet.sql(counted)} of {certificates} issued"
        for each in workers:
            process, until = running.get(each.name, (None, 0.0))
            if process is None or process.poll() is not None:
                running[each.name] = (each.begin("renew", *names), time.monotonic() + chance.uniform(*_LIVES))
            elif killed < kills and time.monotonic() > until:
                process.kill()
                process.wait()
                killed += 1
        time.sleep(0.02)
    for process, _ in running.values():
        process.wait(120)
    found = (fleet.world.ca.orders() - orders, fleet.world.ca.certificates() - issued)
    assert found == (certificates, certificates), f"the CA has {found[0]} orders and {found[1]} certificates"
    states = fleet.sql("SELECT DISTINCT state FROM ca_order WHERE certificate LIKE 'reef%'")
    assert states == "issued", states
    return f"{killed} kills, {certificates} certificates, as many orders, {time.monotonic() - began:.0f} s"


if __name__ == "__main__":
    numbers = [int(each) for each in sys.argv[1:]]
    with tempfile.TemporaryDirectory() as made:
        (Path(made) / "world").mkdir()
        Path(made).chmod(0o755)
        with fleet_world(Path(made), fsync="on") as world:
            world.shared = world.shared.replace('workers = ["ops*"]', 'workers = ["ops*"]\nlease_seconds = 5')
            told = soak(world, *numbers, *(200, 100, 1)[len(numbers) :])
    sys.stdout.write(f"{told}\n")
