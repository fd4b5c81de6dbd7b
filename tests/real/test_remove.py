"""Certificates given up: servers as they were to the byte, renewal ended, keys archived or destroyed."""

import signal
from collections.abc import Iterator
from pathlib import Path

import pytest
from killing import killed_at
from terminal import on_terminal
from world import World, inkstamp_program, real_world

GROUP = '\n[group.web]\nauthority = "quayside"\nvia = "front"\ninstall = ["front"]\n'


@pytest.fixture(scope="module")
def world(folder: Path) -> Iterator[World]:
    with real_world(folder / "world", ca_env={"nonces_rejected": "0"}) as made:
        made.add_authority()
        made.config.write_text(f"# ours\n{made.config.read_text()}{GROUP}\n# the end\n")
        yield made


def snapshot(world: World) -> dict[str, bytes]:
    """Everything that is configured at nginx."""
    files = [world.nginx.main_file, *sorted((world.nginx.folder / "sites").iterdir())]
    return {str(file): file.read_bytes() for file in files}


@pytest.mark.parametrize("kept_in", ["the file", "the roster"])
def test_a_certificate_of_many_editions_is_given_up_and_its_server_is_as_before_the_first(
    world: World, kept_in: str
) -> None:
    name = "ferry.saltmarsh.test" if kept_in == "the file" else "lido.saltmarsh.test"
    called = "ferry" if kept_in == "the file" else name
    world.site(name.partition(".")[0], [name])
    config, before = world.config.read_bytes(), snapshot(world)
    if kept_in == "the roster":
        assert world.run("enrol", "--group", "web", name).status == 0
    assert world.run("stamp", name, "--as", called).status == 0
    for _ in range(6):  # more than installs are kept of
        assert world.run("stamp", called, "--reissue").status == 0
    assert snapshot(world) != before

    asked = world.run("remove", called)
    assert asked.status == 2
    assert "front would be left with a certificate that nobody renews" in asked.flat
    held = world.run("remove", called, "--servers", "leave", "--keys", "destroy", "--yes")
    assert held.status == 2
    assert "front would lose the key" in held.flat
    assert "7, valid until" in world.run("remove", called, "--preview").out

    done = world.run("remove", called, "--servers", "undo", "--revoke", "superseded", "--yes")
    assert done.status == 0, done.err
    assert "is revoked (superseded)" in done.out
    assert snapshot(world) == before
    assert world.config.read_bytes() == config
    assert not (world.home / "shelf" / called).exists()
    (archive,) = (world.home / "archive").glob(f"{called} *")
    assert (archive / "0007" / "key.pem").stat().st_mode & 0o777 == 0o600
    assert world.run("status").out.startswith("no certificate is configured yet")
    assert "0 checked, 0 renewed, 0 failed" in world.run("renew").out
    assert "removed" in world.run("history", called).out
    again = world.run("remove", called)
    assert again.status == 2
    assert "is removed already" in again.flat
    if kept_in == "the roster":
        assert world.run("enrol", "--group", "web", name).status == 0
    assert world.run("stamp", name, "--as", called).status == 0, "it can be had again, and its editions are counted on"
    assert world.served(name) == world.edition(called, 8)
    assert world.run("remove", called, "--servers", "undo", "--keys", "destroy", "--yes").status == 0
    assert not (world.home / "shelf" / called).exists()


def test_what_is_left_on_a_server_is_served_on_and_found_as_what_nobody_renews(world: World) -> None:
    world.site("choir", ["choir.saltmarsh.test"])
    assert world.run("stamp", "choir.saltmarsh.test", "--as", "choir").status == 0
    command = [inkstamp_program(), "remove", "choir"]
    env = {"INKSTAMP_CONFIG": str(world.config), "PATH": "/usr/sbin:/usr/bin:/bin"}
    status, told = on_terminal(command, env, world.folder, ["leave", "remove"], seconds=60)
    assert status == 0, told
    assert "On front, undo (restore what was there before) or leave" in " ".join(told.split())
    assert world.served("choir.saltmarsh.test") == world.edition("choir", 1)
    world.nginx.reload()
    assert world.served("choir.saltmarsh.test") == world.edition("choir", 1)
    assert "not configured" in world.run("status").out
    assert "nobody renews it" in world.run("survey", "choir.saltmarsh.test").flat


def test_a_removal_killed_at_any_step_goes_on(world: World) -> None:
    world.site("pier", ["pier.saltmarsh.test"])
    before, config = snapshot(world), world.config.read_bytes()
    arguments = ["remove", "pier", "--servers", "undo", "--yes"]
    place, killed = 0, True
    while killed:
        place += 3
        if b"certificate.pier" not in world.config.read_bytes():
            assert world.run("stamp", "pier.saltmarsh.test", "--as", "pier").status == 0
        done, seen = killed_at(place, world.folder / "places", world.config, arguments)
        killed = done.returncode == -signal.SIGKILL
        again = world.run(*arguments)
        assert again.status == 0 or "is removed already" in again.flat, (seen, again.err)
        assert snapshot(world) == before, seen
        assert world.config.read_bytes() == config, seen
        assert not (world.home / "shelf" / "pier").exists(), seen
    assert place > 12


def test_a_certificate_whose_site_is_gone_is_told_by_survey(world: World) -> None:
    world.site("gull", ["gull.saltmarsh.test"])
    assert world.run("stamp", "gull.saltmarsh.test", "--as", "gull").status == 0
    assert "no site of front has any of its names" not in world.run("survey").flat
    (world.nginx.folder / "sites" / "gull.conf").unlink()
    world.nginx.reload()
    (finding,) = world.run("survey", "--json").json["missing"]
    assert (finding["subject"], finding["severity"]) == ("gull", "warn")
    assert finding["remedy"] == "add the site again, or: inkstamp remove gull"
    assert world.run("remove", "gull", "--servers", "leave", "--yes").status == 0
