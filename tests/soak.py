"""Years of `renew` in simulated time, against the simulated CA in bad weather; what must never happen is looked for.

Each run is a process of its own (forked), so that it can be killed at any write; ledger, shelf, proofs, key, order and
certificate are real. Time is the soak's: waits cost none.
"""

import errno
import importlib
import itertools
import json
import os
import pkgutil
import random
import select
import signal
import sqlite3
import time
import traceback
import warnings
from collections import Counter
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager, suppress
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any, TextIO

from cryptography import x509
from cryptography.hazmat.primitives import serialization

import inkstamp.jobs
import inkstamp.reach
import inkstamp.servers
import inkstamp.view
from inkstamp.acme import session
from inkstamp.config.load import parse
from inkstamp.errors import InkStampError
from inkstamp.jobs.renewal.run import renew
from inkstamp.ledger import shelf as shelf_room
from inkstamp.ledger.sqlite import SqliteDatabase
from inkstamp.runtime import Runtime
from inkstamp.standins.ca import SimulatedCa
from inkstamp.standins.nameserver import Nameserver
from inkstamp.standins.ports import free_ports
from inkstamp.standins.quiet import QuietHandler, QuietServer, StandIn

BEGIN = datetime(2027, 1, 1, tzinfo=UTC)
DAY = timedelta(days=1)
_LONGEST_RUN = 120.0
"""Seconds of real time."""


@dataclass
class SoakClock:
    """The soak's time; waiting moves it on, and costs a moment in which the other side may work."""

    moment: datetime

    def now(self) -> datetime:
        return self.moment

    def monotonic(self) -> float:
        return self.moment.timestamp()

    def stop_waiting(self) -> None:
        raise AssertionError("nobody stops it")

    def sleep(self, seconds: float) -> None:
        self.moment += timedelta(seconds=seconds)
        time.sleep(min(seconds, 0.002))


class Pages(StandIn):
    """The sites: files below a folder for each name."""

    def __init__(self, port: int, folder: Path) -> None:
        class _Handler(QuietHandler):
            def do_GET(self) -> None:
                file = folder / self.headers["Host"].partition(":")[0] / self.path.lstrip("/")
                there = file.is_file()
                self.send(200 if there else 404, file.read_bytes() if there else b"", "text/plain")

        self._server = QuietServer(("127.0.0.1", port), _Handler)


@dataclass(frozen=True, slots=True)
class Plan:
    """How long, how many, how bad."""

    lifetimes: dict[int, int]
    """How many certificates there are of each lifetime (days)."""
    days: int
    seed: int = 1
    killed: float = 0.06
    """Share of the runs with work to do that are killed in the middle."""


@dataclass
class Seen:
    """What the soak counted."""

    runs: Counter[str] = field(default_factory=Counter)
    faults: Counter[str] = field(default_factory=Counter)
    wrong: list[str] = field(default_factory=list)
    issued: int = 0
    editions: int = 0
    least_left: float = 1.0
    """The smallest share of a lifetime that was left when the next edition was there."""


