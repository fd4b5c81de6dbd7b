"""The ledger and the shelf: durable, private, and never half written."""

import errno
import os
import random
import sqlite3
import stat
import threading
from collections.abc import Callable, Iterator
from contextlib import closing
from datetime import timedelta
from pathlib import Path

import msgspec
import pytest
from authority_of_tests import NOW
from hand_clock import HandClock

from inkstamp import files
from inkstamp.errors import Busy, FileTrouble, LedgerTrouble
from inkstamp.home import Home
from inkstamp.ledger.check_results import CheckResult
from inkstamp.ledger.dns_proofs import DnsProof
from inkstamp.ledger.failures import FailureReport
from inkstamp.ledger.local_copy import LocalCopy
from inkstamp.ledger.postgresql import PostgresqlDatabase
from inkstamp.ledger.records import (
    EditionRecord,
    EnrolledRecord,
    InstallState,
    OrderRecord,
    OrderState,
    PortalProof,
    PortalWait,
    ProofMethod,
    ProofRecord,
    Selection,
)
from inkstamp.ledger.roster import NextLook
from inkstamp.ledger.rows import as_order
from inkstamp.ledger.shelf import EditionFiles, Shelf
from inkstamp.ledger.sqlite import SqliteDatabase
from inkstamp.ledger.store import Ledger
from inkstamp.ledger.tlsa_changes import TlsaChange
from inkstamp.policy.notification_rules import Matter, News

OpenLedger = Callable[..., Ledger]


@pytest.fixture(params=["sqlite", "postgresql"])
def opened(request: pytest.FixtureRequest, tmp_path: Path) -> OpenLedger:
    """Gives a new ledger each time that is of one and the same database."""
    if request.param == "sqlite":
        return lambda clock=None: Ledger(SqliteDatabase(tmp_path / "ledger.db"), clock or HandClock(NOW))
    address = request.getfixturevalue("postgresql_ledger")
    return lambda clock=None: Ledger(PostgresqlDatabase(address), clock or HandClock(NOW))


@pytest.fixture
def ledger(opened: OpenLedger) -> Iterator[Ledger]:
    made = opened()
    made.begin_run("inkstamp test")
    yield made
    made.close()


def edition(number: int) -> EditionRecord:
    return EditionRecord(
        certificate="rowing", number=number, names=("a.test",), issuer="I", root="R", serial="1", sha256="0",
        not_before=NOW, not_after=NOW + timedelta(days=90), authority="quayside",
    )  # fmt: skip


def test_an_order_is_found_again_with_all_that_was_written_of_it(opened: OpenLedger, ledger: Ledger) -> None:
    order = ledger.intend_order("rowing", "quayside", ["a.test", "b.test"])
    order = ledger.move_order(order, OrderState.OPENED, "order opened", "order 1", url="https://ca.test/o/1")
    ledger.files.plan([ProofRecord(order_id=order.id, server="front", root="/srv", parts=("a", "b"), made=(0, 1))])
    ledger.close()
    again = opened()
    assert again.open_order("rowing") == order
    assert again.files.of(order.id)[0].made == (0, 1)
    again.add_edition(again.move_order(order, OrderState.FINALIZING), edition(order.edition), "issued")
    assert again.open_order("rowing") is None
    assert again.newest_edition("rowing") == edition(1)
    assert again.intend_order("rowing", "quayside", ["a.test"]).edition == 2
    assert [each.what for each in again.events("rowing")] == ["order opened", "issued"]
    again.close()


def test_folders_made_for_a_proof_that_is_gone_are_removed_with_the_last_one_in_them(ledger: Ledger) -> None:
    def record(root: str, *parts: str, made: tuple[int, ...] = ()) -> ProofRecord:
        return ProofRecord(order_id=1, server="front", root=root, parts=parts, made=made)

    first, second, portal, elsewhere = ledger.files.plan(
        [
            record("/srv/a", ".well-known", "acme-challenge", "one", made=(0, 1)),
            record("/srv/a", ".well-known", "acme-challenge", "two"),
            record("/srv/a", ".well-known", "pki-validation", "three.txt", made=(1,)),
            record("/srv/b", ".well-known", "acme-challenge", "four"),
        ]
    )
    ledger.files.forget([first])
    assert {each.id: each.made for each in ledger.files.of()} == {second.id: (0, 1), portal.id: (1,), elsewhere.id: ()}
    ledger.files.forget([second])
    assert {each.id: each.made for each in ledger.files.of()} == {portal.id: (0, 1), elsewhere.id: ()}


