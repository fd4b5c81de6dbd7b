"""Where the CPU of a certificate goes, by group: sampled while certificates are ordered at a real ACME CA.

    python benchmarks/cpu_by_group.py [COUNT] [--lines]

A timer of CPU time (ITIMER_PROF) fires every few milliseconds of CPU; the stack is then looked
through from its innermost frame outwards, and the first frame that belongs to a group names it. `--lines` also prints
which functions of ours were the innermost ones of each group.
"""

import signal
import subprocess
import sys
import tempfile
from collections import Counter
from concurrent.futures import Future, ThreadPoolExecutor
from importlib import import_module
from pathlib import Path
from types import FrameType
from typing import Any

HERE = Path(__file__).resolve().parent
sys.path[:0] = [str(HERE), str(HERE.parent / "tests")]

GROUPS = (
    ("wire to the CA", ("/acme/session.py", "/acme/network.py")),
    ("signatures", ("/acme/jws.py",)),
    ("JSON and ACME messages", ("/acme/", "/decoding.py")),
    ("shelf and files", ("/ledger/shelf", "/ledger/file_store", "/files.py", "/ledger/local_copy", "/reach/guarded")),
    ("SQLite", ("/ledger/",)),
    ("DNS", ("/dns/", "/view/authoritative", "/view/datagrams", "/view/questions")),
    ("X.509", ("/pki/", "/cryptography/", "/view/trust")),
    ("look at the proof", ("/view/", "/proof/")),
)
"""Group and parts of file names; the innermost frame that fits any decides, in this order."""


def group_of(frame: FrameType | None) -> tuple[str, str]:
    """Return the group of a stack, and the innermost frame of ours as `file:function`."""
    ours = found = ""
    while frame is not None:
        file = frame.f_code.co_filename
        if "/inkstamp/" in file and not ours:
            ours = f"{file.rpartition('/inkstamp/')[2]}:{frame.f_code.co_name}"
        found = found or next((name for name, parts in GROUPS if any(part in file for part in parts)), "")
        if found and ours:
            break
        frame = frame.f_back
    return found or "all else", ours


class Inline(ThreadPoolExecutor):
    """Does at once what it is given, in the thread that gives it: signals are handled in the main thread alone."""

    def submit(self, work: Any, /, *arguments: Any, **options: Any) -> Future[Any]:
        future: Future[Any] = Future()
        future.set_result(work(*arguments, **options))
        return future


class Sampler:
    """Counts, by a timer of CPU time, where the main thread is."""

    def __init__(self) -> None:
        self.groups: Counter[str] = Counter()
        self.lines: Counter[tuple[str, str]] = Counter()
        signal.signal(signal.SIGPROF, self.take)

    def take(self, number: int, frame: FrameType | None) -> None:
        """Handle the timer's signal."""
        del number
        group, ours = group_of(frame)
        self.groups[group] += 1
        self.lines[group, ours] += 1

    def begin(self) -> None:
        signal.setitimer(signal.ITIMER_PROF, 0.001, 0.001)

    def end(self) -> None:
        signal.setitimer(signal.ITIMER_PROF, 0)


def part(config: Path, count: int, *, lines: bool) -> None:
    """Order in this process, and print what was sampled."""
    certificates = import_module("certificates")
    import inkstamp.jobs.renewal.batch

    inkstamp.jobs.renewal.batch.ThreadPoolExecutor = Inline  # type: ignore[attr-defined]
    sampler = Sampler()
    figures = certificates.ours(config, "ours", count, 1, sampler)
    total, each = sum(sampler.groups.values()), figures["cpu"] / count * 1e3
    print(f"{count} certificates, one after another: {each:.1f} ms of CPU each, {total} samples")
    for group, samples in sampler.groups.most_common():
        print(f"{group:<26}{samples / total * each:7.2f} ms  {samples / total:5.0%}")
        if lines:
            inner = Counter({where: number for (of, where), number in sampler.lines.items() if of == group})
            for where, number in inner.most_common(12):
                print(f"    {number / total * each:7.2f}  {where}")


def main(count: int, *more: str) -> None:
    """Bring up the CA, nginx and a nameserver, and order in a process of its own."""
    certificates = import_module("certificates")
    from world import real_world

    with tempfile.TemporaryDirectory() as folder, real_world(Path(folder), ca_env={"nonces_rejected": "0"}) as world:
        world.add_authority()
        world.site("all", certificates.names(count, "ours"))
        subprocess.run([sys.executable, __file__, "--part", str(world.config), str(count), *more], check=True)


if __name__ == "__main__":
    if sys.argv[1:2] == ["--part"]:
        part(Path(sys.argv[2]), int(sys.argv[3]), lines="--lines" in sys.argv)
    else:
        numbers = [int(each) for each in sys.argv[1:] if each.isdecimal()]
        main(numbers[0] if numbers else 100, *(["--lines"] if "--lines" in sys.argv else []))
