"""Certificates on servers of several machines over real SSH: copies, one machine after the other, and a way back."""

import re
import signal
import stat
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from cryptography.hazmat.primitives import serialization
from more_servers import Apache, Machine, apache, ssh_machine
from world import Nginx, World, plain_site, real_world, running, wait_for_certificate, write_nginx

from inkstamp.standins.ports import free_ports
from inkstamp.view.handshake import shake_hands

WEST, EAST = "127.0.0.2", "127.0.0.3"
NAME = "club.saltmarsh.test"


@pytest.fixture(scope="module")
def world(folder: Path) -> Iterator[World]:
    with real_world(folder / "world") as made:
        made.add_authority()
        yield made


@pytest.fixture(scope="module")
def west(world: World, folder: Path) -> Iterator[tuple[Nginx, Machine]]:
    """An nginx behind an SSH server."""
    (port,) = free_ports(1)
    nginx = write_nginx(folder / "west-nginx", world.nginx.http_port, world.nginx.https_port)
    nginx.sites_file(plain_site(["nobody.test"], nginx.http_port, folder).replace("127.0.0.1", WEST), "0-default")
    with (
        ssh_machine(folder / "west", WEST, port) as machine,
        running(nginx.command("-g", "daemon off;"), folder / "west.log", nginx.http_port, address=WEST),
    ):
        yield nginx, machine


@pytest.fixture(scope="module")
def east(world: World, folder: Path) -> Iterator[tuple[Apache, Machine]]:
    """An Apache httpd behind an SSH server."""
    (port,) = free_ports(1)
    with (
        ssh_machine(folder / "east", EAST, port) as machine,
        apache(folder / "east-apache", EAST, world.nginx.http_port) as httpd,
    ):
        yield httpd, machine


@pytest.fixture(scope="module")
def club(world: World, west: tuple[Nginx, Machine], east: tuple[Apache, Machine], folder: Path) -> World:
    """One name on both machines and on this one, and its entry."""
    nginx, machine = west
    root = folder / "west-www"
    root.mkdir()
    nginx.sites_file(plain_site([NAME], nginx.http_port, root).replace("127.0.0.1", WEST), "club")
    nginx.reload()
    east[0].site("club", [NAME])
    world.site("club", [NAME])
    world.nameserver.table[NAME] = ["127.0.0.1", WEST, EAST]
    entry = (
        f'\n[server.west]\nkind = "nginx"\nprogram = "{nginx.program}"\nmain_file = "{nginx.main_file}"\n'
        f'prefix = "{nginx.folder}"\ncertificate_folder = "{machine.folder}/certificates"\n{machine.entry()}'
    )
    entry += east[0].entry("east", f'certificate_folder = "{east[1].folder}/certificates"\n{east[1].entry()}')
    entry += (
        f'\n[certificate.club]\nnames = ["{NAME}"]\nauthority = "quayside"\nvia = ["front", "west", "east"]\n'
        'install = ["front", "west", "east"]\n'
    )
    world.config.write_text(world.config.read_text() + entry)
    return world


def served(world: World, address: str) -> bytes:
    found = shake_hands(address, world.nginx.https_port, NAME)
    return found.chain[0].public_bytes(serialization.Encoding.DER) if found.chain else b""


def all_served(world: World) -> set[bytes]:
    return {served(world, address) for address in ("127.0.0.1", WEST, EAST)}


def stray(folder: Path) -> list[str]:
    return [str(each) for each in folder.rglob("*") if ".part" in each.name or ".well-known" in str(each)]


