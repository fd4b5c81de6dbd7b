"""An install on HAProxy, Postfix, Dovecot and by copies, killed at its steps: the next run leaves all as it was.

The key is encrypted: HAProxy and Postfix are given the plain one, Dovecot its passphrase, the copy is encrypted.
"""

import os
import signal
from collections.abc import Iterator
from pathlib import Path

import pytest
from cryptography.hazmat.primitives import serialization
from killing import killed_at
from more_servers import Mail, Proxy, haproxy, mail
from world import World, make_tls_pair, real_world

from inkstamp.standins.ports import free_ports
from inkstamp.view.handshake import shake_hands

EDGE, NAME = "127.0.0.5", "mail.saltmarsh.test"
STRIDE = 11
"""Every so many-th place is tried, a different one of each sort."""

pytestmark = pytest.mark.skipif(os.geteuid() != 0, reason="Postfix starts as root alone")


@pytest.fixture(scope="module")
def world(folder: Path) -> Iterator[World]:
    with real_world(folder / "world", ca_env={"nonces_rejected": "0"}) as made:
        made.add_authority()
        made.site("mail", [NAME])
        yield made


@pytest.fixture(scope="module")
def post(folder: Path) -> Iterator[Mail]:
    with mail(folder / "mail", free_ports(5), NAME) as made:
        yield made


@pytest.fixture(scope="module")
def edge(world: World, folder: Path) -> Iterator[Proxy]:
    certificates = folder / "certificates"
    certificates.mkdir()
    cert, key = make_tls_pair(folder, "first.test")
    (certificates / "first.pem").write_bytes(cert.read_bytes() + key.read_bytes())
    text = (
        f"frontend web\n    bind {EDGE}:{world.nginx.https_port} ssl crt {certificates}\n"
        "    http-request return status 200\n"
    )
    with haproxy(folder / "edge", EDGE, world.nginx.https_port, text) as made:
        yield made


def bytes_of(*folders: Path) -> dict[str, tuple[bytes, int]]:
    """All that an install may touch."""
    files = [each for folder in folders for each in folder.rglob("*") if each.is_file()]
    told = (".log", "log", "pid", "reloads", "out", ".part")
    return {str(each): (each.read_bytes(), each.stat().st_mode) for each in files if not each.name.endswith(told)}


def test_whatever_was_begun_is_put_back_at_the_next_run(world: World, post: Mail, edge: Proxy, folder: Path) -> None:
    store = folder / "store"
    store.mkdir()
    table = f'\n[server.store]\nkind = "files"\nfiles = [{{ path = "{store}/both.pem", form = "combined" }}]\n'
    entry = f'[certificate.mail]\nnames = ["{NAME}"]\nauthority = "quayside"\nvia = "front"\n'
    (folder / "key.pass").write_text("gulls\n")
    (folder / "key.pass").chmod(0o600)
    entry += f'key_passphrase_file = "{folder}/key.pass"\n'
    mail_servers = post.entries().replace("[server.post]\n", "[server.post]\ndecrypt = true\n")
    text = world.config.read_text() + mail_servers + edge.entry("edge", "decrypt = true\n") + table + entry
    world.config.write_text(text)
    assert world.run("stamp", "mail").status == 0  # onto the shelf only
    world.config.write_text(text + 'install = ["edge", "post", "boxes", "store"]\n')
    watched = (post.main_cf.parent, post.dovecot.parent, edge.folder, folder / "certificates", store)
    before = {path: each for path, each in bytes_of(*watched).items() if "/run/" not in path and "/state/" not in path}
    killed = []
    for number in range(1, 2000, STRIDE):
        done, places = killed_at(number, folder / "counts", world.config, ["install", "mail"])
        if done.returncode != -signal.SIGKILL:
            break
        what = places[-1]
        killed.append(what)
        after = world.run("undo", "mail")
        assert after.status == 0 or "there is no install" in after.flat, f"{what}: {after.err}"
        now = {path: each for path, each in bytes_of(*watched).items() if "/run/" not in path and "/state/" not in path}
        assert now == before, what
        assert not [each for folder_ in watched for each in folder_.rglob("*.part")], what
        kept = [each for each in world.home.rglob("*") if each.is_file() and each.suffix in {"", ".pem", ".after"}]
        kept = [each for each in kept if "accounts" not in each.parts]
        assert not [each for each in kept if b"BEGIN PRIVATE KEY" in each.read_bytes()], what
    assert len(killed) > 8, killed
    assert done.returncode == 0, done.stderr
    served = shake_hands(EDGE, world.nginx.https_port, NAME)
    assert served.chain[0].public_bytes(serialization.Encoding.DER) == world.edition("mail", 1)
    assert b"BEGIN ENCRYPTED PRIVATE KEY" in (store / "both.pem").read_bytes()
    mailed = shake_hands("127.0.0.1", post.ports["imap"], NAME, upgrade="imap")
    assert mailed.chain[0].public_bytes(serialization.Encoding.DER) == world.edition("mail", 1)
