"""Proofs by DNS against real BIND, and looking beforehand at many names.

    python benchmarks/proofs.py [NAMES]

NAMES (100) in one order by dns-01: updates and questions, seconds from the first update until every nameserver has
every record; five times as many in one `precheck`, beside the same looks one after another; as many certificates by
http-01, with files and with a standing answer. Needs what `tools/check-all` installs.
"""

import signal
import sys
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).resolve().parent.parent / "tests"))

import msgspec
from bind_world import SECONDARY, BindWorld, bind_world
from world import plain_site, real_world

from inkstamp.config.model import Certificate
from inkstamp.jobs.renewal.run import renew
from inkstamp.jobs.validation import dns_records
from inkstamp.jobs.validation import precheck as job
from inkstamp.jobs.validation.standing import StandingWish, put_standing
from inkstamp.proof.record import RecordProof
from inkstamp.reach import dns_update
from inkstamp.reach.local import LocalHost
from inkstamp.runtime import Runtime
from inkstamp.severity import Severity, worst
from inkstamp.view import authoritative

TABLES = '\n[nameserver.primary]\nkey_file = "primary.tsig"\n'


def counted(owner: Any, name: str, counts: Counter[str]) -> Callable[[], None]:
    """Count calls of a function; returns what puts it back."""
    original = getattr(owner, name)

    def wrapped(*arguments: Any, **options: Any) -> Any:
        counts[name] += 1
        return original(*arguments, **options)

    setattr(owner, name, wrapped)
    return lambda: setattr(owner, name, original)


def by_records(world: BindWorld, count: int) -> None:
    counts: Counter[str] = Counter()
    undo = [counted(dns_update, "send_update", counts), counted(authoritative, "ask_server", counts)]
    runtime = Runtime(world.config, world.home)
    names = [f"n{number}.saltmarsh.test" for number in range(count)]
    order = runtime.ledger.intend_order("many", "quayside", names)
    proofs = [RecordProof("txt", f"_acme-challenge.{name}", "v" * 43) for name in names]
    began = time.monotonic()
    placed = dns_records.place(runtime, proofs)
    found = time.monotonic()
    dns_records.put_up(runtime, order.id, "primary", placed)
    updated = time.monotonic()
    observed = dns_records.observe(runtime, "primary", placed)
    assert worst(finding for found in observed.values() for finding in found) is Severity.OK
    seen = time.monotonic()
    dns_records.take_down_of(runtime, order.id)
    gone = time.monotonic()
    runtime.close(0)
    for each in undo:
        each()
    print(f"{f'{count} names in one order by dns-01, two nameservers':<58}  seconds")
    print(f"{'zones found, aliases followed':<58}  {found - began:7.3f}")
    updates, questions = counts["send_update"] // 2, counts["ask_server"]  # half of the updates take it out again
    print(f"{f'put up, updates: {updates}':<58}  {updated - found:7.3f}")
    print(f"{f'seen by all, questions to nameservers: {questions}':<58}  {seen - updated:7.3f}")
    print(f"{'from the first update until all is seen':<58}  {seen - found:7.3f}")
    print(f"{'taken out again':<58}  {gone - seen:7.3f}")


def lagging(world: BindWorld) -> None:
    """How long after the last nameserver has a record the waiting ends; the second one is stopped for a while."""
    runtime = Runtime(world.config, world.home)
    order = runtime.ledger.intend_order("late", "quayside", ["late.saltmarsh.test"])
    placed = dns_records.place(runtime, [RecordProof("txt", "_acme-challenge.late.saltmarsh.test", "v" * 43)])
    there: list[float] = []

    def witness() -> None:
        time.sleep(2)
        world.secondary.send_signal(signal.SIGCONT)
        while not there:
            told = authoritative.ask_server("ns2", SECONDARY, world.dns_port, placed[0].record.name, "TXT")
            if told.values:
                there.append(time.monotonic())
            time.sleep(0.02)

    world.secondary.send_signal(signal.SIGSTOP)
    watcher = threading.Thread(target=witness)
    watcher.start()
    dns_records.put_up(runtime, order.id, "primary", placed)
    dns_records.observe(runtime, "primary", placed)
    ended = time.monotonic()
    watcher.join()
    dns_records.take_down_of(runtime, order.id)
    runtime.close(0)
    print(f"{'a nameserver that lags: its having it, to our going on':<58}  {max(ended - there[0], 0):7.3f}")


