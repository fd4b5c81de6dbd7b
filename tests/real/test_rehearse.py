"""A rehearsal goes the whole way with real servers and a real CA, and leaves nothing behind."""

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest
from world import OtherCa, Ran, World, fetch, other_ca

NAME = "rehearsed.saltmarsh.test"


@dataclass
class Stage:
    world: World
    ca: OtherCa

    def run(self, *arguments: str) -> Ran:
        return self.world.run(*arguments)

    def contents(self) -> dict[str, bytes]:
        """All that a server reads, that the public sees, and that we keep of real certificates."""
        world = self.world
        places = (world.nginx.folder / "sites", world.nginx.main_file, world.folder / "www", world.home / "shelf")
        files = [each for place in places for each in (place.rglob("*") if place.is_dir() else [place])]
        return {str(each): each.read_bytes() for each in files if each.is_file()}


@pytest.fixture(scope="module")
def stage(world: World, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Stage]:
    folder = tmp_path_factory.mktemp("staging")
    dns = world.nameserver.port
    http, https = world.nginx.http_port, world.nginx.https_port
    env = {"nonces_rejected": "0"}
    with other_ca(folder, env=env, http_port=http, https_port=https, dns_port=dns) as (directory, ca):
        (world.folder / "staging-roots.pem").write_bytes(fetch(f"{ca.management}/roots/0", ca.trust))
        text = world.config.read_text().replace(
            "[authority.quayside]\n",
            f'[authority.quayside]\nstaging = "{directory}"\nstaging_trust = "{ca.trust}"\n'
            'staging_roots = "staging-roots.pem"\n',
        )
        world.config.write_text(text)
        world.site("rehearsed", [NAME])
        assert world.run("stamp", NAME, "--as", "rehearsed").status == 0
        yield Stage(world, ca)


def test_a_rehearsal_goes_all_the_way_and_changes_nothing_that_is_live(stage: Stage) -> None:
    before, served, orders = stage.contents(), stage.world.served(NAME), stage.world.ca.orders()
    done = stage.run("rehearse")
    assert done.status == 0, done.err
    assert "rehearsed: would renew" in done.out
    assert "1 of 1 would renew" in done.out
    assert stage.contents() == before
    assert stage.world.served(NAME) == served
    assert stage.world.ca.orders() == orders, "the real CA was asked"
    assert stage.ca.certificates() == 1
    assert stage.world.left_behind() == []
    left = {each.name for each in (stage.world.home / "rehearsal").iterdir()}
    assert left - {"ledger.db", "ledger.db-wal", "ledger.db-shm", "accounts", "cache"} == set()
    assert stage.run("status", "--json").json["certificates"][0]["edition"] == 1
    assert "would renew" in stage.run("history", "rehearsed").out


def test_what_would_fail_is_told_with_its_step_and_the_real_thing_is_not_held_up(stage: Stage) -> None:
    before = stage.contents()
    file = stage.world.nginx.folder / "sites" / "rehearsed.conf"
    text = file.read_text()
    file.write_text(text.replace("server_name", "server_nam", 1))
    done = stage.run("rehearse", "rehearsed", "--json")
    file.write_text(text)
    assert done.status == 1
    (result,) = done.json["certificates"]
    assert result["would_renew"] is False
    assert result["error"]["kind"] == "ServerTrouble"
    stage.world.nameserver.table[NAME] = ["127.0.0.9"]
    done = stage.run("rehearse")
    stage.world.nameserver.table[NAME] = ["127.0.0.1"]
    assert done.status == 1
    assert "rehearsed: would fail while" in done.out
    assert "next inkstamp rehearse rehearsed" in done.flat or "then: inkstamp rehearse rehearsed" in done.flat
    assert stage.contents() == before
    assert stage.world.left_behind() == []
    (status,) = stage.run("status", "--json").json["certificates"]
    assert status["state"] == "ok"
    assert stage.run("renew").out.startswith("1 checked, 0 renewed, 0 failed")


def test_without_a_staging_directory_it_says_what_to_add(stage: Stage, tmp_path: Path) -> None:
    text = stage.world.config.read_text()
    stage.world.config.write_text("\n".join(line for line in text.splitlines() if not line.startswith("staging")))
    done = stage.run("rehearse")
    stage.world.config.write_text(text)
    assert done.status == 1
    assert "“quayside” has no staging directory" in done.flat
    assert "add a line staging = …" in done.flat
    assert stage.run("rehearse", "nobody").status == 2
