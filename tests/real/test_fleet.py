"""Machines that share a ledger: real PostgreSQL, BIND, nginx and CA."""

import json
import re
import signal
import subprocess
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from fleet_soak import soak
from fleet_world import FleetWorld, Machine, fleet_world
from killing import killed_at
from more_servers import open_folder
from postgresql import USER, program

from inkstamp.standins.ports import free_ports
from inkstamp.standins.tcp_proxy import TcpProxy

ROWING = "rowing.saltmarsh.test"


@pytest.fixture(scope="module")
def fleet(tmp_path_factory: pytest.TempPathFactory) -> Iterator[FleetWorld]:
    folder = tmp_path_factory.mktemp("fleet")
    (folder / "world").mkdir()
    with fleet_world(folder, fsync="on") as made:
        made.shared = made.shared.replace('workers = ["ops*"]', 'workers = ["ops*"]\nlease_seconds = 5')
        made.machine("ops2")
        for role, group in (
            ("web1", "inkstamp_node"),
            ("web2", "inkstamp_node"),
            ("web3", "inkstamp_node"),
            ("ops3", "inkstamp_worker"),
        ):
            made.sql(f'CREATE ROLE "{role}" LOGIN IN ROLE {group}')
        made.certificate("rowing", ROWING)
        for each in ("web1", "web2"):
            made.machine(each, [ROWING], url=as_role(made, each))
        made.certificate("quay", "quay.saltmarsh.test", install="[]")
        for each in ("ops1", "web1", "web2", "ops1"):
            done = made.machines[each].run("renew")
            assert done.status == 0, done.err
        yield made


def flat(text: str) -> str:
    return re.sub(r"\s+", " ", text)


def as_role(fleet: FleetWorld, role: str) -> str:
    return fleet.url.replace(f"{USER}@", f"{role}@")


def wait_for(condition: Callable[[], bool], seconds: float = 30) -> None:
    deadline = time.monotonic() + seconds
    while not condition():
        assert time.monotonic() < deadline
        time.sleep(0.1)


def until_issued(fleet: FleetWorld, machine: Machine, name: str, number: int = 1) -> None:
    """Run `renew` until a certificate has an edition: what another machine was at is left to it for a while."""

    def is_issued() -> bool:
        done = machine.run("renew", name)
        assert done.status in {0, 1}, done.err
        return edition(fleet, name) == number

    wait_for(is_issued, 30)


def edition(fleet: FleetWorld, name: str) -> int:
    """The number of the newest edition, by whichever server is the primary now."""
    server = next(each for each in (fleet.postgresql, fleet.standby) if each is not None and each.runs())
    return int(server.sql(f"SELECT coalesce(max(number), 0) FROM edition WHERE certificate = '{name}'", "fleet"))


def test_what_one_machine_orders_is_on_all_machines_with_its_servers_within_seconds(fleet: FleetWorld) -> None:
    nodes = [fleet.machines["web1"], fleet.machines["web2"]]
    daemons = [each.begin("schedule", "--keep-running") for each in nodes]
    try:
        for each in nodes:
            wait_for(lambda each=each: "runs again" in each.output())  # type: ignore[misc]
        done = fleet.machines["ops1"].run("stamp", "rowing", "--reissue")
        assert done.status == 0, done.err
        issued, told = time.monotonic(), f"rowing: edition {edition(fleet, 'rowing')} on front,"
        assert "is ready for the servers of other machines" in done.out
        for each in nodes:
            wait_for(lambda each=each: told in each.output())  # type: ignore[misc]
        assert time.monotonic() - issued < 8
    finally:
        for process in daemons:
            process.send_signal(signal.SIGTERM)
            process.wait(20)
    listed = json.loads(fleet.machines["ops1"].run("machines", "--json").out)["machines"]
    lacking = {each["machine"]["name"]: each["lacks"] for each in listed}
    assert (lacking["ops1"], lacking["web1"], lacking["web2"]) == ([], [], [])
    home = fleet.machines["ops1"].home
    kept = {each.parent.parent.name for each in home.rglob("key.pem")}
    assert kept <= {"quay"}, "keys are on the machines that serve them alone"
    assert (nodes[0].home / "shelf" / "rowing" / "current" / "key.pem").stat().st_mode & 0o777 == 0o600
    refused = nodes[0].run("stamp", "rowing", "--reissue")
    assert refused.status == 2
    assert "installs what others order" in flat(refused.err)


