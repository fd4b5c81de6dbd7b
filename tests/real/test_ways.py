"""Every way of proving over HTTP and TLS, with a real CA, nginx, Apache httpd and OpenSSH."""

import re
import threading
from collections.abc import Iterator
from pathlib import Path

import pytest
from cryptography import x509
from more_servers import Apache, Machine, apache, ssh_machine
from world import Ran, World, plain_site, real_world

from inkstamp.pki.certificates import subject_names
from inkstamp.standins.ports import free_ports

OURS = "127.0.0.4"
"""Where no web server listens."""
ONLY_US = '    location /.well-known/ { if ($http_user_agent !~ "inkstamp") { return 403; } }\n'
"""A site that lets our own look through, and not the CA's."""


@pytest.fixture(scope="module")
def shared(folder: Path) -> Iterator[World]:
    with real_world(folder / "world") as made:
        made.add_authority()
        yield made


@pytest.fixture
def world(shared: World) -> Iterator[World]:
    before = shared.config.read_text()
    yield shared
    shared.config.write_text(before)
    assert shared.left_behind() == []


@pytest.fixture(scope="module")
def machines(shared: World, folder: Path) -> Iterator[tuple[Machine, Machine]]:
    first, second = free_ports(2)
    with (
        ssh_machine(folder / "west", "127.0.0.2", first) as west,
        ssh_machine(folder / "east", "127.0.0.3", second) as east,
    ):
        yield west, east


@pytest.fixture(scope="module")
def httpd(shared: World, folder: Path) -> Iterator[Apache]:
    with apache(folder / "apache", "127.0.0.3", shared.nginx.http_port) as made:
        yield made


def configure(world: World, text: str, certificate: str, name: str = "site") -> None:
    whole = world.config.read_text() + text + f'\n[certificate.{name}]\nauthority = "quayside"\n{certificate}'
    world.config.write_text(whole)


def leaf(world: World, name: str = "site") -> x509.Certificate:
    return x509.load_pem_x509_certificate((world.home / "shelf" / name / "current" / "leaf.pem").read_bytes())


@pytest.mark.parametrize("addresses", [[OURS], ["::1"], [OURS, "127.0.0.5"]])
@pytest.mark.parametrize("way", ["http-01", "tls-alpn-01"])
def test_a_listener_of_our_own_proves_where_no_web_server_runs(world: World, addresses: list[str], way: str) -> None:
    names = ["quiet.saltmarsh.test", "www.quiet.saltmarsh.test"]
    for name in names:
        world.nameserver.table[name] = addresses
    entry = f"quiet-{way}-{len(addresses)}{'-six' * (addresses == ['::1'])}"
    done = world.run("stamp", *names, "--via", "listener", "--proof", way, "--as", entry)
    assert done.status == 0, done.err
    assert "is on the shelf" in done.out


@pytest.mark.parametrize("way", ["http-01", "tls-alpn-01"])
@pytest.mark.parametrize("address", [OURS, "::1"])
def test_an_address_is_certified_by_a_listener(world: World, address: str, way: str) -> None:
    configure(world, "", f'names = ["{address}"]\nvia = "listener"\nproof = "{way}"\n')
    done = world.run("stamp", "site", "--reissue")
    assert done.status == 0, done.err
    assert subject_names(leaf(world)) == (address,)


def test_an_address_is_certified_through_the_web_server_that_answers_for_it(world: World) -> None:
    root = world.folder / "www" / "number"
    root.mkdir(parents=True)
    default = world.nginx.folder / "sites" / "0-default.conf"
    before = default.read_text()
    default.write_text(plain_site(["_"], world.nginx.http_port, root).replace(";  # plain", " default_server;"))
    world.nginx.reload()
    try:
        done = world.run("stamp", "127.0.0.1", "--as", "number", "--via", "front", "--install", "front")
        assert done.status == 0, done.err
        assert subject_names(leaf(world, "number")) == ("127.0.0.1",)
        assert subject_names(x509.load_der_x509_certificate(world.served("nobody.test"))) == ("127.0.0.1",)
    finally:
        default.write_text(before)
        world.nginx.reload()


