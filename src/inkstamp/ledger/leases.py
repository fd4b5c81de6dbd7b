"""Locks that reach as far as a shared ledger does: rows in it, each good for a while and renewed by a thread.

A holder that dies lets go when its lease has lapsed, by the database's clock; where it ran under the same kernel, at
once, since its lock of the kernel is gone. What keeps a holder that only *thinks* it holds a lease from acting is in
`fences.py`. An advisory lock of a session would be lost in silence with its connection, and a pooler breaks it.
"""

import os
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, closing, contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path

from inkstamp.deadline import time_left
from inkstamp.errors import Busy, LedgerTrouble
from inkstamp.files import private_folder
from inkstamp.ledger.fences import Fences
from inkstamp.ledger.interface import Database
from inkstamp.ledger.quotas import WAIT_SECONDS, Quotas
from inkstamp.locks import Lock, Locks, Scope
from inkstamp.printable import printable

_LONGEST_PAUSE = 1.0
_TAKE = """
INSERT INTO lease (key, what, machine, place, command, until, fence, authority)
SELECT :key, :what, :machine, :place, :command, clock_timestamp() + make_interval(secs => :seconds),
    nextval('lease_fence'), :authority
FROM (
    SELECT count(*) FILTER (WHERE place <> '') AS held,
        count(*) FILTER (WHERE place <> '' AND machine = :machine) AS ours,
        count(DISTINCT machine) FILTER (WHERE machine <> :machine) AS others,
        count(*) FILTER (WHERE place = '' AND machine <> :machine) AS waiting
    FROM lease WHERE authority = :authority AND key <> :key AND until >= clock_timestamp()
) AS taken
WHERE :at_once = 0 OR (held < :at_once AND (waiting = 0 OR ours < (:at_once + others) / (others + 1)))
ON CONFLICT (key) DO UPDATE SET what = excluded.what, machine = excluded.machine, place = excluded.place,
    command = excluded.command, until = excluded.until, fence = excluded.fence, authority = excluded.authority
WHERE lease.until < clock_timestamp() OR lease.place = excluded.place
RETURNING fence
"""
"""Whoever holds the lock of the kernel is the only one at that place, so that a lease from there is of a dead one. Of a
quota no machine takes more than its share while another one waits (`quotas.py`)."""
_RENEW = """
UPDATE lease SET until = clock_timestamp() + make_interval(secs => :seconds) WHERE fence = ANY(:fences) RETURNING fence
"""
_HELD = "SELECT 1 AS held FROM lease WHERE key = :key AND until >= clock_timestamp() AND place <> :place"
_HOLDER = "SELECT machine, command, ceil(extract(epoch FROM until - clock_timestamp()))::int AS left FROM lease"


@dataclass(frozen=True, slots=True)
class Holder:
    """Who takes leases."""

    machine: str
    command: str