def test_a_node_sees_its_own_editions_alone_and_the_database_refuses_all_else(fleet: FleetWorld) -> None:
    def ask(statement: str, role: str = "web1") -> "subprocess.CompletedProcess[str]":
        return subprocess.run(
            [program("psql"), "-XAtq", as_role(fleet, role), "-c", statement], check=False, capture_output=True,
            text=True,
        )  # fmt: skip

    assert set(ask("SELECT DISTINCT owner FROM sealed_file").stdout.split()) == {"rowing"}
    assert ask("SELECT count(*) FROM edition WHERE certificate = 'quay'").stdout.strip() == "0"
    assert ask("SELECT count(*) FROM sealed_file WHERE path LIKE 'accounts/%'").stdout.strip() == "0"
    assert ask("SELECT count(*) FROM sealed_file WHERE path LIKE 'accounts/%'", "ops3").stdout.strip() == "1"
    for statement in (
        "INSERT INTO install (certificate, edition, servers, state, at, machine) VALUES ('rowing', 1, '[]', 'done', 1, "
        "'web2')",
        "INSERT INTO install (certificate, edition, servers, state, at, machine) VALUES ('quay', 1, '[]', 'done', 1, "
        "'web1')",
        "INSERT INTO machine (name, release, schema_version, orders, servers, began, seen) VALUES ('web3', '1', 10, "
        "false, '[]', now(), now())",
        "UPDATE machine SET orders = true",
        "INSERT INTO assigned (machine, kind, name) VALUES ('web1', 'certificate', 'quay')",
        "INSERT INTO rollout_machine (certificate, edition, machine) VALUES ('rowing', 9, 'web1')",
        "DELETE FROM rollout",
        "INSERT INTO edition SELECT 'rowing', 9, names, authority, issuer, root, serial, sha256, 0, 0, '' FROM edition",
        "SELECT * FROM lease",
        "DROP TABLE sealed_file",
        "ALTER TABLE sealed_file DISABLE ROW LEVEL SECURITY",
    ):
        told = ask(statement)
        assert told.returncode != 0, statement
        assert re.search("row-level security|permission denied|must be owner", told.stderr), told.stderr
    for statement in ("UPDATE install SET machine = 'web1' WHERE machine = 'web2'", "DELETE FROM event"):
        told = ask(f"{statement} RETURNING 1")
        assert told.stdout.strip() == "", statement


def test_an_edition_is_rolled_out_in_steps_a_failure_stops_it_and_machines_go_back(fleet: FleetWorld) -> None:
    ops, first, second = (fleet.machines[each] for each in ("ops1", "web1", "web2"))

    def renewed(*machines: Machine) -> None:
        for each in machines:
            done = each.run("renew")
            assert done.status == 0, done.out + done.err

    def served(machine: Machine) -> int:
        return int((machine.home / "shelf" / "slipway" / "current").resolve().name)

    def told() -> str:
        return flat(ops.run("status").out)

    name = "slipway.saltmarsh.test"
    fleet.configure(
        f'\n[certificate.slipway]\nauthority = "quayside"\nnames = ["{name}"]\nvia = "primary"\nproof = "dns-01"\n'
        'install = ["front"]\nrollout = ["web2", 1]\n'
    )
    sites = [each.site(name) for each in (first, second)]
    renewed(ops, first, second)
    assert (served(first), served(second)) == (1, 1), "the first edition is on all at once"
    assert ops.run("stamp", "slipway", "--reissue").status == 0
    renewed(first)
    assert served(first) == 1, "it is not its turn"
    assert "edition 2, step 1 of 2, 0 of 2 machines serve it; waits for web2" in told()
    renewed(second, ops, first)
    assert (served(first), served(second)) == (2, 2)
    renewed(ops)
    assert ops.run("machines", "rollout").out == "no edition is being rolled out in steps\n"

    assert ops.run("stamp", "slipway", "--reissue").status == 0
    text = sites[1].read_text()
    sites[1].write_text(f"{text}nonsense;\n")
    assert second.run("renew").status == 1
    renewed(ops, first)
    assert "edition 3, step 1 of 2, 0 of 2 machines serve it; stopped: web2:" in told()
    assert "inkstamp machines rollout slipway --back, or --to-all" in told()
    assert (served(first), served(second)) == (2, 2)
    sites[1].write_text(text)
    renewed(second)
    assert served(second) == 3, "it goes on where the fault is mended"
    back = ops.run("machines", "rollout", "slipway", "--back")
    assert "edition 3 is taken back; machines that have it go back to edition 2" in flat(back.out), back.err
    renewed(ops, first, second)
    assert (served(first), served(second)) == (2, 2)
    assert "was taken back" in told()
    refused = first.run("machines", "rollout", "slipway", "--to-all")
    assert "installs what others order" in flat(refused.err)
    assert ops.run("machines", "rollout", "slipway", "--to-all").status == 0
    renewed(first, second)
    assert (served(first), served(second)) == (3, 3)