def test_every_machine_gets_copies_that_it_serves_and_a_renewal_changes_them_alone(
    club: World, west: tuple[Nginx, Machine], east: tuple[Apache, Machine], folder: Path
) -> None:
    done = club.run("stamp", "club")
    assert done.status == 0, done.err
    assert all_served(club) == {club.edition("club", 1)}
    copies = west[1].folder / "certificates" / "club"
    assert sorted(each.name for each in copies.iterdir()) == ["key.pem", "served.pem"]
    assert stat.S_IMODE((copies / "key.pem").stat().st_mode) == 0o600
    assert stat.S_IMODE(copies.stat().st_mode) == 0o700
    files = [west[0].folder / "sites" / "club.conf", east[0].site_file("club")]
    assert f"ssl_certificate {copies}/served.pem;" in files[0].read_text()
    before = [each.read_bytes() for each in files]
    assert club.run("stamp", "club", "--reissue").status == 0
    assert all_served(club) == {club.edition("club", 2)}
    assert [each.read_bytes() for each in files] == before
    assert "valid and installed" in club.run("stamp", "club").out
    assert stray(folder / "west-www") + stray(west[1].folder) + stray(east[1].folder) == []


def test_undo_goes_back_on_every_machine(club: World) -> None:
    assert club.run("undo", "club").status == 0
    assert all_served(club) == {club.edition("club", 1)}
    assert club.run("--json", "status").json["certificates"][0]["state"] == "rolled back"
    shown = club.run("install", "club", "--preview")
    assert "PRIVATE KEY" not in shown.out
    assert club.run("install", "club").status == 0
    assert all_served(club) == {club.edition("club", 2)}


def test_a_machine_that_is_away_is_left_for_the_next_run_and_told(club: World, east: tuple[Apache, Machine]) -> None:
    east[1].process.send_signal(signal.SIGSTOP)
    away = east[1].client.read_text()
    east[1].client.write_text(away.replace("Host *\n", "Host *\n  ProxyCommand false\n"))
    try:
        club.config.write_text(club.config.read_text().replace('"west", "east"]\ninstall', '"west"]\ninstall'))
        club.nameserver.table[NAME] = ["127.0.0.1", WEST]
        done = club.run("stamp", "club", "--reissue")
    finally:
        east[1].client.write_text(away)
        east[1].process.send_signal(signal.SIGCONT)
    assert done.status == 1
    assert "edition 3 could not be installed on east" in done.flat
    assert "front, west have edition 3; the next run tries the rest" in done.flat
    assert (served(club, WEST), served(club, EAST)) == (club.edition("club", 3), club.edition("club", 2))
    assert club.run("--json", "status").json["certificates"][0]["state"] == "not installed"
    assert "could not be installed on east" in club.run("why", "club").flat
    again = club.run("renew")
    assert again.status == 0, again.err
    assert all_served(club) == {club.edition("club", 3)}
    assert club.ca.certificates() == 3


def refusing_reload(club: World, nginx: Nginx) -> str:
    """Have the nginx on the west machine refuse every reload; returns the configuration of before."""
    program = nginx.folder / "no-reload"
    program.write_text(
        f'#!/bin/sh\ncase "$*" in *reload) echo "no master" >&2; exit 1;; esac\nexec {nginx.program} "$@"\n'
    )
    program.chmod(0o755)
    config = club.config.read_text()
    table = config.index("[server.west]")
    club.config.write_text(config[:table] + config[table:].replace(nginx.program, str(program), 1))
    return config


def test_the_first_machine_that_fails_stops_the_rest_and_is_put_back(
    club: World, west: tuple[Nginx, Machine], east: tuple[Apache, Machine]
) -> None:
    config = refusing_reload(club, west[0])
    copies = {each: each.read_bytes() for each in (west[1].folder / "certificates" / "club").iterdir()}
    done = club.run("stamp", "club", "--reissue")
    club.config.write_text(config)
    assert done.status == 1
    assert "server “west” could not be reloaded" in done.flat
    assert "front has edition 4: `inkstamp undo club` rolls it back there" in done.flat
    assert {each: each.read_bytes() for each in copies} == copies
    assert (served(club, "127.0.0.1"), served(club, WEST), served(club, EAST)) == (
        club.edition("club", 4), club.edition("club", 3), club.edition("club", 3),
    )  # fmt: skip
    assert club.run("renew").status == 0
    assert all_served(club) == {club.edition("club", 4)}
    assert east[0].site_file("club").exists()


