"""A shared ledger in a real PostgreSQL: a run with nothing due among very many, and workers side by side.

    python benchmarks/fleet.py [ENROLLED [CERTIFICATES [MACHINES]]]

The first table times commands as whole processes, with ENROLLED (1,000,000) certificates on the roster of which none is
due, beside `python -c pass`. The second has CERTIFICATES (60) ordered at a real ACME CA on loopback by one, two and
four workers, beside one machine with a ledger in a file; the seconds of CPU are those of all workers together. The
third has web servers, each with an nginx of its own and `inkstamp schedule --keep-running`, install an edition that a
worker orders: one, some, and MACHINES (20). Run it with the project installed; PostgreSQL, BIND, nginx and the CA must
be there.
"""

import os
import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent / "tests"))
sys.path.insert(0, str(Path(__file__).resolve().parent))

from fleet_world import FleetWorld, Machine, fleet_world
from start import timed  # type: ignore[import-not-found]

from inkstamp.config.enrolled import group_digests
from inkstamp.config.load import parse
from inkstamp.ledger.postgresql import DatabaseAddress, PostgresqlDatabase
from inkstamp.ledger.shared_ledger import make_tables

_FEW = 8
_AT_ONCE = 4
"""Orders at the same time for each worker; the limit of an authority counts over all."""
_MANY = 1_000
"""Up to so many enrolled it is tried whether all runs, and nothing is measured."""

# As it is between two runs: all have an edition that is installed, and about which nobody need be asked for hours.
_FILL = """
INSERT INTO enrolled (certificate, group_name, customer, names, settings, since, revision, ok_until, ask_at)
SELECT 'site' || n || '.saltmarsh.test', 'web' || n % 40, '', '["site' || n || '.saltmarsh.test"]', '{}', :now, 3,
    :now + 86400 + n % 2000000, :now + 20000 FROM generate_series(1, :count) AS n;
INSERT INTO enrolled_name (name, certificate) SELECT certificate, certificate FROM enrolled;
INSERT INTO edition (certificate, number, names, authority, issuer, root, serial, sha256, not_before, not_after)
SELECT certificate, 1, names, 'quayside', 'Quayside Intermediate A', 'Quayside Harbour Root', '7', md5(certificate),
    :now - 1700000, :now + 2300000 FROM enrolled;
INSERT INTO ca_order (certificate, authority, names, state, url, edition, opened, changed)
SELECT certificate, 'quayside', names, 'issued', 'https://acme.quayside.test/order/' || certificate, 1, :now - 1700000,
    :now - 1700000 FROM enrolled;
INSERT INTO install (certificate, edition, servers, state, at, machine)
SELECT certificate, 1, '["front"]', 'done', :now - 1700000, 'web1' FROM enrolled;
INSERT INTO tidings (certificate, edition, ask_again, status_again, look_again)
SELECT certificate, 1, :now + 20000, :now + 20000, :now + 20000 FROM enrolled;
INSERT INTO change (certificate, number) SELECT certificate, nextval('change_number') FROM enrolled;
INSERT INTO sealed_file (owner, path, mode, key_id, sealed, digest)
SELECT certificate, 'shelf/' || certificate || '/0001/key.pem', 384, 'first', '\\x00', '' FROM enrolled;
INSERT INTO machine (name, release, schema_version, orders, servers, began, seen, change_seen)
SELECT 'ops1', '0', 10, true, '[]', clock_timestamp(), clock_timestamp(), max(number) FROM change
"""


def idle(folder: Path, enrolled: int) -> None:
    """Print the first table."""
    with fleet_world(folder, fsync="on", shared_buffers="256MB") as fleet:
        database = PostgresqlDatabase(DatabaseAddress(fleet.url))
        began = time.perf_counter()
        for statement in _FILL.split(";"):
            with database.writing():
                database.execute("SET LOCAL statement_timeout = 0")
                database.execute(statement, {"now": int(time.time()), "count": enrolled})
        fleet.sql("VACUUM ANALYZE")
        size = fleet.sql("SELECT pg_size_pretty(pg_database_size('fleet'))")
        database.close()
        print(f"{enrolled} certificates, {size} in PostgreSQL, filled in {time.perf_counter() - began:.0f} s")
        groups = "".join(
            f'[group.web{n}]\nauthority = "quayside"\nvia = "primary"\nproof = "dns-01"\ninstall = ["front"]\n'
            for n in range(40)
        )
        fleet.configure(groups)
        ops = fleet.machines["ops1"]
        os.environ["INKSTAMP_CONFIG"] = str(ops.config)
        program, name = str(Path(sys.executable).parent / "inkstamp"), f"site{enrolled // 2}.saltmarsh.test"
        for group, digest in group_digests(parse(ops.config.read_bytes(), ops.config)).items():
            fleet.sql(f"INSERT INTO enrolled_group VALUES ('{group}', '{digest}')")
        rows = [
            ("python -c pass", [sys.executable, "-c", "pass"]),
            ("inkstamp renew, none due", [program, "renew"]),
            ("inkstamp status", [program, "status"]),
            (f"inkstamp why {name}", [program, "why", name]),
        ]
        print(f"{'command':<44}  seconds  CPU s    MB  times `python -c pass`")
        base = 0.0
        for told, command in rows:
            wall, cpu, memory = timed(command, 5 if enrolled > _MANY else 1)
            base = base or wall
            print(f"{told:<44}  {wall:7.3f}  {cpu:5.3f}  {memory:4.0f}  {wall / base:8.1f}", flush=True)


