"""Every kind of web server, as Debian ships it, in every situation, through all that changes it and back again.

After each step the server's own test passes, it starts from nothing, and the public sees what was said; at the end all
files are what they were, to the first byte.
"""

import http.client
import sys
from collections.abc import Iterator
from contextlib import ExitStack, closing, contextmanager
from pathlib import Path

import pytest
from cryptography.hazmat.primitives import serialization
from debian_trees import Tree, debian_tree
from world import World, running

from inkstamp.view.handshake import shake_hands

ADDRESS, SECOND, FOREIGN = "127.0.0.5", "127.0.0.6", "127.0.0.7"
WEB = ("nginx", "apache", "lighttpd")
SITUATIONS = ("pristine", "with TLS", "wildcard", "HTTPS alone", "two addresses", "port taken elsewhere")
CASES = [
    (kind, situation)
    for kind in WEB
    for situation in SITUATIONS
    if (kind, situation) != ("lighttpd", "two addresses")  # its sites have no addresses of their own
]
LETS_THROUGH = ("nginx", "apache")


@contextmanager
def foreign_listener(port: int, folder: Path) -> Iterator[None]:
    """Another program that listens on the port of TLS, at an address that is not the site's."""
    program = f"import socket, time; it = socket.create_server(({FOREIGN!r}, {port})); time.sleep(600)"
    with running([sys.executable, "-c", program], folder / "foreign.log", port, address=FOREIGN):
        yield


def arrange(tree: Tree, situation: str, domain: str) -> None:
    """Write the site that the situation is about."""
    match situation:
        case "with TLS":
            tree.site("club", [domain], tls=True)
        case "wildcard":
            tree.site("club", [domain.partition(".")[2], f"*.{domain.partition('.')[2]}"], tls=True)
        case "HTTPS alone":
            tree.site("club", [domain], plain=False, tls=True)
        case "two addresses":
            tree.site("club", [domain], also=SECOND)
        case "port taken elsewhere":
            tree.site("club", [domain])


def served(tree: Tree, domain: str, address: str) -> bytes | None:
    found = shake_hands(address, tree.https_port, domain)
    return found.chain[0].public_bytes(serialization.Encoding.DER) if found.chain else None


def page(tree: Tree, domain: str, path: str = "/") -> int:
    with closing(http.client.HTTPConnection(tree.address, tree.http_port, timeout=5)) as connection:
        connection.request("GET", path, headers={"Host": domain})
        with connection.getresponse() as reply:
            return reply.status


@pytest.mark.parametrize(("kind", "situation"), CASES)
def test_stamp_renew_let_through_and_undo(world: World, folder: Path, kind: str, situation: str) -> None:
    label = f"{kind}-{situation.replace(' ', '-').lower()}"
    domain = f"a.{label}.saltmarsh.test"
    addresses = [ADDRESS, SECOND] if situation == "two addresses" else [ADDRESS]
    world.nameserver.table[domain] = addresses
    ports = (world.nginx.http_port, world.nginx.https_port)
    with ExitStack() as stack:
        if situation == "port taken elsewhere":
            stack.enter_context(foreign_listener(ports[1], folder))
        tree = stack.enter_context(debian_tree(kind, folder / label, ADDRESS, ports, SECOND))
        if situation == "two addresses" and kind == "apache":
            text = (tree.etc / "ports.conf").read_text()
            (tree.etc / "ports.conf").write_text(f"Listen {SECOND}:{ports[0]}\n{text}")
        arrange(tree, situation, domain)
        tree.start()
        before = tree.snapshot()
        initial = [served(tree, domain, each) for each in addresses]
        world.config.write_text(world.config.read_text() + tree.entry(label))
        entry = f"club-{label}"

        def expect(edition: int | None) -> None:
            tree.expect_sound()
            shown = [served(tree, domain, each) for each in addresses]
            assert shown == (initial if edition is None else [world.edition(entry, edition)] * len(addresses))

        guarded = kind in LETS_THROUGH and situation in {"with TLS", "wildcard", "two addresses"}
        if guarded:
            tree.guard("club")
            tree.expect_sound()
            before = tree.snapshot()
            refused = world.run("stamp", domain, "--via", label, "--as", entry)
            assert refused.status == 1, refused.out
        opening = ["--let-through"] if guarded else []
        done = world.run("stamp", domain, "--via", label, "--as", entry, *opening)
        assert done.status == 0, done.err
        expect(1)
        done = world.run("stamp", entry, "--reissue")
        assert done.status == 0, done.err
        expect(2)
        if guarded:
            closed = world.run("prove", entry, "--close-again")
            assert closed.status == 0, closed.err
            expect(2)
        assert world.run("undo", entry).status == 0
        expect(1)
        done = world.run("undo", entry)
        assert done.status == 0, done.err
        expect(None)
        assert tree.snapshot() == before
        assert page(tree, domain) in {200, 403, 404}
        assert not [each for each in (tree.folder / "www").rglob("*") if ".well-known" in str(each)]


@pytest.mark.parametrize("situation", ["plain alone", "with TLS", "wildcard", "two addresses", "port taken elsewhere"])
def test_a_proxy_takes_a_certificate_and_gives_it_back(world: World, folder: Path, situation: str) -> None:
    label = f"haproxy-{situation.replace(' ', '-').lower()}"
    domain = f"a.{label}.saltmarsh.test"
    addresses = [ADDRESS, SECOND] if situation == "two addresses" else [ADDRESS]
    world.site(label, [domain])
    ports = (world.nginx.http_port, world.nginx.https_port)
    with ExitStack() as stack:
        if situation == "port taken elsewhere":
            stack.enter_context(foreign_listener(ports[1], folder))
        tree = stack.enter_context(debian_tree("haproxy", folder / label, ADDRESS, ports, SECOND))
        tls = situation in {"with TLS", "wildcard"}
        first = f"*.{domain.partition('.')[2]}" if situation == "wildcard" else domain
        tree.site("club", [first], tls=tls, also=SECOND if situation == "two addresses" else "")
        tree.start()
        before = tree.snapshot()
        initial = [served(tree, domain, each) for each in addresses]
        world.nameserver.table[domain] = addresses
        world.config.write_text(
            f'{world.config.read_text()}{tree.entry(label)}\n[certificate.{label}]\nnames = ["{domain}"]\n'
            f'authority = "quayside"\nvia = "front"\ninstall = ["{label}"]\n'
        )
        for edition in (1, 2):
            done = world.run("stamp", label, *(["--reissue"] if edition == 2 else []))
            assert done.status == 0, done.out + done.err
            tree.expect_sound()
            assert {served(tree, domain, each) for each in addresses} == {world.edition(label, edition)}
        for expected in ([world.edition(label, 1)] * len(addresses), initial):
            done = world.run("undo", label)
            assert done.status == 0, done.err
            tree.expect_sound()
            assert [served(tree, domain, each) for each in addresses] == expected
        assert tree.snapshot() == before