def test_a_dump_holds_no_key_and_a_flipped_bit_is_found(fleet: FleetWorld) -> None:
    dump = subprocess.run([program("pg_dump"), fleet.url], check=True, capture_output=True).stdout
    home = fleet.machines["web1"].home
    account = fleet.machines["ops1"].home / "accounts" / "quayside.pem"
    secrets = [account, *home.rglob("key.pem")]
    assert len(secrets) >= 2
    for file in secrets:
        pem = file.read_bytes()
        der = subprocess.run(["openssl", "pkey", "-outform", "DER"], input=pem, check=True, capture_output=True).stdout
        for secret in (pem, pem.splitlines()[1], der, der[-32:]):
            assert secret not in dump
            assert secret.hex().encode() not in dump
    ops = fleet.machines["ops1"]
    assert ops.run("ledger", "verify").status == 0
    where = "owner = 'quay' AND path LIKE '%/leaf.pem'"
    flip = f"UPDATE sealed_file SET sealed = set_bit(sealed, 200, 1 - get_bit(sealed, 200)) WHERE {where}"
    fleet.sql(flip)
    found = ops.run("ledger", "verify")
    assert found.status == 1
    assert "shelf/quay/0001/leaf.pem" in found.out
    fleet.sql(flip)
    fleet.sql(f"UPDATE sealed_file SET digest = 'x' WHERE {where}")
    assert "its digest is another" in ops.run("ledger", "verify").out
    fleet.sql(f"UPDATE sealed_file SET digest = encode(sha256(''), 'hex') WHERE {where}")
    fleet.sql(f"DELETE FROM sealed_file WHERE {where}")
    assert "its files are not stored" in ops.run("ledger", "verify").out


