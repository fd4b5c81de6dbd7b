"""Certificates on a real lighttpd: no TLS, the certificate for all, and hosts with one of their own."""

import http.client
import subprocess
import time
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

import pytest
from cryptography.hazmat.primitives import serialization
from more_servers import Light, lighttpd
from world import World, make_tls_pair

from inkstamp.view.handshake import shake_hands

ADDRESS = "127.0.0.7"


@pytest.fixture(scope="module")
def light(world: World, folder: Path) -> Iterator[Light]:
    with lighttpd(folder / "light", ADDRESS, world.nginx.http_port, 'include "sites/*.conf"\n') as made:
        (made.folder / "sites").mkdir()
        world.config.write_text(world.config.read_text() + made.entry("light"))
        yield made


def served(world: World, name: str) -> bytes:
    found = shake_hands(ADDRESS, world.nginx.https_port, name)
    return found.chain[0].public_bytes(serialization.Encoding.DER) if found.chain else b""


def page(world: World, name: str) -> bytes:
    """What is at /there, by plain HTTP."""
    with closing(http.client.HTTPConnection(ADDRESS, world.nginx.http_port, timeout=5)) as connection:
        try:
            connection.request("GET", "/there", headers={"Host": name})
            return connection.getresponse().read()
        except OSError:
            return b""


def stamp(world: World, name: str, *more: str) -> str:
    world.nameserver.table[f"{name}.saltmarsh.test"] = [ADDRESS]
    done = world.run("stamp", f"{name}.saltmarsh.test", "--as", name, "--via", "light", *more)
    assert done.status == 0, done.err
    return f"{name}.saltmarsh.test"


def test_a_lighttpd_without_tls_gets_a_socket_with_it_and_other_names_hosts_of_their_own(
    world: World, light: Light
) -> None:
    before = light.main_file.read_text()
    first = stamp(world, "first")
    shelf = world.home / "shelf"
    port = world.nginx.https_port
    socket = (
        f'server.modules += ( "mod_openssl" )\n$SERVER["socket"] == "{ADDRESS}:{port}" {{\n    ssl.engine = "enable"\n'
        f'    ssl.pemfile = "{shelf}/first/current/served.pem"\n    ssl.privkey = "{shelf}/first/current/key.pem"\n}}\n'
    )
    assert light.main_file.read_text() == before + socket
    assert served(world, first) == world.edition("first", 1)
    second = stamp(world, "second")
    host = (
        f'$HTTP["host"] == "{second}" {{\n    ssl.pemfile = "{shelf}/second/current/served.pem"\n'
        f'    ssl.privkey = "{shelf}/second/current/key.pem"\n}}\n'
    )
    with_both = before + socket + host
    assert light.main_file.read_text() == with_both
    assert (served(world, first), served(world, second)) == (world.edition("first", 1), world.edition("second", 1))
    assert world.run("stamp", "second", "--reissue").status == 0
    assert light.main_file.read_text() == with_both
    assert served(world, second) == world.edition("second", 2)
    for name in ("second", "second", "first"):
        assert world.run("undo", name).status == 0
    assert light.main_file.read_text() == before
    assert served(world, first) == b""


def test_hosts_that_stand_before_the_socket_are_served_their_own_certificate_too(world: World, light: Light) -> None:
    before = light.main_file.read_text()
    hosts = "".join(
        f'$HTTP["host"] =~ "^(www[.])?{name}[.]saltmarsh[.]test" {{\n'
        f'    server.document-root = "{light.folder}/www-{name}"\n}}\n'
        for name in ("early", "late")
    )
    file = light.folder / "sites" / "vhosts.conf"
    file.write_text(hosts)
    for name in ("early", "late"):
        (light.folder / f"www-{name}").mkdir()
        (light.folder / f"www-{name}" / "there").write_text(name)
    subprocess.run([light.folder / "restart"], check=True)
    deadline = time.monotonic() + 10
    while page(world, "late.saltmarsh.test") != b"late":
        assert time.monotonic() < deadline
        time.sleep(0.05)
    first, second = stamp(world, "early"), stamp(world, "late")
    assert (served(world, first), served(world, second)) == (world.edition("early", 1), world.edition("late", 1))
    shown = world.run("--json", "survey").json["sites"]
    roots = {each["site"]["root"] for each in shown}
    assert {f"{light.folder}/www-early", f"{light.folder}/www-late"} <= roots
    for name in ("late", "early"):
        assert world.run("undo", name).status == 0
    assert (light.main_file.read_text(), file.read_text()) == (before, hosts)
    file.unlink()


def test_hosts_that_have_tls_have_just_their_files_changed_and_a_refusal_is_put_back(
    world: World, light: Light
) -> None:
    cert, key = make_tls_pair(light.folder, "third.saltmarsh.test")
    both = light.folder / "both.pem"
    both.write_bytes(cert.read_bytes() + key.read_bytes())
    file = light.folder / "sites" / "third.conf"
    file.write_text(
        f'server.modules += ( "mod_openssl" )\n$SERVER["socket"] == "{ADDRESS}:{world.nginx.https_port}" {{\n'
        f'  ssl.engine = "enable"\n  ssl.pemfile = "{both}"\n}}\n'
        f'$HTTP["host"] =~ "^(www\\.)?third\\.saltmarsh\\.test$" {{\n\tssl.pemfile = var.home + "/both.pem" # kept\n'
        f'\tserver.name = "third" }} else {{ server.name = "other" }}\n'
    )
    before = file.read_text()
    name = stamp(world, "third")
    shelf = world.home / "shelf" / "third" / "current"
    assert file.read_text() == before.replace(
        'var.home + "/both.pem" # kept', f'"{shelf}/served.pem"\n\tssl.privkey = "{shelf}/key.pem" # kept'
    )
    assert served(world, name) == world.edition("third", 1)
    good = file.read_text()
    file.write_text(f"{good}server.nonsense = ( \n")
    broken = world.run("stamp", "third", "--reissue")
    assert (broken.status, "third.conf, line" in broken.flat or "is broken already" in broken.flat) == (1, True)
    file.write_text(good)
    assert served(world, name) == world.edition("third", 1)