def test_a_port_that_is_taken_is_told_with_the_program_that_has_it(world: World) -> None:
    world.nameserver.table["taken.saltmarsh.test"] = ["127.0.0.1"]
    done = world.run("stamp", "taken.saltmarsh.test", "--via", "listener")
    assert done.status == 1
    assert re.search(rf"port {world.nginx.http_port} is taken by nginx \(process \d+\)", done.flat)
    assert "or use dns-01" in done.flat
    checked = world.run("precheck", "taken.saltmarsh.test", "--via", "listener")
    assert checked.status == 1
    assert re.search(r"taken by nginx \(process \d+\)", checked.flat)


def test_one_name_on_two_web_servers_on_two_machines_is_proven_by_all(
    world: World, machines: tuple[Machine, Machine], httpd: Apache
) -> None:
    west, east = machines
    port, name = world.nginx.http_port, "club.saltmarsh.test"
    west_root, east_root = world.folder / "west", httpd.folder / "www" / "club"
    west_root.mkdir()
    world.nginx.sites_file(plain_site([name], port, west_root).replace("127.0.0.1", west.address), "club")
    world.nginx.reload()
    httpd.site("club", [name])
    world.nameserver.table[name] = [west.address, east.address]
    nginx = world.config.read_text()
    front = nginx[nginx.index("kind = ") : nginx.index("\n\n[view]")]
    servers = f"\n[server.west]\n{front}\n{west.entry()}" + httpd.entry("east", east.entry())
    configure(world, servers, f'names = ["{name}"]\nvia = ["west", "east"]\n')
    checked = world.run("precheck", "site", "--all")
    assert checked.status == 0, checked.out
    assert f"{west.address} is answered by west" in checked.flat
    assert f"{east.address} is answered by east" in checked.flat
    done = world.run("stamp", "site", "--reissue")
    assert done.status == 0, done.err
    assert not list(west_root.iterdir())
    assert [each.name for each in east_root.iterdir()] == ["index.html"]
    # With just one of them, the other address would be asked in vain: seen before the CA is.
    world.config.write_text(world.config.read_text().replace('via = ["west", "east"]', 'via = "west"'))
    alone = world.stamp_in_vain("site")
    orders = world.ca.orders()
    assert alone.status == 1
    assert f"{east.address}: answers 404" in alone.flat
    assert "the web server that has the challenge response does not answer at" in alone.flat
    world.config.write_text(world.config.read_text().replace('via = "west"', 'via = ["west", "east"]'))
    assert world.run("stamp", "site").status == 0  # resumes the same order
    assert world.ca.orders() == orders


def test_a_machine_that_cannot_be_reached_or_is_another_one_is_told(
    world: World, machines: tuple[Machine, Machine]
) -> None:
    west, east = machines
    name = "far.saltmarsh.test"
    world.nameserver.table[name] = [west.address]
    entry = f'\n[server.far]\nkind = "files"\nroot = "{world.folder}/far/{{domain}}"\n'
    configure(world, entry + west.entry().replace(str(west.port), "9"), f'names = ["{name}"]\nvia = "far"\n')
    done = world.run("stamp", "site", "--reissue")
    assert done.status == 1
    assert "the connection to 127.0.0.2 does not come about" in done.flat
    assert "Connection refused" in done.flat
    stranger = world.config.read_text().replace(":9", f":{west.port}").replace(str(west.client), str(east.client))
    world.config.write_text(stranger)
    done = world.run("stamp", "site", "--reissue")
    assert done.status == 1
    assert "Host key verification failed" in done.flat
    assert "add its key to known_hosts" in done.flat


