"""Names that share a virtual host by a wildcard, or as the default: none loses its certificate to another's."""

from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from cryptography.hazmat.primitives import serialization
from more_servers import Apache, apache
from world import World, real_world

from inkstamp.view.handshake import shake_hands

HTTPD = "127.0.0.3"
Add = Callable[[str, str], Path]


@pytest.fixture(scope="module")
def world(folder: Path) -> Iterator[World]:
    with real_world(folder / "world") as made:
        made.add_authority()
        yield made


@pytest.fixture(scope="module")
def httpd(world: World, folder: Path) -> Iterator[Apache]:
    with apache(folder / "apache", HTTPD, world.nginx.http_port) as made:
        world.config.write_text(world.config.read_text() + made.entry("httpd"))
        yield made


def served(world: World, address: str, name: str) -> bytes:
    found = shake_hands(address, world.nginx.https_port, name)
    assert found.chain, found.trouble
    return found.chain[0].public_bytes(serialization.Encoding.DER)


@pytest.fixture(params=["nginx", "apache"])
def shared(request: pytest.FixtureRequest, world: World, httpd: Apache) -> tuple[str, str, str, Path]:
    """A site with a wildcard: its server, address and domain, and the file that it stands in."""
    domain = f"{request.param}.saltmarsh.test"
    address = "127.0.0.1" if request.param == "nginx" else HTTPD
    for name in ("a", "m", "z"):
        world.nameserver.table[f"{name}.{domain}"] = [address]
    if request.param == "nginx":
        world.site("wild", [domain, f"*.{domain}"])
        return "front", address, domain, world.nginx.folder / "sites" / "wild.conf"
    httpd.site("wild", [domain, f"*.{domain}"])
    world.nameserver.table[domain] = [address]
    return "httpd", address, domain, httpd.site_file("wild")


def test_no_certificate_is_taken_from_a_name_that_a_wildcard_answers(
    world: World, shared: tuple[str, str, str, Path]
) -> None:
    server, address, domain, file = shared
    first, second = f"a.{domain}", f"m.{domain}"
    kind = f"a-{server}"
    assert world.run("stamp", first, "--via", server, "--as", kind).status == 0
    before, orders = file.read_bytes(), world.ca.orders()
    refused = world.run("stamp", second, "--via", server, "--as", f"m-{server}")
    assert refused.status == 1
    assert f"also serves {first}" in refused.flat
    assert "--own-site" in refused.flat
    assert (file.read_bytes(), world.ca.orders()) == (before, orders)
    done = world.run("stamp", second, "--via", server, "--as", f"m-{server}", "--own-site")
    assert done.status == 0, done.err
    shown = {name: served(world, address, name) for name in (first, second, f"z.{domain}")}
    mine, others = world.edition(f"m-{server}", 1), world.edition(kind, 1)
    assert shown == {first: others, second: mine, f"z.{domain}": others}
    for name in (kind, f"m-{server}"):
        assert world.run("stamp", name, "--reissue").status == 0
    assert served(world, address, first) == world.edition(kind, 2)
    assert served(world, address, second) == world.edition(f"m-{server}", 2)
    for name in (f"m-{server}", f"m-{server}", kind):
        assert world.run("undo", name).status == 0
    assert file.read_bytes() == before