def test_several_machines_change_at_once_and_go_back_together_when_one_fails(
    club: World, west: tuple[Nginx, Machine]
) -> None:
    done = club.run("install", "club", "--edition", "3", "--at-once", "2")
    assert done.status == 0, done.err
    assert all_served(club) == {club.edition("club", 3)}
    assert club.run("install", "club", "--at-once", "2").status == 0
    config = refusing_reload(club, west[0])
    failed = club.run("install", "club", "--edition", "3", "--at-once", "2", "--back")
    club.config.write_text(config)
    assert (failed.status, "server “west” could not be reloaded" in failed.flat) == (1, True)
    assert re.search(r"(front, east|east, front) were rolled back to what was there before", failed.flat), failed.flat
    assert all_served(club) == {club.edition("club", 4)}


def test_editions_beyond_those_kept_go_but_none_that_a_server_has(club: World, east: tuple[Apache, Machine]) -> None:
    shelf = club.home / "shelf" / "club"
    assert sorted(each.name for each in shelf.iterdir() if each.name.isdigit()) == ["0002", "0003", "0004"]
    assert "dropped" in club.run("history", "club").flat


def test_a_connection_that_is_lost_in_the_middle_leaves_the_machine_whole(
    club: World, west: tuple[Nginx, Machine]
) -> None:
    """It is cut when the files are changed and the changed configuration is being tested."""
    program, first, second = (west[0].folder / each for each in ("slow", "first", "second"))
    program.write_text(
        f'#!/bin/sh\ncase "$*" in *-t) [ -e {first} ] && {{ touch {second}; sleep 10; }}; touch {first};; esac\n'
        f'exec {west[0].program} "$@"\n'
    )
    program.chmod(0o755)
    config = club.config.read_text()
    table = config.index("[server.west]")
    club.config.write_text(config[:table] + config[table:].replace(west[0].program, str(program), 1))
    copies = {each: each.read_bytes() for each in (west[1].folder / "certificates" / "club").iterdir()}

    def cut() -> None:
        deadline = time.monotonic() + 60
        while not second.exists() and time.monotonic() < deadline:
            time.sleep(0.05)
        west[1].cut()

    cutter = threading.Thread(target=cut)
    cutter.start()
    done = club.run("stamp", "club", "--reissue")
    cutter.join()
    club.config.write_text(config)
    assert done.status == 1
    assert "edition 5 could not be installed on west" in done.flat
    assert "lost in the middle of a request" in done.flat
    assert {each: each.read_bytes() for each in copies} == copies
    assert served(club, WEST) == club.edition("club", 4)
    assert served(club, EAST) == club.edition("club", 5)
    assert club.run("renew").status == 0
    assert all_served(club) == {club.edition("club", 5)}
    assert stray(west[1].folder) == []


def test_a_machine_takes_several_certificates_of_a_run_with_one_reload(
    club: World, west: tuple[Nginx, Machine], folder: Path
) -> None:
    crews = ["bow", "stroke", "cox"]
    text = club.config.read_text()
    for crew in crews:
        name = f"{crew}.saltmarsh.test"
        site = plain_site([name], west[0].http_port, folder / "west-www").replace("127.0.0.1", WEST)
        west[0].sites_file(site, crew)
        club.nameserver.table[name] = [WEST]
        text += f'\n[certificate.{crew}]\nnames = ["{name}"]\nauthority = "quayside"\nkey = "rsa-2048"\n'
        text += 'via = "west"\ninstall = ["west"]\n'
    west[0].reload()
    club.config.write_text(text)
    for number, key in enumerate(("rsa-2048", "ecdsa-p384"), start=1):
        club.config.write_text(text.replace("rsa-2048", key))
        done = club.run("renew", *crews)
        assert done.status == 0, done.err
        assert "west: 2 new editions, one reload" in done.err
        for crew in crews:
            wait_for_certificate(WEST, club.nginx.https_port, f"{crew}.saltmarsh.test", club.edition(crew, number))
            copy = west[1].folder / "certificates" / crew / "key.pem"
            assert copy.read_bytes() == (club.home / "shelf" / crew / f"{number:04d}" / "key.pem").read_bytes()
        assert stray(folder / "west-www") == []
