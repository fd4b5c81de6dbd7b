"""How long commands take as whole processes, beside `python -c pass`.

    python benchmarks/start.py [CERTIFICATES]

Makes a home with that many certificates (10,000), all good, and times `inkstamp` on it: median of seven runs, after
one that is not counted. Run it with the project installed (`pip install .`), so that byte code is there.
"""

import hashlib
import os
import statistics
import subprocess
import sys
import tempfile
import time
from datetime import UTC, datetime, timedelta
from pathlib import Path

from inkstamp.clock import SystemClock
from inkstamp.files import private_folder
from inkstamp.ledger.observations import Heard
from inkstamp.ledger.records import EditionRecord, InstallState, OrderState
from inkstamp.ledger.sqlite import SqliteDatabase
from inkstamp.ledger.store import Ledger
from inkstamp.policy.renewal_time import Window

RUNS = 7


def make_home(folder: Path, count: int) -> Path:
    """Write a configuration and a ledger of `count` certificates that are good for two months yet."""
    folder.mkdir()
    text = [
        'home = "home"\n\n[authority.quayside]\ndirectory = "https://acme.quayside.test/directory"\n\n'
        '[server.front]\nkind = "nginx"\n'
    ]
    ledger = Ledger(SqliteDatabase(private_folder(folder / "home") / "ledger.db"), SystemClock())
    now = datetime.now(UTC)
    for number in range(count):
        name, names = f"site{number}", (f"site{number}.saltmarsh.test", f"www.site{number}.saltmarsh.test")
        text.append(
            f'\n[certificate.{name}]\nnames = ["{names[0]}", "{names[1]}"]\nauthority = "quayside"\n'
            'via = "front"\ninstall = ["front"]\n'
        )
        order = ledger.intend_order(name, "quayside", names)
        order = ledger.move_order(order, OrderState.OPENED, url=f"https://acme.quayside.test/order/{number}")
        edition = EditionRecord(
            certificate=name, number=1, names=names, issuer="Quayside Intermediate A", root="Quayside Harbour Root",
            serial="7", sha256=hashlib.sha256(name.encode()).hexdigest(),
            not_before=now - timedelta(days=20), not_after=now + timedelta(days=70),
            authority="quayside",
        )  # fmt: skip
        ledger.add_edition(order, edition, "edition 1")
        kept = private_folder(folder / "home" / "shelf" / name / "0001") / "key.pem"
        kept.touch(mode=0o600)  # it is looked whether it is there, not what is in it
        ledger.installs.end(ledger.installs.begin(name, 1, ["front"]), InstallState.DONE, "installed", "on front")
    # As it is between two runs: everything has been asked about a while ago, and need not be yet.
    later = now + timedelta(hours=5)
    window = Window(now + timedelta(days=40), now + timedelta(days=42))
    heard = Heard(window=window, ask_again=later, status_again=later, look_again=later)
    ledger.observations.add([(edition, heard) for edition in ledger.newest_editions().values()])
    ledger.close()
    (folder / "inkstamp.toml").write_text("".join(text))
    return folder / "inkstamp.toml"


def timed(command: list[str]) -> tuple[float, float, float]:
    """Return the median seconds of a command, and the CPU seconds and the most memory (MB) of a run."""
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
    walls, cpu, memory = [], 0.0, 0.0
    for _ in range(RUNS):
        began = time.perf_counter()
        child = subprocess.Popen(command, stdout=subprocess.DEVNULL)
        _, status, used = os.wait4(child.pid, 0)
        child.returncode = os.waitstatus_to_exitcode(status)
        walls.append(time.perf_counter() - began)
        if child.returncode:
            raise SystemExit(f"{command} ended with {child.returncode}")
        cpu += (used.ru_utime + used.ru_stime) / RUNS
        memory = max(memory, used.ru_maxrss / 1024)
    return statistics.median(walls), cpu, memory


def main(count: int) -> None:
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
    program = str(Path(sys.executable).parent / "inkstamp")
    with tempfile.TemporaryDirectory() as folder:
        one, many = make_home(Path(folder) / "one", 1), make_home(Path(folder) / "many", count)
        rows = [
            ("python -c pass", [sys.executable, "-c", "pass"]),
            ("inkstamp --help", [program, "--help"]),
            ("inkstamp status, 1 certificate", [program, "--config", str(one), "status"]),
            (f"inkstamp status, {count} certificates", [program, "--config", str(many), "status"]),
            (f"inkstamp renew, {count} certificates, none due", [program, "--config", str(many), "renew"]),
            ("inkstamp calendar --simulate 20000", [program, "calendar", "--simulate", "20000", "--failing", "0.02"]),
        ]
        print(f"{'command':<48}  seconds  CPU s    MB  times `python -c pass`")
        base = 0.0
        for told, command in rows:
            wall, cpu, memory = timed(command)
            base = base or wall
            print(f"{told:<48}  {wall:7.3f}  {cpu:5.3f}  {memory:4.0f}  {wall / base:8.1f}")


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 10_000)