def beforehand(world: BindWorld, count: int) -> None:
    world.change(*(f"update add p{number}.saltmarsh.test 60 A 127.0.0.1" for number in range(count)))
    names = [f"p{number}.saltmarsh.test" for number in range(count)]
    world.site("many", ["p0.saltmarsh.test"])
    root = world.folder / "www" / "many"
    text = f"server {{ listen 127.0.0.1:{world.nginx.http_port}; server_name .saltmarsh.test; root {root}; }}\n"
    world.nginx.sites_file(text, "many")
    world.nginx.reload()
    time.sleep(1)
    print(f"\n{f'precheck of {count} names':<58}  seconds  names/s")
    for told, at_once in (("one after another", 1), ("as it is", job._AT_ONCE)):
        job._AT_ONCE = at_once
        runtime = Runtime(world.config, world.home)
        began = time.monotonic()
        checks = job.precheck(runtime, names)
        wall = time.monotonic() - began
        runtime.close(0)
        failing = [each for each in checks if not each.passes]
        if failing:
            raise SystemExit(f"{len(failing)} fail: {failing[0]}")
        print(f"{told:<58}  {wall:7.3f}  {count / wall:7.1f}")


def by_web(folder: Path, count: int) -> None:
    """Certificates by http-01 at real nginx and CA: with files in document roots, then with a standing answer."""
    names = [f"w{number}.saltmarsh.test" for number in range(count)]
    written: Counter[str] = Counter()
    undo = [counted(LocalHost, name, written) for name in ("plant", "put", "replace")]
    with real_world(folder, ca_env={"nonces_rejected": "0"}) as world:
        world.add_authority()
        for number, name in enumerate(names):
            root = folder / "www" / str(number)
            root.mkdir(parents=True)
            world.nginx.sites_file(plain_site([name], world.nginx.http_port, root), str(number))
            world.nameserver.table[name] = ["127.0.0.1"]
        world.nginx.reload()
        title = f"{count} certificates by http-01, 4 at once"
        print(f"\n{title:<58}  seconds  CPU, s  files outside HOME  DNS questions")
        for told in ("files in document roots", "standing answer"):
            runtime = Runtime(world.config, world.home)
            if told == "standing answer":
                put_standing(runtime, StandingWish(server="front", authority="quayside"))
            entries = {
                f"{told[:4]}{number}": Certificate(names=(name,), authority="quayside", via="front")
                for number, name in enumerate(names)
            }
            runtime.configuration.use(msgspec.structs.replace(runtime.config, certificate=entries))
            written.clear()
            asked, cpu, wall = world.nameserver.asked, time.process_time(), time.monotonic()
            sweep = renew(runtime, at_once=4)
            seconds, used = time.monotonic() - wall, time.process_time() - cpu
            for each in sweep.failed:
                raise SystemExit(f"{each.due.name}: {each.error}")
            questions = world.nameserver.asked - asked
            runtime.close(0)
            print(f"{told:<58}  {seconds:7.2f}  {used:6.2f}  {written.total():18}  {questions:13}")
    for put_back in undo:
        put_back()


def main(count: int) -> None:
    with tempfile.TemporaryDirectory() as folder, bind_world(Path(folder)) as world:
        text = world.config.read_text()
        world.config.write_text(text + TABLES)
        by_records(world, count)
        lagging(world)
        beforehand(world, count * 5)
    with tempfile.TemporaryDirectory() as folder:
        by_web(Path(folder), count)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 100)