class Runner:
    """Forks a process for each run; one itself, without threads, since locks of libraries do not survive a fork."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        asked, self._ask = os.pipe()
        self._told, tell = os.pipe()
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", DeprecationWarning)  # threads that pytest's helpers may have sleep
            self._process = os.fork()
        if self._process == 0:
            os.close(self._ask)
            with suppress(BaseException):
                self._serve(os.fdopen(asked), tell)
            os._exit(0)
        os.close(asked)
        os.close(tell)

    def run(self, moment: datetime, fatal: int, *, disk_full: bool) -> int:
        """Run `renew` at that moment; returns the exit status, or the signal that killed it as a negative number."""
        os.write(self._ask, json.dumps([moment.timestamp(), fatal, disk_full]).encode() + b"\n")
        ready, _, _ = select.select([self._told], [], [], _LONGEST_RUN)
        assert ready, f"a run at {moment} does not end"
        return int(os.read(self._told, 16))

    def close(self) -> None:
        os.close(self._ask)
        os.close(self._told)
        os.waitpid(self._process, 0)

    def _serve(self, asked: TextIO, tell: int) -> None:
        for line in asked:
            moment, fatal, disk_full = json.loads(line)
            child = os.fork()
            if child == 0:
                status = 99
                with suppress(BaseException):
                    status = self._child(SoakClock(datetime.fromtimestamp(moment, UTC)), fatal, disk_full)
                os._exit(status)
            _, raw = os.waitpid(child, 0)
            os.write(tell, str(os.waitstatus_to_exitcode(raw)).encode())

    def _child(self, clock: SoakClock, fatal: int, disk_full: bool) -> int:
        os.dup2(os.open(self._folder / "children.log", os.O_WRONLY | os.O_CREAT | os.O_APPEND), 2)
        session._CONNECT_SECONDS, session._READ_SECONDS = 5.0, 0.4
        _make_mortal(fatal)
        if disk_full:
            _fill_disk()
        config = self._folder / "inkstamp.toml"
        runtime = Runtime(config, self._folder / "home", clock=clock, command="inkstamp renew")
        runtime.configuration.use(parse(config.read_bytes(), config))
        try:
            sweep = renew(runtime)
            runtime.close(0)
        except InkStampError:
            with suppress(InkStampError):
                runtime.close(1)
            return 2
        except BaseException:
            traceback.print_exc()
            raise
        return 1 if sweep.failed else 0


@dataclass
class Soak:
    """One world under way."""

    plan: Plan
    folder: Path
    ca: SimulatedCa
    nameserver: Nameserver
    config: Path
    runner: "Runner"
    clock: SoakClock
    chance: random.Random
    seen: Seen = field(default_factory=Seen)
    disk_full: bool = False
    expired: set[str] = field(default_factory=set)
    unwell_until: datetime = BEGIN
    known: dict[tuple[str, int], float] = field(default_factory=dict)
    good_runs: list[float] = field(default_factory=list)
    """When runs came to their end with nothing large in their way; seconds since 1970."""

    @property
    def home(self) -> Path:
        return self.folder / "home"

    # One run, in a process of its own

    def run(self, *, undisturbed: bool = False) -> None:
        """Have a run of `renew`, killed in the middle now and then or with a clock that jumped unless `undisturbed`."""
        busy = self.chance.random() < self.plan.killed and not undisturbed
        fatal = self.chance.randint(1, 60) if busy else 0
        jump = self.chance.choice((timedelta(days=2), -DAY)) if self.chance.random() < 0.01 else timedelta(0)
        jump = timedelta(0) if undisturbed else jump
        if jump:
            self.seen.faults["the clock jumped"] += 1
        ended = self.runner.run(self.clock.moment + jump, fatal, disk_full=self.disk_full)
        word = {0: "well", 1: "some failed", 2: "nothing could be done", -9: "killed"}.get(ended, f"status {ended}")
        self.seen.runs[word] += 1
        if ended in {0, 1} and not jump and self.clock.moment >= self.unwell_until:
            self.good_runs.append(self.clock.moment.timestamp())
        if word.startswith("status"):
            self.seen.wrong.append(f"{self.clock.moment}: a run ended with {ended}")

    # What must hold after each run

    def look(self) -> None:
        """Compare ledger, shelf and document roots; note what is wrong."""
        with sqlite3.connect(self.home / "ledger.db") as ledger:
            if ledger.execute("PRAGMA quick_check(1)").fetchone() != ("ok",):
                self.wrong("the ledger is damaged")
            rows = ledger.execute("SELECT certificate, number, not_before, not_after FROM edition").fetchall()
            held = ledger.execute("SELECT count(*) FROM proof").fetchone()[0]
        ledger.close()
        newest: dict[str, tuple[float, float]] = {}
        for name, number, begins, ends in rows:
            newest[name] = max(newest.get(name, (0.0, 0.0)), (ends, begins))
            if (name, number) not in self.known:
                self._look_at_edition(name, number)
                self.known[name, number] = begins
        self.seen.editions = len(rows)
        now = self.clock.moment.timestamp()
        for name, (ends, begins) in newest.items():
            self.seen.least_left = min(self.seen.least_left, (ends - now) / (ends - begins))
            # From here on every run tries; two good ones must be enough.
            due = ends - (ends - begins) * (0.49 if ends - begins < 10 * 86_400 else 0.33)
            tries = sum(due <= each < ends for each in self.good_runs)
            if ends < now and tries >= 2:
                self.wrong(f"{name} has expired, and {tries} good runs could have renewed it")
            elif ends < now and name not in self.expired:
                self.seen.faults["expired while nothing could be done"] += 1
                self.expired.add(name)
            elif ends >= now:
                self.expired.discard(name)
        standing = list((self.folder / "www").glob("*/.well-known/acme-challenge/*"))
        if standing and not held:
            self.wrong(f"a proof stands that nobody knows of: {standing[0]}")

    def wrong(self, text: str) -> None:
        self.seen.wrong.append(f"{self.clock.moment:%Y-%m-%d %H:%M}: {text}")

    def _look_at_edition(self, name: str, number: int) -> None:
        folder = self.home / "shelf" / name / f"{number:04d}"
        if not folder.is_dir():
            newer = (self.home / "shelf" / name / "current").exists()
            if not newer:
                self.wrong(f"edition {number} of {name} is not on the shelf")
            return
        leaf = x509.load_pem_x509_certificate((folder / "leaf.pem").read_bytes())
        key = serialization.load_pem_private_key((folder / "key.pem").read_bytes(), None)
        if leaf.public_key() != key.public_key():
            self.wrong(f"edition {number} of {name} has another key")

    # Weather

    def weather(self, day: int) -> None:
        """Choose today's faults; long ones leave time between them, as nobody could renew through all of them."""
        weather, draw = self.ca.weather, self.chance.random
        self.ca.state.mood.names_windows = day % 120 < 30
        bad = draw() < 0.4
        weather.nonces = 0.3 if draw() < 0.2 else 0.0
        weather.lost, weather.unheard, weather.cut = (0.01 if bad else 0.0,) * 3
        weather.error = 0.03 if bad else 0.0
        weather.slow = 0.001 if draw() < 0.02 else 0.0
        now = self.clock.moment
        if now < self.unwell_until + 8 * DAY:
            return
        drawn = draw()
        if drawn < 0.02:
            self.seen.faults["the CA down for three days"] += 1
            self.unwell_until, weather.down = now + 3 * DAY, True
        elif drawn < 0.04:
            self.seen.faults["DNS away for two days"] += 1
            self.unwell_until = now + 2 * DAY
            self.nameserver.table.clear()
        elif drawn < 0.06:
            self.seen.faults["disk full for a day"] += 1
            self.unwell_until, self.disk_full = now + DAY, True

    def clear_up(self) -> None:
        """End what lasts for days as soon as its time is over: a run that comes then counts as a good one."""
        if self.clock.moment >= self.unwell_until and (
            self.ca.weather.down or self.disk_full or not self.nameserver.table
        ):
            self.ca.weather.down = self.disk_full = False
            self.nameserver.table.update({name: ["127.0.0.1"] for name in self.names})

    @property
    def names(self) -> list[str]:
        return [f"{name}.saltmarsh.test" for name in self.lifetimes()]

    def lifetimes(self) -> dict[str, int]:
        """The certificates by name, with their lifetimes in days."""
        return {f"site{days}-{number}": days for days, many in self.plan.lifetimes.items() for number in range(many)}


