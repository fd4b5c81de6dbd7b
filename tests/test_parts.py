"""What a run is put together from: each part works by itself, without the others."""

import os
import threading
from contextlib import closing
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

import pytest
from hand_clock import HandClock

from inkstamp.accounts.pool import AccountPool
from inkstamp.certificates import Certificates
from inkstamp.config.config_file import ConfigFile
from inkstamp.config.model import Configuration
from inkstamp.config.record_changers import Nameserver
from inkstamp.errors import AccountTrouble, Busy, ConfigurationError, UsageError
from inkstamp.files import private_folder
from inkstamp.home import Home
from inkstamp.ledger.file_store import OwnFiles
from inkstamp.ledger.sqlite import SqliteDatabase
from inkstamp.ledger.store import Ledger
from inkstamp.locks import Locks
from inkstamp.progress import Silent
from inkstamp.servers.pool import ServerPool
from inkstamp.view.point import View
from inkstamp.view.trust import TrustStore

TEXT = """\
[server.front]
kind = "nginx"
reach = "ssh://deploy@front.saltmarsh.test"

[server.back]
kind = "apache"
reach = "ssh://deploy@front.saltmarsh.test"
"""


@pytest.fixture
def file(tmp_path: Path) -> ConfigFile:
    path = tmp_path / "inkstamp.toml"
    path.write_text(TEXT)
    return ConfigFile(path, tmp_path / "cache", Locks(tmp_path / "locks"))


def test_what_is_added_to_the_configuration_file_counts_at_once_and_for_the_next_run(
    file: ConfigFile, tmp_path: Path
) -> None:
    assert not file.current.nameserver
    file.add_entries(("nameserver", "ns", Nameserver(address="127.0.0.1", key_file="ns.key")))
    again = ConfigFile(file.path, tmp_path / "cache", Locks(tmp_path / "locks"))
    for each in (file, again):
        assert each.current.nameserver["ns"].address == "127.0.0.1"
    assert file.path.read_text().startswith(TEXT), "and every byte that was there stays"
    with pytest.raises(UsageError, match="no certificate “rowing”"):
        Certificates(file, lambda: None).entry("rowing")


def test_servers_of_one_machine_share_a_connection_and_an_unknown_one_is_an_error(file: ConfigFile) -> None:
    pool = ServerPool(file, View, HandClock(datetime(2026, 11, 28, tzinfo=UTC)))
    assert pool.get("front") is pool.get("front")
    assert pool.get("front").host is pool.get("back").host
    with pytest.raises(ConfigurationError, match="there is no server “side”"):
        pool.get("side")
    pool.close()


def test_a_lock_keeps_others_out_until_it_is_let_go_and_servers_never_wait_for_each_other_in_a_ring(
    tmp_path: Path,
) -> None:
    locks = Locks(tmp_path / "locks")
    other = Locks(tmp_path / "locks").certificate("rowing")
    with locks.certificate("rowing"), locks.certificate("sailing"), pytest.raises(Busy, match="“rowing”"), other:
        pass
    done: list[str] = []

    def change(names: tuple[str, ...]) -> None:
        for _ in range(20):
            with locks.servers(names):
                done.append(names[0])

    threads = [threading.Thread(target=change, args=(names,)) for names in (("a", "b"), ("b", "a"), ("b",))]
    for each in threads:
        each.start()
    for each in threads:
        each.join(30)
    assert len(done) == 60


def test_a_lock_that_was_let_go_is_free_though_a_child_that_was_just_forked_has_it_open(tmp_path: Path) -> None:
    locks = Locks(tmp_path / "locks")
    reading, writing = os.pipe()
    with locks.certificate("rowing"):
        child = os.fork()  # as any thread does that starts a program: until it runs, it shares all that is open
        if child == 0:
            os.close(writing)
            os.read(reading, 1)
            os._exit(0)
    try:
        with locks.certificate("rowing"):
            pass
    finally:
        os.close(writing)
        os.waitpid(child, 0)
        os.close(reading)


def test_a_staging_chain_is_believed_by_its_own_root_and_no_other_chain_is(tmp_path: Path) -> None:
    store = TrustStore(tmp_path / "none.pem")
    assert store.roots_if_any == [], "a machine without roots is told of where it matters"
    with pytest.raises(ConfigurationError):
        _ = store.roots
    store.use([])
    chain: list[object] = ["leaf", "root of the staging CA"]
    assert store.roots_for(chain, "quayside") == []  # type: ignore[arg-type]
    store.trusts_any_root = True
    assert store.roots_for(chain, "quayside") == ["root of the staging CA"]  # type: ignore[arg-type]


@dataclass(frozen=True)
class AccountParts:
    """What an account is opened with, and no more."""

    home: Home
    configuration: ConfigFile
    ledger: Ledger
    locks: Locks
    clock: HandClock
    progress: Silent
    store: OwnFiles

    @property
    def config(self) -> Configuration:
        return self.configuration.current

    def has_ledger(self) -> bool:
        return True


def test_an_account_that_was_deactivated_is_not_opened_again_and_no_ca_is_asked(tmp_path: Path) -> None:
    path, clock = tmp_path / "inkstamp.toml", HandClock(datetime(2026, 11, 28, tzinfo=UTC))
    path.write_text('[authority.quayside]\ndirectory = "https://192.0.2.1/directory"\n')
    home, locks = Home(tmp_path), Locks(tmp_path / "locks")
    with closing(Ledger(SqliteDatabase(home.ledger), clock)) as ledger:
        parts = AccountParts(home, ConfigFile(path, home.cache, locks), ledger, locks, clock, Silent(), OwnFiles())
        directory = parts.config.authority["quayside"].directory
        ledger.save_account(
            "quayside", directory=directory, url="https://192.0.2.1/1", contact="", caa=(), what="opened"
        )
        ledger.retire_account("quayside")
        with closing(AccountPool(parts)) as pool, pytest.raises(AccountTrouble, match="deactivated on 2026-11-28"):
            pool.get("quayside")
        assert not home.account_key("quayside").exists()


def test_a_folder_of_ours_and_those_above_it_let_nobody_else_in_whatever_the_umask(tmp_path: Path) -> None:
    before = os.umask(0)
    try:
        private_folder(tmp_path / "home" / "orders" / "1")
    finally:
        os.umask(before)
    made = [tmp_path / each for each in ("home", "home/orders", "home/orders/1")]
    assert [each.stat().st_mode & 0o777 for each in made] == [0o700] * 3


def test_every_path_below_the_data_directory_is_apart(tmp_path: Path) -> None:
    home = Home(tmp_path)
    paths = [home.ledger, home.shelf, home.locks, home.cache, home.last_renewal, home.order(1), home.undo("club"),
             home.challenge_path("club"), home.account_key("quayside"), home.next_account_key("quayside")]  # fmt: skip
    assert len(set(paths)) == len(paths)
    assert all(each.is_relative_to(tmp_path) for each in paths)
    assert (tmp_path / "accounts").stat().st_mode & 0o077 == 0, "account keys are nobody else's"