def test_an_order_that_ended_cannot_go_on(ledger: Ledger) -> None:
    order = ledger.move_order(ledger.intend_order("rowing", "quayside", ["a.test"]), OrderState.DROPPED)
    for state in OrderState:
        with pytest.raises(LedgerTrouble, match="cannot go"):
            ledger.move_order(order, state)
    with pytest.raises(LedgerTrouble):
        ledger.add_edition(order, edition(1), "no")
    assert ledger.newest_editions() == {}


def test_what_fails_half_way_leaves_nothing_in_the_ledger(ledger: Ledger) -> None:
    order = ledger.move_order(ledger.intend_order("rowing", "quayside", ["a.test"]), OrderState.OPENED, url="u")
    ledger.add_edition(order, edition(1), "first")
    second = ledger.move_order(ledger.intend_order("rowing", "quayside", ["a.test"]), OrderState.OPENED, url="v")
    with pytest.raises(LedgerTrouble, match="cannot be used"):
        ledger.add_edition(second, edition(1), "the same number twice")
    assert ledger.open_order("rowing") == second


def test_threads_write_without_losing_an_entry(ledger: Ledger) -> None:
    def work(number: int) -> None:
        for turn in range(20):
            order = ledger.intend_order(f"c{number}", "quayside", ["a.test"])
            ledger.move_order(order, OrderState.DROPPED, "order dropped", str(turn))

    threads = [threading.Thread(target=work, args=(number,)) for number in range(6)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(ledger.events(limit=1000)) == 120
    assert {record.edition for record in ledger.newest_orders().values()} == {20}


def test_the_file_is_private_and_a_broken_or_newer_one_is_one_clear_error(tmp_path: Path) -> None:
    file = tmp_path / "ledger.db"
    Ledger(SqliteDatabase(file), HandClock(NOW)).close()
    assert stat.S_IMODE(file.stat().st_mode) == 0o600
    with closing(sqlite3.connect(file)) as connection:
        connection.execute("UPDATE ledger SET version = 99")
        connection.commit()
    with pytest.raises(LedgerTrouble, match="version 99"):
        Ledger(SqliteDatabase(file), HandClock(NOW))
    broken = tmp_path / "broken.db"
    broken.write_bytes(b"this is no database, and long enough to be looked at" * 40)
    with pytest.raises(LedgerTrouble, match="is damaged") as raised:
        Ledger(SqliteDatabase(broken), HandClock(NOW))
    assert "inkstamp status --rebuild" in raised.value.advice
    with pytest.raises(LedgerTrouble, match="cannot be opened"):
        Ledger(SqliteDatabase(tmp_path / "no folder" / "ledger.db"), HandClock(NOW))


FILES = EditionFiles(b"KEY\n", b"LEAF\n", [b"ONE\n", b"TWO\n"])


def test_an_edition_is_on_the_shelf_whole_and_writing_it_again_is_harmless(tmp_path: Path) -> None:
    shelf = Shelf(Home(tmp_path))
    folder = shelf.put("rowing", 3, FILES)
    assert folder.name == "0003"
    assert (folder / "served.pem").read_bytes() == b"LEAF\nONE\nTWO\n"
    assert stat.S_IMODE((folder / "key.pem").stat().st_mode) == 0o600
    assert shelf.put("rowing", 3, FILES) == folder
    with pytest.raises(FileTrouble, match="another certificate"):
        shelf.put("rowing", 3, EditionFiles(b"OTHER\n", b"LEAF\n", []))
    local = LocalCopy(Home(tmp_path))
    assert local.current("rowing") is None
    local.switch("rowing", 3)
    assert local.current("rowing") == 3
    assert os.readlink(tmp_path / "shelf" / "rowing" / "current") == "0003"
    local.switch("rowing", None)
    assert local.current("rowing") is None


def test_a_write_that_fails_leaves_the_old_bytes_and_no_litter(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    file = tmp_path / "inkstamp.toml"
    file.write_bytes(b"old")

    def full(_handle: int) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr(os, "fsync", full)
    with pytest.raises(FileTrouble) as caught:
        files.write_bytes(file, b"new")
    assert "free some space" in caught.value.advice
    with pytest.raises(FileTrouble):
        Shelf(Home(tmp_path)).put("rowing", 1, FILES)
    monkeypatch.undo()
    assert file.read_bytes() == b"old"
    assert [each.name for each in tmp_path.rglob("*") if each.is_file()] == ["inkstamp.toml"]


def test_a_lock_is_let_go_when_its_block_ends_and_waited_for_when_asked(tmp_path: Path) -> None:
    lock = tmp_path / "locks" / "front"
    with (
        files.held(lock, "the server"),
        pytest.raises(Busy, match="at work on the server") as caught,
        files.held(lock, "the server"),
    ):
        raise AssertionError("two hold it")
    assert str(os.getpid()) in caught.value.said
    taken, release = threading.Event(), threading.Event()

    def hold() -> None:
        with files.held(lock, "the server"):
            taken.set()
            release.wait(5)

    thread = threading.Thread(target=hold)
    thread.start()
    assert taken.wait(5)
    threading.Timer(0.1, release.set).start()
    with files.held(lock, "the server", patience=5):
        assert release.is_set()
    thread.join()


def orders_of(ledger: Ledger) -> list[OrderRecord]:
    return [as_order(row) for row in ledger._database.rows("SELECT * FROM ca_order")]


def test_a_ledger_of_the_first_release_is_brought_up_with_all_it_holds(tmp_path: Path) -> None:
    file = tmp_path / "ledger.db"
    with closing(Ledger(SqliteDatabase(file), HandClock(NOW))) as made:
        order = made.intend_order("rowing", "quayside", ["a.test"])
    with closing(sqlite3.connect(file)) as connection:
        for table in ("portal_proof", "dns_proof", "setback", "refused_method", "tidings", "matter", "look",
                      "revocation", "enrolled", "enrolled_name", "enrolled_group", "removed",
                      "planned_day", "portal_wait", "tlsa_change"):  # fmt: skip
            connection.execute(f"DROP TABLE {table}")
        connection.execute("ALTER TABLE edition DROP COLUMN key_kind")
        connection.execute("ALTER TABLE ca_order DROP COLUMN key_sha256")
        for column in ("caa", "retired"):
            connection.execute(f"ALTER TABLE account DROP COLUMN {column}")
        for table in ("run", "install", "proof"):
            connection.execute(f"ALTER TABLE {table} DROP COLUMN machine")
        connection.execute("DROP INDEX ca_order_edition")
        connection.execute("DROP INDEX ca_order_opened")
        connection.execute(
            "INSERT INTO ca_order (certificate, authority, names, state, url, edition, opened, changed) "
            "SELECT certificate, authority, names, 'dropped', url, edition, opened, changed FROM ca_order"
        )
        connection.execute("UPDATE ledger SET version = 1")
        connection.commit()
    with closing(Ledger(SqliteDatabase(file), HandClock(NOW))) as again:
        assert sorted(each.edition for each in orders_of(again)) == [1, 3], "no number twice"
        assert again.open_order("rowing") == order
        waiting = again.move_order(order, OrderState.WAITING)
        told = PortalProof(order_id=order.id, name="a.test", method=ProofMethod.TXT, place="_x", content="v", told=NOW)
        again.portal.tell([told])
        again.portal.tell([msgspec.structs.replace(told, content="w")])  # takes the place of the first
        again.portal.looked(told, seen=True)
        (seen,) = again.portal.of(order.id)
        assert (seen.content, seen.seen, seen.looked) == ("w", NOW, NOW)
        assert again.portal.of_open_orders() == {order.id: [seen]}
        assert again.waiting_orders() == [waiting]
        assert again.failures.all() == {}
        assert again.newest_editions() == {}
    kept = tmp_path / "ledger.db.version-1"
    assert stat.S_IMODE(kept.stat().st_mode) == 0o600
    with closing(sqlite3.connect(kept)) as connection:
        assert connection.execute("SELECT version FROM ledger").fetchone() == (1,)
        assert connection.execute("SELECT count(*) FROM ca_order").fetchone() == (2,)


def test_runs_that_write_at_the_same_time_give_no_number_twice_and_lose_no_count(opened: OpenLedger) -> None:
    told = FailureReport(kind="ProofFailed", step="proving", what="x", where="", said="", problem="", advice="",
                         findings=())  # fmt: skip

    def work() -> None:
        with closing(opened()) as ledger:
            for _ in range(30):
                ledger.move_order(ledger.intend_order("rowing", "quayside", ["a.test"]), OrderState.DROPPED)
                ledger.failures.meet("rowing", told)

    opened().close()
    threads = [threading.Thread(target=work) for _ in range(6)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    with closing(opened()) as ledger:
        (newest,) = ledger.newest_orders(["rowing", "sailing"]).values()
        assert (newest.edition, len(ledger.ended_orders("rowing"))) == (180, 180)
        assert ledger.failures.all(["rowing"])["rowing"].times == 180


def test_questions_of_one_snapshot_see_one_state(opened: OpenLedger) -> None:
    with (
        closing(opened()) as reader,
        closing(opened()) as writer,
    ):
        with reader.snapshot():
            assert reader.newest_orders() == {}
            writer.intend_order("rowing", "quayside", ["a.test"])
            assert reader.certificates_with_open_orders() == set()
        assert reader.certificates_with_open_orders() == {"rowing"}


def test_what_stands_in_the_way_keeps_its_beginning_until_it_is_another_or_overcome(opened: OpenLedger) -> None:
    clock = HandClock(NOW)
    told = FailureReport(
        kind="ProofFailed", step="proving", what="x", where="", said="", problem="", advice="", findings=()
    )
    with closing(opened(clock)) as ledger:
        ledger.failures.meet("rowing", told)
        clock.sleep(3600)
        ledger.failures.meet("rowing", msgspec.structs.replace(told, what="y"))
        (known,) = ledger.failures.all().values()
        assert (known.since, known.last, known.times) == (NOW, NOW + timedelta(hours=1), 2)
        assert known.told.what == "y"
        ledger.failures.meet("rowing", msgspec.structs.replace(told, kind="CaProblem"))
        again = ledger.failures.of("rowing")
        assert again is not None
        assert (again.since, again.times) == (NOW + timedelta(hours=1), 1)
        ledger.failures.overcome("rowing")
        assert ledger.failures.of("rowing") is None
        ledger.failures.refuse("rowing", {"a.test": ["http-01", "http-01"]})
        assert ledger.failures.refused_methods("rowing") == {"a.test": ["http-01"]}


def test_a_new_file_is_placed_whole_and_never_over_one_that_is_there(tmp_path: Path) -> None:
    file = tmp_path / "key.pem"
    files.place_bytes(file, b"first", mode=0o600)
    assert (file.read_bytes(), stat.S_IMODE(file.stat().st_mode)) == (b"first", 0o600)
    with pytest.raises(FileTrouble, match="cannot write"):
        files.place_bytes(file, b"second")
    assert file.read_bytes() == b"first"
    assert [each.name for each in tmp_path.iterdir()] == ["key.pem"]


def test_where_there_are_no_hard_links_a_new_file_is_placed_all_the_same(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def no_links(_source: object, _target: object) -> None:
        raise PermissionError(errno.EPERM, "Operation not permitted")

    monkeypatch.setattr(os, "link", no_links)
    files.place_bytes(tmp_path / "a", b"first")
    assert (tmp_path / "a").read_bytes() == b"first"
    with pytest.raises(FileTrouble):
        files.place_bytes(tmp_path / "a", b"second")
    assert (tmp_path / "a").read_bytes() == b"first"


def test_every_book_is_kept_and_asked_alike_on_either_database(ledger: Ledger) -> None:
    order = ledger.move_order(ledger.intend_order("rowing", "quayside", ["a.test"]), OrderState.OPENED, url="u")
    ledger.add_edition(order, edition(1), "issued", renewal=NOW + timedelta(days=60))
    ledger.save_account("quayside", directory="d", url="u", contact="", caa=["ca.test"], what="opened")
    ledger.retire_account("quayside")
    account = ledger.account("quayside")
    assert account is not None
    assert (account.caa, account.retired) == (("ca.test",), NOW)
    some = EnrolledRecord(certificate="club", group="hosts", customer="Gull", names=("b.test", "c.test"), since=NOW)
    ledger.roster.enrol([some, msgspec.structs.replace(some, certificate="Zebra", names=("d.test",))], "two")
    assert ledger.roster.names() == ["Zebra", "club"], "in the order of bytes, as Python has it"
    assert ledger.roster.to_judge(NOW) == ledger.roster.to_ask(NOW) == ["Zebra", "club"]
    ledger.roster.settle([NextLook(each, 0, NOW + timedelta(days=1), NOW + timedelta(hours=1)) for each in
                          ("Zebra", "club")])  # fmt: skip
    assert ledger.roster.to_judge(NOW) == ledger.roster.to_ask(NOW) == []
    assert (ledger.roster.next_due(NOW) or ("", NOW))[1] == NOW + timedelta(days=1)
    assert ledger.roster.covering(["c.test", "x.test"]) == ["club"]
    assert [(each.group, each.total) for each in ledger.roster.counts(Selection("hosts", "Gull"))] == [("hosts", 2)]
    assert (ledger.roster.total(), ledger.roster.total(Selection("none"))) == (2, 0)
    assert ledger.roster.changed_groups({"hosts": "x"}) == ["hosts"]
    ledger.roster.recompute(["hosts", "gone"], {"hosts": "x"})
    assert ledger.roster.changed_groups({"hosts": "x"}) == []
    assert ledger.roster.group_names() == ["hosts"]
    ledger.observations.add([(edition(1), {"astray": "front serves another", "look_again": NOW})])
    assert ledger.observations.of(edition(1)).astray == "front serves another"
    assert sum(ledger.observations.planned_days("quayside", 0, 99_999).values()) == 1
    ledger.revocations.begin("rowing", 1, "key compromise")
    assert ledger.revocations.begun("rowing") == 1
    ledger.revocations.end("rowing", 1, NOW, "key compromise")
    matter = Matter(certificate="rowing", kind="failing", text="it fails", remedy="")
    ledger.sent_notices.tell("night", News((matter,), ()))
    assert ledger.sent_notices.told("night") == {matter.key: matter}
    look = CheckResult(verdict="good", addresses={"127.0.0.1": "ab"}, findings=())
    ledger.check_results.keep({"a.test": look}, quick=True)
    assert ledger.check_results.last(["a.test", "b.test"], quick=True) == {"a.test": (NOW, look)}
    change = TlsaChange(certificate="rowing", place="_25._tcp.a.test", edition=1, value="3 1 1 ab", before=("x", "y"),
                        ttl=60, seen=None)  # fmt: skip
    ledger.tlsa.keep(change)
    assert ledger.tlsa.all("rowing") == [change]
    ledger.tlsa.forget(change)
    ledger.dns.plan([DnsProof(order_id=0, carrier="ns", zone="test", primary="p", name="n", kind="TXT", value="v")])
    ledger.dns.forget(ledger.dns.of(0))
    install = ledger.installs.begin("rowing", 1, ("front", "back"))
    assert ledger.installs.certificates_begun() == {"rowing"}
    ledger.installs.end(install, InstallState.DONE, "installed", "edition 1")
    assert ledger.installs.installed("rowing", "back") == 1
    waiting = ledger.move_order(ledger.intend_order("bought", "portal", ["p.test"]), OrderState.WAITING)
    ledger.portal.wait_for(PortalWait(order_id=waiting.id, step="review", since=NOW))
    assert ledger.portal.waits_of_open_orders() == {waiting.id: ledger.portal.wait_of(waiting.id)}
    ledger.portal.remember_key(waiting.id, "ab")
    ledger.move_order(waiting, OrderState.DROPPED)
    given_up = ledger.portal.given_up_with_key("ab")
    assert given_up is not None
    assert ledger.portal.given_up("bought")
    ledger.renames.begin("rowing", "regatta")
    ledger.renames.finish("rowing", "regatta")
    assert ledger.newest_edition("regatta") is not None
    ledger.removals.add("regatta", ["front"], "removed")
    assert ledger.removals.left_on("regatta") == ("front",)
    assert ledger.newest_editions_off_roster().keys() == {"regatta"}
    assert ledger.certificates_of("quayside", NOW) == 1
    assert ledger.renewals_since("quayside", NOW) == 0
    assert ledger.edition_of("0") is not None
    assert ledger.order_urls("quayside") >= {"u"}
    read_everything(ledger)


def read_everything(ledger: Ledger) -> None:
    """Ask every book for all that it has."""
    ledger.newest_editions()
    ledger.newest_orders()
    ledger.waiting_orders()
    ledger.orders_with_proofs()
    ledger.events()
    ledger.installs.by_server()
    ledger.failures.all()
    ledger.observations.all()
    ledger.portal.of_open_orders()
    ledger.open_order("rowing")


def test_a_ledger_that_is_damaged_at_any_byte_says_so_and_how_to_mend_it(tmp_path: Path) -> None:
    file, broken = tmp_path / "ledger.db", tmp_path / "broken.db"
    with closing(Ledger(SqliteDatabase(file), HandClock(NOW))) as ledger:
        ledger.begin_run("inkstamp test")
        order = ledger.intend_order("rowing", "quayside", ["a.test"])
        ledger.add_edition(
            ledger.move_order(ledger.move_order(order, OrderState.OPENED, url="https://ca/1"), OrderState.FINALIZING),
            edition(1), "issued",
        )  # fmt: skip
        ledger.files.plan([ProofRecord(order_id=1, server="front", root="/srv/m\udcfcller", parts=("a",), made=(0,))])
        ledger.installs.begin("rowing", 1, ("front",))
        assert [each.root for each in ledger.files.of()] == ["/srv/m\udcfcller"]
    whole = file.read_bytes()
    chance = random.Random(5)  # noqa: S311  no secret
    told = list[LedgerTrouble]()
    for number in range(250):
        data = bytearray(whole)
        for _ in range(chance.choice((1, 1, 8, 200))):
            data[chance.randrange(len(data))] = chance.randrange(256)
        if number % 10 == 0:
            del data[chance.randrange(len(data)) :]
        for each in tmp_path.glob("broken.db*"):
            each.unlink()
        broken.write_bytes(bytes(data))
        try:
            with closing(Ledger(SqliteDatabase(broken), HandClock(NOW))) as ledger:
                read_everything(ledger)
        except LedgerTrouble as trouble:
            told.append(trouble)
    assert len(told) > 10
    assert all(each.advice for each in told)


@pytest.mark.parametrize("table", ["ledger", "edition", "ca_order", "setback", "tidings", "event"])
def test_a_ledger_that_lacks_a_table_or_holds_what_was_never_written_is_damaged(tmp_path: Path, table: str) -> None:
    file = tmp_path / "ledger.db"
    Ledger(SqliteDatabase(file), HandClock(NOW)).close()
    with closing(sqlite3.connect(file)) as connection:
        connection.execute(f"DROP TABLE {table}")
        connection.commit()
    with (
        pytest.raises(LedgerTrouble, match="damaged") as caught,
        closing(Ledger(SqliteDatabase(file), HandClock(NOW))) as ledger,
    ):
        read_everything(ledger)
    assert "status --rebuild" in caught.value.advice


def test_a_full_disk_is_told_as_such_and_a_lock_is_held_all_the_same(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def full(*_arguments: object) -> int:
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr(os, "pwrite", full)
    with files.held(tmp_path / "lock", "it"), pytest.raises(Busy), files.held(tmp_path / "lock", "it"):
        pass
    with closing(Ledger(SqliteDatabase(tmp_path / "ledger.db"), HandClock(NOW))) as ledger:
        ledger._database.execute("PRAGMA max_page_count = 1")
        with pytest.raises(LedgerTrouble, match="cannot be used") as caught:
            ledger.note("x", "y" * 1_000_000)
        assert "full" in caught.value.said
        assert "rollback" not in caught.value.said


def test_what_follows_an_entry_that_was_undone_is_in_the_history(ledger: Ledger) -> None:
    def undone() -> None:
        with ledger._database.writing():
            ledger._note("begun", "the first entry of the run", "rowing")
            raise FileTrouble("the disk is full")

    with pytest.raises(FileTrouble):
        undone()
    ledger.note("issued", "edition 1", "rowing")
    assert [(each.what, each.command) for each in ledger.events()] == [("issued", "inkstamp test")]


def test_an_order_is_moved_only_from_where_it_is(ledger: Ledger) -> None:
    stale = ledger.intend_order("rowing", "quayside", ("a.test",))
    dropped = ledger.move_order(stale, OrderState.DROPPED)
    with pytest.raises(LedgerTrouble, match="not “intended” any longer"):
        ledger.move_order(stale, OrderState.OPENED, "order opened", "order 1", "https://ca.test/o/1")
    with pytest.raises(LedgerTrouble, match="not “opened” any longer"):
        ledger.add_edition(msgspec.structs.replace(dropped, state=OrderState.OPENED), edition(1), "issued")
    assert ledger.newest_edition("rowing") is None
    assert ledger.open_order("rowing") is None
    assert ledger.events() == []
