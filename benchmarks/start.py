"""How long commands take as whole processes, beside `python -c pass`.

    python benchmarks/start.py [CERTIFICATES [ENROLLED]]

Makes a home with that many certificates (10,000) in the configuration file, all good, and one with that many on the
roster (ten times as many), and times `inkstamp` on them: median of seven runs, after one that is not counted (of one,
for up to 100). Run it with the project installed (`pip install .`), so that byte code is there.
"""

import hashlib
import multiprocessing
import os
import statistics
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ProcessPoolExecutor
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
_SMALL = 100
"""Up to so many certificates it is tried whether all runs, and nothing is measured."""


_HEAD = (
    'home = "home"\n\n[authority.quayside]\ndirectory = "https://acme.quayside.test/directory"\n\n'
    '[server.front]\nkind = "nginx"\n'
)
_REST = 'authority = "quayside"\nvia = "front"\ninstall = ["front"]\n'


def names_of(number: int) -> tuple[str, str]:
    return f"site{number}.saltmarsh.test", f"www.site{number}.saltmarsh.test"


def make_home(folder: Path, count: int) -> Path:
    """Write a configuration and a ledger of `count` certificates that are good for two months yet."""
    folder.mkdir()
    text = [_HEAD]
    for number in range(count):
        first, second = names_of(number)
        text.append(f'\n[certificate."{first}"]\nnames = ["{first}", "{second}"]\n{_REST}')
    (folder / "inkstamp.toml").write_text("".join(text))
    issue(folder, count)
    return folder / "inkstamp.toml"


def make_roster(folder: Path, count: int, program: str) -> tuple[Path, float]:
    """Write the same with all certificates on the roster; returns how many seconds it took to enrol them, too."""
    folder.mkdir()
    config = folder / "inkstamp.toml"
    config.write_text(f"{_HEAD}\n[group.web]\n{_REST}")
    listed = folder / "list.txt"
    listed.write_text("".join(f"{' '.join(names_of(number))}\n" for number in range(count)))
    began = time.perf_counter()
    enrol = [program, "--config", str(config), "enrol", "--group", "web", "--from", str(listed), "--offline"]
    # No public CA may issue for names under .test: they are taken as those of a private one.
    roots = folder / "roots.pem"
    roots.touch()
    config.write_text(f'{config.read_text()}\n[view]\nroots = "{roots}"\n')
    subprocess.run(enrol, check=True, stdout=subprocess.DEVNULL)
    took = time.perf_counter() - began
    issue(folder, count)
    subprocess.run([program, "--config", str(config), "renew"], check=True, stdout=subprocess.DEVNULL)
    return config, took


def issue(folder: Path, count: int) -> None:
    """Write into the ledger that all have an edition, installed, about which nobody need be asked for some hours."""
    database = SqliteDatabase(private_folder(folder / "home") / "ledger.db")
    database.rows("PRAGMA synchronous=OFF")  # it is thrown away again
    ledger = Ledger(database, SystemClock())
    now = datetime.now(UTC)
    for number in range(count):
        name, *_ = names = names_of(number)
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
        kept.with_name("leaf.pem").touch()  # and whether both were written together
        ledger.installs.end(ledger.installs.begin(name, 1, ["front"]), InstallState.DONE, "installed", "on front")
    # As it is between two runs: everything has been asked about a while ago, and need not be yet.
    later = now + timedelta(hours=5)
    window = Window(now + timedelta(days=40), now + timedelta(days=42))
    heard = Heard(window=window, ask_again=later, status_again=later, look_again=later)
    ledger.observations.add([(edition, heard) for edition in ledger.newest_editions().values()])
    ledger.close()


def timed(command: list[str], runs: int) -> tuple[float, float, float]:
    """Return the median seconds of a command, and the CPU seconds and the most memory (MB) of a run."""
    if runs > 1:
        subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
    walls, cpu, memory = [], 0.0, 0.0
    for _ in range(runs):
        began = time.perf_counter()
        child = subprocess.Popen(command, stdout=subprocess.DEVNULL)
        _, status, used = os.wait4(child.pid, 0)
        child.returncode = os.waitstatus_to_exitcode(status)
        walls.append(time.perf_counter() - began)
        if child.returncode:
            raise SystemExit(f"{command} ended with {child.returncode}")
        cpu += (used.ru_utime + used.ru_stime) / runs
        memory = max(memory, used.ru_maxrss / 1024)
    return statistics.median(walls), cpu, memory


def main(count: int, enrolled: int) -> None:
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
    program = str(Path(sys.executable).parent / "inkstamp")
    with tempfile.TemporaryDirectory() as folder:
        # Elsewhere, since a child's most memory is counted from what its parent had.
        with ProcessPoolExecutor(1, multiprocessing.get_context("spawn")) as pool:
            one, many = (pool.submit(make_home, Path(folder) / name, size).result()
                         for name, size in (("one", 1), ("many", count)))  # fmt: skip
            roster, took = pool.submit(make_roster, Path(folder) / "roster", enrolled, program).result()
        enrolled_one = names_of(enrolled // 2)[0]
        line = f"inkstamp why {enrolled_one[:6]}"
        asked = {"_ARGCOMPLETE": "1", "_ARGCOMPLETE_SHELL": "bash", "_ARGCOMPLETE_STDOUT_FILENAME": os.devnull,
                 "COMP_LINE": line, "COMP_POINT": str(len(line)), "INKSTAMP_CONFIG": str(roster)}  # fmt: skip
        rows = [
            ("python -c pass", [sys.executable, "-c", "pass"]),
            ("inkstamp --help", [program, "--help"]),
            ("inkstamp status, 1 certificate", [program, "--config", str(one), "status"]),
            (f"inkstamp status, {count} certificates", [program, "--config", str(many), "status"]),
            (f"inkstamp renew, {count} certificates, none due", [program, "--config", str(many), "renew"]),
            (f"inkstamp status, {enrolled} enrolled", [program, "--config", str(roster), "status"]),
            (f"inkstamp renew, {enrolled} enrolled, none due", [program, "--config", str(roster), "renew"]),
            (f"inkstamp why, one of {enrolled} enrolled", [program, "--config", str(roster), "why", enrolled_one]),
            (
                f"Tab after a name's beginning, {enrolled} enrolled",
                ["env", *(f"{name}={value}" for name, value in asked.items()), program],
            ),
            ("inkstamp calendar --simulate 20000", [program, "calendar", "--simulate", "20000", "--failing", "0.02"]),
        ]
        print(f"{'command':<48}  seconds  CPU s    MB  times `python -c pass`")
        base = 0.0
        for told, command in rows:
            wall, cpu, memory = timed(command, RUNS if count > _SMALL else 1)
            base = base or wall
            print(f"{told:<48}  {wall:7.3f}  {cpu:5.3f}  {memory:4.0f}  {wall / base:8.1f}")
        print(f"inkstamp enrol --from, {enrolled} lines, offline: {took:.1f} s, once")


if __name__ == "__main__":
    counts = [int(each) for each in sys.argv[1:]] or [10_000]
    main(counts[0], counts[1] if counts[1:] else 10 * counts[0])