def workers(folder: Path, count: int) -> None:
    """Print the second table."""
    with fleet_world(folder, fsync="on") as fleet:
        print(f"{f'{count} certificates, {_AT_ONCE} at once each':<34}  seconds  a second  CPU s each  shares")
        alone = fleet.machine("alone")
        names = [f"c{number}" for number in range(count)]
        for each in names:
            fleet.certificate(each, f"{each}.saltmarsh.test", install="[]")
        text = alone.config.read_text()
        begin, end = text.index("[ledger]"), text.index("[nameserver.primary]")
        alone.config.write_text(text[:begin] + text[end:].replace('machines = ["web*"]\n', ""))
        alone.config.write_text(alone.config.read_text().replace('machines = ["web*"]\n', ""))
        assert alone.run("authority", "add", "quayside").status == 0
        base = measure([alone], names, "one machine, ledger in a file")
        for many in (1, 2, 4) if count > _FEW else (2,):
            url = fleet.postgresql.database(f"fleet{many}")
            database = PostgresqlDatabase(DatabaseAddress(url), made=False)
            make_tables(database)
            database.close()
            machines = [fleet.machine(f"ops{many}{number}", url=url) for number in range(many)]
            assert machines[0].run("authority", "add", "quayside").status == 0
            before = written(fleet, many)
            measure(machines, names, f"{many} worker{'s' if many > 1 else ''}, shared ledger", base)
            wrote, ended = (after - first for after, first in zip(written(fleet, many), before, strict=True))
            kept = "SELECT coalesce(sum(length(sealed)), 0) FROM sealed_file WHERE owner <> 'accounts/'"
            stored = int(fleet.postgresql.sql(kept, f"fleet{many}"))
            print(f"{'':<34}  of each: {wrote / count / 1024:.0f} KiB of WAL, {ended / count:.0f} transactions,"
                  f" {stored / count / 1024:.1f} KiB of sealed files kept", flush=True)  # fmt: skip


def written(fleet: FleetWorld, many: int) -> tuple[int, int]:
    """Return how many bytes the server has written to its log ahead of its files, and the transactions it has ended."""
    return (
        int(fleet.sql("SELECT pg_wal_lsn_diff(pg_current_wal_lsn(), '0/0')::bigint")),
        int(fleet.sql(f"SELECT xact_commit FROM pg_stat_database WHERE datname = 'fleet{many}'")),
    )


def served(folder: Path, most: int) -> None:
    """Print the third table."""
    with fleet_world(folder, fsync="on") as fleet:
        told = "an edition issued, until it is served by"
        print(f"{told:<44}    first   median     last  seconds")
        fleet.certificate("rowing", "rowing.saltmarsh.test")
        ops, nodes, daemons = fleet.machines["ops1"], list[Machine](), list["subprocess.Popen[bytes]"]()
        try:
            for number, count in enumerate(sorted({1, max(most // 4, 1), most}), start=1):
                while len(nodes) < count:
                    nodes.append(fleet.machine(f"web{len(nodes)}", ["rowing.saltmarsh.test"]))
                    daemons.append(nodes[-1].begin("schedule", "--keep-running"))
                if number == 1:
                    assert ops.run("renew").status == 0
                awaited(nodes, number)
                begun = ops.begin("stamp", "rowing", "--reissue")
                while int(fleet.sql("SELECT max(number) FROM edition")) <= number:
                    time.sleep(0.02)
                issued = time.perf_counter()
                times = sorted(each - issued for each in awaited(nodes, number + 1))
                assert begun.wait(60) == 0
                row = f"{times[0]:7.2f}  {times[len(times) // 2]:7.2f}  {times[-1]:7.2f}"
                print(f"{f'{count} machine' + ('s' if count > 1 else ''):<44}  {row}", flush=True)
        finally:
            for process in daemons:
                process.terminate()
            for process in daemons:
                process.wait(30)


def awaited(nodes: Sequence[Machine], number: int) -> list[float]:
    """Wait until machines serve an edition; returns when each has said so."""
    found: dict[str, float] = {}
    deadline = time.perf_counter() + 180
    while len(found) < len(nodes):
        for each in nodes:
            if each.name not in found and f"rowing: edition {number} on front," in each.output():
                found[each.name] = time.perf_counter()
        assert time.perf_counter() < deadline
        time.sleep(0.02)
    return list(found.values())


def measure(machines: Sequence[Machine], names: Sequence[str], told: str, base: float = 0) -> float:
    """Have machines order all, and print a line; returns the CPU seconds of a certificate."""
    used = resource.getrusage(resource.RUSAGE_CHILDREN)
    began = time.perf_counter()
    processes = [each.begin("renew", "--at-once", str(_AT_ONCE * len(machines))) for each in machines]
    for each in processes:
        assert each.wait(1800) in {0, 1}
    wall = time.perf_counter() - began
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    cpu = (after.ru_utime + after.ru_stime - used.ru_utime - used.ru_stime) / len(names)
    shares = ", ".join(str(each.output().count("downloading")) for each in machines)
    times = f" ({cpu / base:.2f} times)" if base else ""
    print(f"{told:<34}  {wall:7.2f}  {len(names) / wall:8.1f}  {cpu:10.3f}  {shares}{times}", flush=True)
    return cpu


if __name__ == "__main__":
    given = [int(each) for each in sys.argv[1:]] or [1_000_000]
    for part, size in ((idle, given[0]), (workers, (given[1:] or [60])[0]), (served, (given[2:] or [20])[0])):
        with tempfile.TemporaryDirectory() as made:
            Path(made).chmod(0o755)
            (Path(made) / "world").mkdir()
            part(Path(made), size)