def _make_mortal(fatal: int) -> None:
    """Have this process killed behind its Nth write or answer; 0 for never."""
    if not fatal:
        return
    left = [fatal]

    def mortal(original: Any) -> Any:
        def call(*arguments: Any, **options: Any) -> Any:
            result = original(*arguments, **options)
            left[0] -= 1
            if left[0] == 0:
                os.kill(os.getpid(), signal.SIGKILL)
            return result

        return call

    for owner, name in ((os, "fsync"), (os, "replace"), (os, "rename"), (session.Session, "_once")):
        setattr(owner, name, mortal(getattr(owner, name)))
    SqliteDatabase.execute = mortal(SqliteDatabase.execute)  # type: ignore[method-assign]


def _fill_disk() -> None:
    """Have all writes of files and of the ledger fail, as on a full disk."""

    def full(*_arguments: Any, **_options: Any) -> None:
        raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))

    from inkstamp import files

    files._create = full
    setattr(shelf_room, "create_bytes", full)  # noqa: B010  imported by name there

    @contextmanager
    def writing(self: SqliteDatabase) -> Iterator[None]:
        with self._trouble():
            raise sqlite3.OperationalError("database or disk is full")
        yield  # type: ignore[unreachable]  # what makes it a generator

    SqliteDatabase.writing = writing  # type: ignore[method-assign]