def test_the_sealing_key_is_changed_while_all_goes_on_and_a_program_may_wrap_it(fleet: FleetWorld) -> None:
    ops, seals = fleet.machines["ops1"], fleet.folder / "seal.keys"
    first = seals.read_text()
    new = "second " + subprocess.run(["openssl", "rand", "-base64", "32"], check=True, capture_output=True,
                                     text=True).stdout  # fmt: skip
    seals.write_text(new + first)
    done = ops.run("ledger", "reseal")
    assert done.status == 0, done.err
    assert json.loads(ops.run("ledger", "reseal", "--json").out)["done"]["resealed"] == 0
    seals.write_text(new)
    assert fleet.machines["web1"].run("renew").status == 0
    assert fleet.machines["ops2"].run("renew").status == 0
    seals.write_text(first)
    (fleet.machines["ops2"].home / "accounts" / "quayside.pem").unlink(
        missing_ok=True
    )  # a copy, which needs no opening
    lost = fleet.machines["ops2"].run("stamp", "rowing", "--reissue")
    assert lost.status == 2
    assert "the sealing key “second” is not here" in lost.err
    seals.write_text(new)

    wrapping = fleet.folder / "wrap"
    wrapping.write_text(
        "#!/usr/bin/env python3\nimport base64, json, sys\nasked = json.load(sys.stdin)\n"
        "turn = lambda text: bytes(byte ^ 0x5A for byte in text)\n"
        "if asked['action'] == 'wrap':\n"
        "    print(json.dumps({'done': True, 'wrapped': turn(base64.b64decode(asked['key'])).hex()}))\n"
        "else:\n"
        "    key = base64.b64encode(turn(bytes.fromhex(asked['wrapped']))).decode()\n"
        "    print(json.dumps({'done': True, 'key': key}))\n"
    )
    wrapping.chmod(0o700)
    before = fleet.shared
    fleet.shared = before.replace(f'seal_key_file = "{seals}"', f'seal_program = ["{wrapping}"]')
    fleet.configure("")
    try:
        refused = ops.run("ledger", "reseal")
        assert "is not in the database" in refused.err, "those of the file are opened by the file"
        fleet.shared = fleet.shared.replace("seal_program", f'seal_key_file = "{seals}"\nseal_program')
        fleet.configure("")
        assert ops.run("ledger", "reseal").status == 0
        fleet.shared = before.replace(f'seal_key_file = "{seals}"', f'seal_program = ["{wrapping}"]')
        fleet.configure("")
        assert ops.run("ledger", "verify").out.count("bad") == 0
        assert "data-1" in ops.run("ledger", "show").out
        assert fleet.machines["ops2"].run("stamp", "rowing", "--reissue").status == 0
        assert ops.run("ledger", "reseal").status == 0
        assert "data-2" in ops.run("ledger", "show").out, "each time with a new one"
        fleet.shared = before.replace(
            "seal_key_file", f'seal_with = "file"\nseal_program = ["{wrapping}"]\nseal_key_file'
        )
        fleet.configure("")
        assert ops.run("ledger", "reseal").status == 0
    finally:
        fleet.shared = before
        seals.write_text(new)
        fleet.configure("")
    assert "data-" not in ops.run("ledger", "show").out
    assert ops.run("ledger", "verify").out.count("bad") == 0


def test_workers_that_are_killed_anywhere_are_taken_over_with_their_orders_and_keys(fleet: FleetWorld) -> None:
    assert soak(fleet, kills=8, certificates=6, seed=3).startswith("8 kills, 6 certificates, as many orders")
    assert not json.loads(fleet.machines["ops2"].run("ledger", "show", "--json").out)["ledger"]["open_orders"]


def clock_off_by(minutes: int, folder: Path) -> dict[str, str]:
    """Return the environment of a program whose machine has a wrong clock."""
    place = folder / f"off-by-{minutes}"
    place.mkdir()
    (place / "sitecustomize.py").write_text(
        "from datetime import datetime, timedelta\nfrom inkstamp import clock\n"
        "class Wrong(datetime):\n    @classmethod\n    def now(cls, zone=None):\n"
        f"        return datetime.now(zone) + timedelta(minutes={minutes})\nclock.datetime = Wrong\n"
    )
    return {"PYTHONPATH": str(place)}


def test_of_two_workers_whose_clocks_are_wrong_one_leaves_a_certificate_to_the_other(
    fleet: FleetWorld, tmp_path: Path
) -> None:
    names = [f"pontoon{number}" for number in range(6)]
    for each in names:
        fleet.certificate(each, f"{each}.saltmarsh.test")
    orders = fleet.world.ca.orders()
    clocks = {"ops1": 5, "ops2": -5}  # minutes; leases go by the database's
    workers = [fleet.machines[each].begin("renew", env=clock_off_by(off, tmp_path)) for each, off in clocks.items()]
    assert [each.wait(120) for each in workers] == [0, 0]
    assert fleet.world.ca.orders() == orders + len(names)
    assert "another run is working on it" in fleet.machines["ops1"].output() + fleet.machines["ops2"].output()
    for each, said in (("ops1", "ahead of"), ("ops2", "behind")):
        assert f"this machine's clock is 300 s {said} the database's" in flat(fleet.machines[each].output())
    wrong_by = "abs(extract(epoch FROM clock_timestamp())::int - at)"
    assert int(fleet.sql(f"SELECT max({wrong_by}) FROM event WHERE certificate LIKE 'pontoon%'")) < 60