def test_any_web_server_carries_proofs_in_the_folder_that_is_named(
    world: World, machines: tuple[Machine, Machine], httpd: Apache
) -> None:
    _, east = machines
    name = "any.saltmarsh.test"
    httpd.site(name, [name])
    world.nameserver.table[name] = [east.address]
    entry = f'\n[server.any]\nkind = "files"\nroot = "{httpd.folder}/www/{{domain}}"\n{east.entry()}'
    configure(world, entry, f'names = ["{name}"]\nvia = "any"\n')
    assert world.run("stamp", "site", "--reissue").status == 0
    assert not (httpd.folder / "www" / name / ".well-known").exists()


def test_when_the_first_way_is_not_seen_the_second_one_is_gone_in_the_same_order(world: World) -> None:
    world.site("second", ["second.saltmarsh.test"], more="    location /.well-known/ { return 403; }\n")
    configure(
        world,
        "",
        'names = ["second.saltmarsh.test"]\nvia = ["front", "listener"]\nproof = ["http-01", "tls-alpn-01"]\n',
    )
    orders = world.ca.orders()
    done = world.run("stamp", "site", "--reissue")
    assert done.status == 0, done.err
    assert "http-01 is not seen; tls-alpn-01 is tried instead" in done.flat
    assert world.ca.orders() == orders + 1


def test_when_the_ca_refuses_the_first_way_the_second_one_passes_and_goes_first_from_then_on(world: World) -> None:
    world.site("picky", ["picky.saltmarsh.test"], more=ONLY_US)
    configure(
        world,
        "",
        'names = ["picky.saltmarsh.test"]\nvia = ["front", "listener"]\nproof = ["http-01", "tls-alpn-01"]\n',
    )
    orders = world.ca.orders()
    done = world.run("stamp", "site", "--reissue")
    assert done.status == 0, done.err
    assert "was refused for picky.saltmarsh.test; ordering again, validated in another way" in done.flat
    assert world.ca.orders() == orders + 2
    assert world.run("stamp", "site", "--reissue").status == 0
    assert world.ca.orders() == orders + 3


def test_why_tells_the_ca_s_words_what_was_seen_and_another_way(world: World) -> None:
    world.site("vague", ["vague.saltmarsh.test"], more=ONLY_US)
    records = f'\n[nameserver.primary]\naddress = "127.0.0.1:{free_ports(1)[0]}"\n'
    configure(world, records, 'names = ["vague.saltmarsh.test"]\nvia = "front"\n', "vague")
    assert world.run("stamp", "vague").status == 1
    told = world.run("why", "vague")
    for word in (
        "refused",
        "the CA validated: the CA refused to issue for vague.saltmarsh.test",
        "waiting for you",
        "CA's message",
        "unauthorized",
        "403",
        'proof = ["http-01", "dns-01"]',
        'via = ["front", "primary"]',
        "next inkstamp stamp vague",
    ):
        assert word in told.flat, f"“{word}” is not in {told.out}"
    assert world.run("stamp", "vague").status == 1
    assert "2 times in all" in world.run("why", "vague").flat
    data = world.run("--json", "why", "vague").json["why"]
    assert data["setback"]["told"]["problem"] == "unauthorized"
    assert data["stall"]["who"] == "you"
    world.site("vague", ["vague.saltmarsh.test"])
    assert world.run("stamp", "vague").status == 0
    assert world.run("--json", "why", "vague").json["why"]["setback"] is None


def test_two_runs_with_listeners_take_turns_at_the_port(world: World) -> None:
    names = [f"turn{number}.saltmarsh.test" for number in range(3)]
    for name in names:
        world.nameserver.table[name] = [OURS]
    done: list[Ran] = []
    threads = [
        threading.Thread(target=lambda name=name: done.append(world.run("stamp", name, "--via", "listener")))
        for name in names
    ]
    for each in threads:
        each.start()
    for each in threads:
        each.join()
    assert [each.status for each in done] == [0, 0, 0], [each.err for each in done]
