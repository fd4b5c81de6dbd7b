"""A private CA beside the public ones: its certificates are believed by its own roots, and by nobody else's."""

import socket
import ssl
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from datetime import datetime, timedelta
from pathlib import Path

import pytest
from portal_world import NAME, RULE, PortalWorld, leaf, portal_world, stand

from inkstamp.pki import keys
from inkstamp.pki.certificates import to_pem
from inkstamp.pki.kinds import KeyKind
from inkstamp.standins.hierarchy import Keyring

YEARS = timedelta(days=365) * 15


@pytest.fixture
def world(tmp_path: Path) -> Iterator[PortalWorld]:
    """What the public trusts is another CA; the portal's root is the own one of its authority."""
    with portal_world(tmp_path) as made:
        public = Keyring(tmp_path / "public", "Harbour (simulated)").root("Harbour Root")
        (tmp_path / "roots.pem").write_bytes(to_pem(public.certificate))
        (tmp_path / "origin.pem").write_bytes(made.portal.state.hierarchy.roots_file.read_bytes())
        made.portal.state.mood.lifetime = YEARS
        made.configure(rule=f'{RULE}roots = "origin.pem"\n')
        yield made


@contextmanager
def in_front(world: PortalWorld, address: str) -> Iterator[None]:
    """A proxy with a certificate of the public CA, as a CDN is."""
    keyring = Keyring(world.folder / "public", "Harbour (simulated)")
    key = keys.make(KeyKind.ECDSA_P256)
    issued = keyring.leaf(key.public_key(), [NAME], keyring.root("Harbour Root"))
    file = world.folder / "cdn.pem"
    file.write_bytes(keys.to_pem(key) + to_pem(issued))
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    context.load_cert_chain(file)
    with socket.create_server((address, world.nginx.https_port)) as listener:

        def serve() -> None:
            with suppress(OSError):
                while True:
                    stream, _ = listener.accept()
                    with suppress(OSError), stream, context.wrap_socket(stream, server_side=True) as secured:
                        secured.recv(1)

        threading.Thread(target=serve, daemon=True).start()
        yield
        listener.shutdown(socket.SHUT_RDWR)


def test_a_certificate_of_a_private_ca_is_believed_by_its_own_roots_and_lasts_as_long_as_its_chain(
    world: PortalWorld,
) -> None:
    page = world.issued()
    taken = world.run("collect", "shop", str(world.download(page)))
    assert taken.status == 0, taken.err
    assert world.run("renew").status == 0
    assert stand(world) == ("ok", "")
    (status,) = world.run("status", "--json").json["certificates"]
    ends = world.portal.state.hierarchy.lower.certificate.not_valid_after_utc
    assert leaf(world, 1).not_valid_after_utc > ends
    assert datetime.fromisoformat(status["not_after"]) == ends
    renews = datetime.fromisoformat(status["renews_at"])
    assert ends - timedelta(days=180) < renews < ends - timedelta(days=100)  # not years before
    checked = world.run("check", "shop", "--json").json["names"][0]
    wrong = {each["topic"]: each["seen"] for each in checked["findings"] if each["severity"] in {"bad", "warn"}}
    assert wrong.keys() <= {"plain HTTP"}, wrong
    assert checked["root"] == "Fogbell Root 2"


def test_without_roots_it_is_refused_and_roots_that_cannot_be_read_are_told_with_their_entry(
    world: PortalWorld,
) -> None:
    page = world.issued()
    text = world.config.read_text()
    world.config.write_text(text.replace('roots = "origin.pem"\n', ""))
    refused = world.run("collect", "shop", str(world.download(page)))
    assert refused.status == 1
    assert "is not among the trusted roots" in refused.flat
    assert "`roots`" in refused.flat
    world.config.write_text(text.replace("origin.pem", "gone.pem"))
    told = world.run("collect", "shop", str(world.download(page)))
    assert told.status == 2
    assert "correct `roots` in [authority.fogbell]" in told.flat
    assert world.run("survey").status == 0  # the others go on
    world.config.write_text(text)
    assert world.run("collect", "shop", str(world.download(page))).status == 0


def test_behind_a_cdn_it_is_told_that_another_answers_and_the_origin_is_tested_by_its_address(
    world: PortalWorld,
) -> None:
    page = world.issued()
    assert world.run("collect", "shop", str(world.download(page))).status == 0
    with in_front(world, "127.0.0.2"):
        world.nameserver.table[NAME] = ["127.0.0.2"]
        installed = world.run("stamp", "shop")
        assert installed.status == 0, installed.err
        told = world.run("check", "shop", "--quick")
        assert told.status == 0, told.out
        assert "a CDN or proxy answers, with a certificate of “Harbour Root”" in told.flat
        assert f"inkstamp check {NAME} --at ADDRESS" in told.flat
        origin = world.run("check", NAME, "--at", "127.0.0.1", "--quick", "--json").json["names"][0]
        assert list(origin["addresses"]) == ["127.0.0.1"]
        seen = {each["topic"]: each["seen"] for each in origin["findings"]}
        assert "serves edition 1, the newest" in seen["edition"]
        port = world.nginx.https_port
        assert world.run("check", NAME, "--at", f"127.0.0.1:{port}", "--quick").status == 0
        assert "leave --at or --since out" in world.run("check", NAME, "--at", "127.0.0.1", "--since").flat
        for wrong in ("cdn.test", "127.0.0.1:x", "127.0.0.1:99999"):
            refused = world.run("check", NAME, "--at", wrong)
            assert refused.status == 2
            assert "is not an IP address" in refused.flat