def test_a_worker_that_was_stopped_or_cut_off_does_nothing_more_once_another_has_its_lease(fleet: FleetWorld) -> None:
    fleet.certificate("jetty", "jetty.saltmarsh.test")
    (port,) = free_ports(1)
    with TcpProxy(port, fleet.postgresql.port) as proxy:
        cut_off = fleet.machine("ops10", url=fleet.url.replace(f":{fleet.postgresql.port}/", f":{port}/"))
        orders = fleet.world.ca.orders()
        process = cut_off.begin("stamp", "jetty")
        wait_for(lambda: fleet.world.ca.orders() == orders + 1)
        proxy.holds.set()
        process.send_signal(signal.SIGSTOP)  # else it would wait for the database, and do nothing either
        until_issued(fleet, fleet.machines["ops2"], "jetty")
        requests = fleet.world.ca.log.read_text().count("POST ")
        process.send_signal(signal.SIGCONT)
        proxy.holds.clear()
        assert process.wait(60) == 1
    # By the lease or, where it was stopped in a transaction, since the server has ended that; of which it may have
    # heard no more than the end of the connection.
    ended = "lease on the certificate “jetty” is lost|idle-in-transaction timeout|server closed the connection"
    assert re.search(ended, flat(cut_off.output())), cut_off.output()
    assert fleet.world.ca.log.read_text().count("POST ") == requests, "it asked the CA for nothing more"
    assert fleet.world.ca.orders() == orders + 1


def test_a_database_that_is_slow_and_whose_connections_are_cut_delays_a_run_and_doubles_nothing(
    fleet: FleetWorld,
) -> None:
    (port,) = free_ports(1)
    names = [f"buoy{number}" for number in range(3)]
    for each in names:
        fleet.certificate(each, f"{each}.saltmarsh.test")
    orders = fleet.world.ca.orders()
    with TcpProxy(port, fleet.postgresql.port) as proxy:
        worker = fleet.machine("ops5", url=fleet.url.replace(f":{fleet.postgresql.port}/", f":{port}/"))
        proxy.delay = 0.02
        process = worker.begin("renew", *names)
        for _ in range(3):
            time.sleep(0.8)
            proxy.cut()
        process.wait(120)
        proxy.delay = 0
        for each in names:
            until_issued(fleet, worker, each)
    assert fleet.world.ca.orders() == orders + len(names)


