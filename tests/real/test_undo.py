"""One install back at any later time, and an edition of choice put on, with real servers."""

import json
import signal
from collections.abc import Iterator
from pathlib import Path

import pytest
from killing import killed_at
from world import World, real_world


@pytest.fixture(scope="module")
def world(tmp_path_factory: pytest.TempPathFactory) -> Iterator[World]:
    with real_world(tmp_path_factory.mktemp("undo"), ca_env={"nonces_rejected": "0"}) as made:
        made.add_authority()
        yield made


def two_editions(world: World, name: str) -> tuple[str, Path, bytes]:
    """A site with two editions; returns its name, its file, and the file's bytes before the first of them."""
    domain = f"{name}.saltmarsh.test"
    world.site(name, [domain])
    file = world.nginx.folder / "sites" / f"{name}.conf"
    before = file.read_bytes()
    assert world.run("stamp", domain, "--as", name).status == 0
    assert world.run("stamp", name, "--reissue").status == 0
    assert world.served(domain) == world.edition(name, 2)
    return domain, file, before


def state(world: World, name: str) -> tuple[str, str]:
    found = world.run("--json", "status").json["certificates"]
    return next((each["state"], each["next_command"]) for each in found if each["name"] == name)


def test_undo_goes_back_edition_by_edition_to_the_configuration_of_the_beginning(world: World) -> None:
    domain, file, before = two_editions(world, "back")
    with_tls = file.read_bytes()
    preview = world.run("undo", "back", "--preview")
    assert "front would have edition 1 again" in preview.flat
    assert world.served(domain) == world.edition("back", 2)
    done = world.run("undo", "back")
    assert done.status == 0, done.err
    assert "front has edition 1 again" in done.flat
    assert world.served(domain) == world.edition("back", 1)
    assert file.read_bytes() == with_tls
    assert state(world, "back") == ("rolled back", "inkstamp install back")
    assert "nothing is due" in world.run("renew").flat or world.run("renew").status == 0
    assert world.served(domain) == world.edition("back", 1)  # no timer does again what somebody undid
    file.write_text(with_tls.decode().replace("root ", "# somebody's later remark\n    root "))
    assert world.run("undo", "back").status == 0
    assert file.read_bytes() == before.replace(b"root ", b"# somebody's later remark\n    root ")
    again = world.run("undo", "back")
    assert (again.status, "there is no install of “back” to undo" in again.flat) == (2, True)
    assert world.run("install", "back").status == 0
    assert world.served(domain) == world.edition("back", 2)
    assert state(world, "back")[0] == "ok"


def test_an_edition_of_choice_is_installed_and_what_that_changes_is_shown_first(world: World) -> None:
    domain, file, _ = two_editions(world, "choice")
    file.write_text(file.read_text().replace("current/served.pem", "current/leaf.pem"))
    preview = world.run("install", "choice", "--preview")
    assert preview.status == 0, preview.err
    assert "-    ssl_certificate" in preview.out
    assert "current/served.pem;" in preview.out
    assert b"current/leaf.pem" in file.read_bytes()
    done = world.run("install", "choice", "--edition", "1")
    assert done.status == 0, done.err
    assert world.served(domain) == world.edition("choice", 1)
    data = world.run("--json", "install", "choice", "--preview").json["installed"]
    assert (data["edition"], data["servers"], data["done"], data["differences"]) == (2, ["front"], False, [])
    unknown = world.run("install", "choice", "--edition", "9")
    assert (unknown.status, "has no edition 9" in unknown.flat) == (2, True)


def test_an_undo_that_the_server_refuses_leaves_everything_as_it_was(world: World) -> None:
    domain, file, _ = two_editions(world, "stuck")
    assert world.run("undo", "stuck").status == 0
    kept = next(iter((world.home / "undo" / "stuck").glob("*/manifest.json")))
    assert json.loads(kept.read_text())["before"] is None
    text = file.read_text()
    file.write_text(text.replace("    listen", "    ssl_stapling off;\n    listen", 1) + "server { listen 1 ssl; }\n")
    before = file.read_bytes()
    done = world.run("undo", "stuck")
    assert done.status == 1
    assert "broken already" in done.flat
    assert file.read_bytes() == before
    file.write_text(text)
    assert world.served(domain) == world.edition("stuck", 1)


def test_killed_anywhere_while_undoing_the_next_run_comes_to_the_same_end(world: World) -> None:
    domain, file, before = two_editions(world, "cut")
    assert world.run("undo", "cut").status == 0  # what is undone below changes the configuration, too
    number = -1
    while True:
        number += 2  # every other place: what lies between two of them is the same sort of step
        done, places = killed_at(number, world.folder / "places", world.config, ["undo", "cut"])
        if done.returncode != -signal.SIGKILL:
            break
        what = places[-1]
        after = world.run("undo", "cut")
        assert after.status == 0 or "there is no install" in after.flat, f"{what}: {after.err}"
        assert file.read_bytes() == before, what
        assert world.run("install", "cut", "--edition", "1").status == 0, what
        assert world.served(domain) == world.edition("cut", 1), what
    assert number > 8
    assert file.read_bytes() == before