@dataclass(frozen=True)
class LeaseLocks(Locks):
    """Locks of the kernel in one folder, and leases in a shared ledger for what reaches further."""

    database: Callable[[], Database]
    """The shared ledger, connected when it is first asked for."""
    another: Callable[[], Database]
    """A connection of its own to it, for the thread that renews."""
    fences: Fences
    holder: Holder
    is_here: Callable[[str], bool] = lambda _server: False
    """Tells whether a server is on this machine, so that no other can change it."""
    on_taken: Callable[[Lock], None] = lambda _lock: None
    """Called when a lease is held, before the work on it begins: brings here what others have done."""
    _renewal: "_Renewal" = field(init=False)
    _quotas: Quotas = field(init=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "_renewal", _Renewal(self.another, self.fences))
        object.__setattr__(self, "_quotas", Quotas(self.database, self.holder.machine))

    def reach(self, server: str) -> Scope:
        return Scope.MACHINE if self.is_here(server) else Scope.LEDGER

    def hold(self, lock: Lock) -> AbstractContextManager[None]:
        ours = super().hold(lock)
        return ours if lock.scope is Scope.MACHINE else self._hold(lock, ours)

    @contextmanager
    def _hold(self, lock: Lock, ours: AbstractContextManager[None]) -> Iterator[None]:
        with ours:
            fence = self._take(lock)
            try:
                self._renewal.begin()
                self.on_taken(lock)
                yield
            finally:
                self._release(fence)

    def expect(self) -> None:
        self.fences.expect()

    def rest(self, authority: str, seconds: float) -> None:
        self._quotas.rest(authority, seconds)

    def rests(self, authority: str) -> float:
        return self._quotas.rests(authority)

    def _take(self, lock: Lock) -> int:
        deadline, pause = time.monotonic() + time_left(lock.patience), 0.05
        place_until = time.monotonic() + time_left(WAIT_SECONDS)
        while True:
            asked = self.fences.now()
            fence = self._ask_for(lock)
            if fence is not None:
                self.fences.add(fence, lock.what, asked)
                return fence
            if lock.quota is not None and not self._is_held(lock):
                self._quotas.await_place(lock.quota, place_until)
                continue
            if time.monotonic() + pause > deadline:
                raise self._busy(lock)
            time.sleep(pause)
            pause = min(pause * 2, _LONGEST_PAUSE)

    def _ask_for(self, lock: Lock) -> int | None:
        """Ask for a lease once; returns its fence, None where another has it."""
        values = {"key": lock.key, "what": lock.what, "machine": self.holder.machine, "place": _place(self.folder),
                  "command": printable(self.holder.command), "seconds": self.fences.seconds,
                  "authority": lock.quota.authority if lock.quota is not None else "",
                  "at_once": lock.quota.at_once if lock.quota is not None else 0}  # fmt: skip
        database = self.database()
        with database.writing():
            row = database.row(_TAKE, values)
        return None if row is None else int(row["fence"])

    def _is_held(self, lock: Lock) -> bool:
        """Tell whether another machine has it; where none has, its quota is used up."""
        values = {"key": lock.key, "place": _place(self.folder)}
        return self.database().row(_HELD, values) is not None

    def _busy(self, lock: Lock) -> Busy:
        row = self.database().row(f"{_HOLDER} WHERE key = :key", {"key": lock.key})
        said = f"{row['machine']} has it, with {row['command']}" if row is not None else ""
        return Busy(
            f"another run is at work on {lock.what}", where="the shared ledger", said=said,
            advice="wait for it to end, then run the same command again; where that machine has died, its lease"
            f" lapses within {self.fences.seconds:.0f} s",
        )  # fmt: skip

    def _release(self, fence: int) -> None:
        """Let a lease go; where the database does not hear of it, it lapses."""
        self.fences.remove(fence)
        with suppress(LedgerTrouble):
            database = self.database()
            with database.writing():
                database.execute("DELETE FROM lease WHERE fence = :fence", {"fence": fence})

    def close(self) -> None:
        """End the thread that renews."""
        self._renewal.end()


class _Renewal:
    """Renews what is held, each third of a lease's time; one thread, which begins with the first lease."""

    def __init__(self, another: Callable[[], Database], fences: Fences) -> None:
        self._another = another
        self._fences = fences
        self._begun = threading.Lock()
        self._thread: threading.Thread | None = None
        self._ended = threading.Event()

    def begin(self) -> None:
        with self._begun:
            if self._thread is None:
                self._thread = threading.Thread(target=self._run, name="lease-renewal", daemon=True)
                self._thread.start()

    def end(self) -> None:
        self._ended.set()

    def _run(self) -> None:
        pause = self._fences.seconds / 3
        while not self._ended.wait(pause):
            held = self._fences.numbers()
            if not held:
                continue
            try:
                pause = self._fences.seconds / 3
                with closing(self._another()) as database:
                    self._renew(database, held)
            except LedgerTrouble:  # told by whoever acts next: `expect` raises when it is too late
                pause = 1.0

    def _renew(self, database: Database, held: list[int]) -> None:
        asked = self._fences.now()
        rows = database.rows(_RENEW, {"seconds": self._fences.seconds, "fences": held})
        renewed = {int(row["fence"]) for row in rows}
        self._fences.renewed(renewed, asked)
        # One that was let go in between is in nobody's way.
        self._fences.lose(set(held) - renewed)


def _place(folder: Path) -> str:
    """Return what names a kernel and a folder of locks on it: two holders with the same cannot both have its lock."""
    found = os.stat(private_folder(folder))
    try:
        boot = Path("/proc/sys/kernel/random/boot_id").read_text().strip()
    except OSError:  # not told here: then nobody is at the same place, and leases have to lapse
        boot = f"{os.getpid()}-{time.monotonic_ns()}"
    return f"{boot} {found.st_dev}:{found.st_ino}"