def test_a_database_that_is_killed_and_comes_back_loses_and_doubles_nothing(fleet: FleetWorld) -> None:
    names = [f"tide{number}" for number in range(50)]
    fleet.configure(
        "".join(
            f'\n[certificate.{each}]\nauthority = "quayside"\nnames = ["{each}.saltmarsh.test"]\nvia = "primary"\n'
            'proof = "dns-01"\ninstall = ["front"]\n'
            for each in names
        )
    )
    orders = fleet.world.ca.orders()
    workers = [fleet.machines[each].begin("renew", *names) for each in ("ops1", "ops2")]
    wait_for(lambda: fleet.world.ca.orders() >= orders + len(names) // 2)
    fleet.postgresql.stop(signal.SIGKILL)
    time.sleep(2)
    fleet.postgresql.start()
    for process in workers:
        assert process.wait(120) in {0, 1}
    issued = f"SELECT count(*) FROM edition WHERE certificate IN ({', '.join(map(repr, names))})"
    wait_for(lambda: fleet.machines["ops1"].run("renew", *names).status in {0, 1} and fleet.sql(issued) == "50", 60)
    assert fleet.world.ca.orders() == orders + len(names)
    assert json.loads(fleet.machines["ops1"].run("ledger", "verify", "--json").out)["verified"]["editions"] >= len(
        names
    )


def test_a_standby_that_is_promoted_goes_on_with_every_order_key_and_edition(fleet: FleetWorld) -> None:
    names = [f"lock{number}" for number in range(6)]
    for each in names:
        fleet.certificate(each, f"{each}.saltmarsh.test")
    primary = fleet.postgresql
    with open_folder() as folder:
        as_owner(folder)
        standby = fleet.standby = primary.standby(folder)
        try:
            both = fleet.url.replace(f":{primary.port}/", f":{primary.port},127.0.0.1:{standby.port}/")
            workers = [fleet.machine(each, url=f"{both}?target_session_attrs=read-write") for each in ("ops6", "ops7")]
            orders = fleet.world.ca.orders()
            running = [each.begin("renew", *names) for each in workers]
            wait_for(lambda: fleet.world.ca.orders() >= orders + 2)
            primary.stop(signal.SIGKILL)
            standby.promote()
            for process in running:
                assert process.wait(120) in {0, 1}
            for each in names:
                until_issued(fleet, workers[0], each)
            assert fleet.world.ca.orders() == orders + len(names)
            assert workers[1].run("ledger", "verify").out.count("bad") <= 1  # the one that a test before has spoilt
        finally:
            if not primary.runs():
                primary.settings["synchronous_standby_names"] = ""
                primary.start()
            primary.sql("ALTER SYSTEM RESET synchronous_standby_names")
            primary.sql("SELECT pg_reload_conf()")
            standby.stop()
            fleet.standby = None


def as_owner(folder: Path) -> None:
    subprocess.run(["chown", USER, str(folder)], check=True)


def test_a_pooler_in_between_swallows_notifications_and_that_is_told(fleet: FleetWorld, tmp_path: Path) -> None:
    (port,) = free_ports(1)
    with open_folder() as folder:
        as_owner(folder)
        (folder / "pgbouncer.ini").write_text(
            f"[databases]\nfleet = host=127.0.0.1 port={fleet.postgresql.port} user={USER}\n"
            "[pgbouncer]\nlisten_addr = 127.0.0.1\n"
            f"listen_port = {port}\nauth_type = any\npool_mode = transaction\nunix_socket_dir =\n"
            f"logfile = {folder}/log\n"
        )
        pooler = subprocess.Popen(
            ["pgbouncer", str(folder / "pgbouncer.ini")], user=USER, stdout=subprocess.DEVNULL,
            stderr=subprocess.DEVNULL, cwd="/",
        )  # fmt: skip
        try:
            time.sleep(1)
            assert pooler.poll() is None, (folder / "log").read_text()
            node = fleet.machine("web8", ["rowing.saltmarsh.test"],
                                 url=fleet.url.replace(f":{fleet.postgresql.port}/", f":{port}/"))  # fmt: skip
            process = node.begin("schedule", "--keep-running")
            try:
                wait_for(lambda: "asking every 5 s" in flat(node.output()), 40)
                assert fleet.machines["ops1"].run("stamp", "rowing", "--reissue").status == 0
                number = edition(fleet, "rowing")
                wait_for(lambda: f"rowing: edition {number} on front," in node.output(), 20)
            finally:
                process.send_signal(signal.SIGTERM)
                process.wait(20)
            worker = fleet.machine("ops8", url=fleet.url.replace(f":{fleet.postgresql.port}/", f":{port}/"))
            fleet.certificate("skiff", "skiff.saltmarsh.test")
            assert worker.run("renew", "skiff").status == 0
        finally:
            pooler.terminate()
            pooler.wait(20)


def test_a_whole_data_directory_is_moved_into_the_database_and_back_killed_or_not(
    fleet: FleetWorld, tmp_path: Path
) -> None:
    url = fleet.postgresql.database("moved")
    ledger = fleet.shared[: fleet.shared.index("[nameserver.primary]")]
    rest = fleet.shared[len(ledger) : fleet.shared.index("[certificate.")]
    entry = '[certificate.harbour]\nauthority = "quayside"\nnames = ["harbour.saltmarsh.test"]\nvia = "primary"\n'
    solo = fleet.machine("solo", nginx=True)
    assert solo.nginx is not None
    view, _, _ = solo.config.read_text().partition("[server.front]")
    alone = (
        view
        + rest
        + f'{entry}proof = "dns-01"\n[group.boats]\nauthority = "quayside"\nvia = "primary"\nproof = "dns-01"\n'
    )
    solo.config.write_text(alone)
    assert solo.run("authority", "add", "quayside").status == 0
    assert solo.run("stamp", "harbour").status == 0
    assert solo.run("stamp", "harbour", "--reissue").status == 0
    assert solo.run("enrol", "skiff.saltmarsh.test", "--group", "boats").status == 0
    history, key = (
        solo.run("history", "--json").json,
        (solo.home / "shelf" / "harbour" / "0002" / "key.pem").read_bytes(),
    )
    refused = solo.run("ledger", "show")
    assert refused.status == 2
    assert "the ledger is a file of this machine alone" in refused.err

    solo.config.write_text(alone + ledger.replace(fleet.url, url))
    assert "inkstamp ledger init" in flat(solo.run("ledger", "move", "--yes").err)
    assert solo.run("ledger", "init").status == 0
    assert "the tables were there already" in solo.run("ledger", "init").out
    for place in (2, 5, 9, 14, 16, 18, 20, 22):
        killed_at(place, tmp_path / "counts", solo.config, ["ledger", "move", "--yes"])
        left = solo.home / "ledger.db"
        assert left.exists() or list(solo.home.glob("ledger.db.moved-*")), "nothing is lost"
    done = solo.run("ledger", "move", "--yes")
    assert done.status == 0 or "no ledger in HOME" in done.err, done.err
    assert not (solo.home / "accounts").exists()
    assert list(solo.home.glob("ledger.db.moved-*"))
    assert solo.run("ledger", "verify").status == 0
    events = solo.run("history", "--json").json["events"]
    assert [each["text"] for each in events][: len(history["events"])] == [each["text"] for each in history["events"]]
    other = fleet.machine("ops9")
    other.config.write_text(solo.config.read_text().replace('name = "solo"', 'name = "ops9"'))
    orders = fleet.world.ca.orders()
    assert other.run("renew", "harbour").status == 0
    assert fleet.world.ca.orders() == orders, "it has what the first one has"
    assert other.run("stamp", "harbour", "--reissue").status == 0

    assert other.run("renew").status == 0
    refused = solo.run("ledger", "move", "--back", "--yes")
    assert "other machines are at work with the shared ledger: ops9" in refused.err
    assert other.run("machines", "forget", "ops9").status == 0
    assert solo.run("ledger", "move", "--back", "--yes").status == 0
    solo.config.write_text(alone)
    assert solo.run("renew", "harbour").status == 0
    shown = solo.run("history", "--json").json["events"]
    assert shown[-1]["text"] != history["events"][-1]["text"]
    assert (solo.home / "shelf" / "harbour" / "0002" / "key.pem").read_bytes() == key
    assert (solo.home / "shelf" / "harbour" / "0003" / "key.pem").exists()
    assert solo.run("stamp", "harbour", "--reissue").status == 0, "with the same account"
    assert (solo.home / "shelf" / "harbour" / "0004").is_dir()
    assert "skiff.saltmarsh.test" in solo.run("status", "--group", "boats").out


def test_any_web_server_answers_the_ca_for_whichever_machine_orders(fleet: FleetWorld) -> None:
    name, ops = "pier.saltmarsh.test", fleet.machines["ops1"]
    fleet.world.change(f"update add {name} 60 A 127.0.0.1")
    fleet.world.site("pier", [name])
    fleet.configure(
        f'\n[certificate.pier]\nauthority = "quayside"\nnames = ["{name}"]\nvia = "front"\ninstall = ["front"]\n'
    )
    node = fleet.machine("web3", url=as_role(fleet, "web3"), own=fleet.world.nginx)
    assert node.run("renew").status == 0
    assert ops.run("renew", "pier").status == 1, "nobody answers yet"
    put = node.run("prove", "--standing", "front", "--authority", "quayside", "--yes")
    assert put.status == 0, put.err
    assert not list((node.home / "accounts").glob("*")), "a node has no account key"
    done = ops.run("renew", "pier")
    assert done.status == 0, done.err
    installed = node.run("renew")
    assert "pier: edition 1 on front" in installed.out, installed.out + installed.err + node.run("machines").out
    assert "edition 1, the newest" in node.run("check", "pier").out
    rolled = ops.run("authority", "rollover", "quayside")
    assert rolled.status == 0, rolled.err
    assert node.run("renew").status == 0, "its servers answer for the new key from then on"
    again = fleet.machines["ops2"].run("stamp", "pier", "--reissue")
    assert again.status == 0, again.err
    text = ops.config.read_text().replace("standing = true\n", "")
    ops.config.write_text(text)
    told = ops.run("status")
    assert "any machine may order this certificate" in flat(told.out + told.err)
    fleet.write(ops)