@contextmanager
def world(folder: Path, plan: Plan) -> Iterator[Soak]:
    """Bring the soak's world up: CA, nameserver, sites, a configuration."""
    for room in (inkstamp.jobs, inkstamp.servers, inkstamp.reach, inkstamp.view):  # once, and not in each run
        for found in pkgutil.walk_packages(room.__path__, f"{room.__name__}."):
            importlib.import_module(found.name)
    runner = Runner(folder)
    http_port, dns_port, api_port = free_ports(3)
    clock, chance = SoakClock(BEGIN), random.Random(plan.seed)  # noqa: S311  no secrets here
    with ExitStack() as stack:
        stack.callback(runner.close)
        nameserver = stack.enter_context(Nameserver(dns_port, {}))
        ca = stack.enter_context(
            SimulatedCa(api_port, folder / "ca", dns_port=dns_port, http_port=http_port, clock=clock)
        )
        stack.enter_context(Pages(http_port, folder / "www"))
        ca.weather.chance = random.Random(plan.seed + 1)  # noqa: S311
        ca.weather.patience = 0.6
        ca.state.mood.at_once = True
        config = folder / "inkstamp.toml"
        soak = Soak(plan, folder, ca, nameserver, config, runner, clock, chance)
        ca.state.mood.lifetimes.update(
            {f"{name}.saltmarsh.test": timedelta(days=days) for name, days in soak.lifetimes().items()}
        )
        _configure(soak, ca, dns_port, http_port)
        yield soak


def _configure(soak: Soak, ca: SimulatedCa, dns_port: int, http_port: int) -> None:
    folder, trust = soak.folder, ca.state.hierarchy
    text = [
        f'[authority.quayside]\ndirectory = "{ca.directory_url}"\ntrust = "{trust.api_root_file}"\nagree_terms = true',
        f'[server.pages]\nkind = "files"\nroot = "{folder}/www/{{domain}}"',
        f'files = [{{ path = "{folder}/served/{{certificate}}.pem", form = "combined" }}]',
        f'[view]\nresolver = "127.0.0.1:{dns_port}"\nhttp_port = {http_port}\nroots = "{trust.roots_file}"',
    ]
    for each in soak.lifetimes():
        name = f"{each}.saltmarsh.test"
        (folder / "www" / name).mkdir(parents=True)
        soak.nameserver.table[name] = ["127.0.0.1"]
        text.append(
            f'[certificate.{each}]\nnames = ["{name}"]\nauthority = "quayside"\nvia = "pages"\ninstall = ["pages"]'
        )
    (folder / "served").mkdir()
    soak.config.write_text("\n".join(text))


def play(soak: Soak, say: Any = lambda _text: None) -> Seen:
    """Run twice a day for as long as planned, then once more in good weather; returns what was seen."""
    told = 0
    for day in range(soak.plan.days):
        if day:
            soak.weather(day)
        for hour in (3, 15):
            soak.clock.moment = BEGIN + day * DAY + timedelta(hours=hour, minutes=soak.chance.randint(0, 180))
            soak.clear_up()
            soak.run()
            if not (soak.disk_full or soak.ca.weather.down) or day % 5 == 0:
                soak.look()
        if day % 30 == 29:
            say(f"day {day + 1}: {soak.seen.editions} editions, {dict(soak.seen.runs)}, {len(soak.seen.wrong)} wrong")
            for each in soak.seen.wrong[told:]:
                say(f"  {each}")
            told = len(soak.seen.wrong)
    weather = soak.ca.weather
    weather.down = soak.disk_full = False
    weather.nonces = weather.lost = weather.unheard = weather.cut = weather.error = weather.slow = 0.0
    soak.nameserver.table.update({name: ["127.0.0.1"] for name in soak.names})
    for hours in (1, 14, 28):  # nothing comes after them that would finish what a kill broke off
        soak.clock.moment = BEGIN + soak.plan.days * DAY + timedelta(hours=hours)
        soak.run(undisturbed=True)
    soak.look()
    _settle(soak)
    return soak.seen


def _settle(soak: Soak) -> None:
    """At the end: what the CA issued is what we have, nothing stands about, and no order was needless."""
    soak.seen.issued = soak.ca.state.issued
    if soak.ca.state.issued != soak.seen.editions:
        soak.wrong(f"the CA issued {soak.ca.state.issued} certificates, and there are {soak.seen.editions} editions")
    for each in (soak.folder / "www").glob("*/.well-known/acme-challenge/*"):
        soak.wrong(f"left behind: {each}")
    partial = list(soak.home.rglob("*.part"))
    if partial:
        soak.wrong(f"left behind: {partial[0]}")
    lifetimes = soak.lifetimes()
    for name in lifetimes:
        begins = sorted(begin for (other, _), begin in soak.known.items() if other == name)
        for before, after in itertools.pairwise(begins):
            # Half of it at least, whatever the spread, less a clock that went two days ahead.
            share = 0.5
            least = lifetimes[name] * share - 2.2
            if (after - before) / 86_400 < least:
                soak.wrong(f"{name} was renewed after {(after - before) / 86_400:.1f} days")
