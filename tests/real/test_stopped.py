"""What an install must not do to a server: stop it for good, leave a trap behind, or give it what does not fit."""

import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest
from cryptography.hazmat.primitives import serialization
from debian_trees import Tree, debian_tree
from world import World

from inkstamp.view.handshake import shake_hands

NGINX, APACHE = "127.0.0.8", "127.0.0.9"


@pytest.fixture(scope="module")
def nginx(world: World, folder: Path) -> Iterator[Tree]:
    with debian_tree("nginx", folder / "nginx-tree", NGINX, (world.nginx.http_port, world.nginx.https_port)) as tree:
        tree.site("club", ["club.saltmarsh.test"])
        world.nameserver.table["club.saltmarsh.test"] = [NGINX]
        tree.start()
        world.config.write_text(world.config.read_text() + tree.entry("west"))
        yield tree


@pytest.fixture
def apache(world: World, folder: Path) -> Iterator[Tree]:
    """As Debian ships it: without mod_ssl."""
    with debian_tree("apache", folder / "apache-tree", APACHE, (world.nginx.http_port, world.nginx.https_port)) as tree:
        tree.without_tls()
        for each in ("bow", "cox"):
            tree.site(each, [f"{each}.saltmarsh.test"])
            world.nameserver.table[f"{each}.saltmarsh.test"] = [APACHE]
        tree.start()
        world.config.write_text(world.config.read_text() + tree.entry("east"))
        yield tree


def served(tree: Tree, name: str) -> bytes | None:
    found = shake_hands(tree.address, tree.https_port, name)
    return found.chain[0].public_bytes(serialization.Encoding.DER) if found.chain else None


def test_mod_ssl_may_be_loaded_by_the_usual_means_later_and_a_site_be_taken_out(world: World, apache: Tree) -> None:
    before = apache.snapshot()
    for each in ("bow", "cox"):
        assert world.run("stamp", f"{each}.saltmarsh.test", "--as", each, "--via", "east").status == 0
    both = apache.snapshot()
    apache.expect_sound()
    (apache.etc / "sites-enabled" / "bow.conf").rename(apache.folder / "bow.conf")
    apache.expect_sound()
    assert served(apache, "cox.saltmarsh.test") == world.edition("cox", 1)
    (apache.folder / "bow.conf").rename(apache.etc / "sites-enabled" / "bow.conf")
    apache.with_tls()
    apache.expect_sound()
    for each in ("bow", "cox"):
        assert served(apache, f"{each}.saltmarsh.test") == world.edition(each, 1)
    apache.without_tls()
    assert apache.snapshot() == both
    for each in ("bow", "cox"):
        assert world.run("undo", each).status == 0
    assert apache.snapshot() == before


def test_a_server_that_its_reload_ended_is_started_again_and_that_it_was_down_is_said_first(
    world: World, nginx: Tree
) -> None:
    fatal = nginx.folder / "fatal"
    fatal.write_text(f"#!/bin/sh\nkill $(cat {nginx.pid_file})\nsleep 0.3\n")
    fatal.chmod(0o755)
    text = world.config.read_text()
    before = nginx.snapshot()
    world.config.write_text(text.replace("[server.west]\n", f'[server.west]\nreload = ["{fatal}"]\n'))
    done = world.run("stamp", "club.saltmarsh.test", "--via", "west", "--as", "club")
    entry = world.config.read_text().partition("[certificate.club]")[2]
    world.config.write_text(f"{text}\n[certificate.club]{entry}")
    assert done.status == 1
    told = done.err[done.err.index("inkstamp: ") :]
    assert "was stopped by the reload and was started again; it was down for up to" in " ".join(
        told.split("  at ")[0].split()
    )
    assert nginx.snapshot() == before
    nginx.expect_sound()


def test_an_install_that_changes_nothing_leaves_the_way_back_as_it_was(world: World, nginx: Tree) -> None:
    before = nginx.snapshot()
    assert world.run("stamp", "club").status == 0
    for _ in range(6):
        assert world.run("install", "club").status == 0
    assert world.run("undo", "club").status == 0
    assert nginx.snapshot() == before
    assert world.run("install", "club").status == 0


def test_a_key_that_is_not_the_certificates_is_never_installed_and_makes_it_due(world: World, nginx: Tree) -> None:
    newest = world.home / "shelf" / "club" / "0001" / "key.pem"
    good = newest.read_bytes()
    made = ["openssl", "genpkey", "-algorithm", "EC", "-pkeyopt", "ec_paramgen_curve:P-256"]
    wrong = subprocess.run(made, capture_output=True, check=True).stdout
    closed = subprocess.run([*made, "-aes256", "-pass", "pass:x"], capture_output=True, check=True).stdout
    for bad, word in ((wrong, "does not match the certificate"), (closed, "is encrypted")):
        newest.write_bytes(bad)
        subprocess.run(["touch", "-d", "now + 5 minutes", newest], check=True)
        refused = world.run("install", "club")
        assert refused.status == 1
        assert word in refused.flat
        assert "the key of edition 1 was replaced" in world.run("renew", "--preview").out
        assert "does not match its certificate" in world.run("check", "club", "--quick").flat
        assert served(nginx, "club.saltmarsh.test") == world.edition("club", 1)
    newest.write_bytes(good)
    nginx.expect_sound()


def test_a_tree_that_is_broken_by_what_the_install_mends_is_mended_by_it_and_by_undo(world: World, nginx: Tree) -> None:
    link = world.home / "shelf" / "club" / "current"
    shutil.copytree(link.resolve(), world.home / "kept")
    link.unlink()  # as on a machine whose configuration came back before the shelf
    test = subprocess.run(nginx.commands()["test"], capture_output=True, text=True, check=False)
    assert test.returncode != 0
    done = world.run("install", "club")
    assert done.status == 0, done.err
    nginx.expect_sound()
    assert served(nginx, "club.saltmarsh.test") == world.edition("club", 1)
    site = nginx.etc / "sites-enabled" / "club.conf"
    text = site.read_text()
    site.write_text(text.replace("server {", "server {\n    nonsense on;", 1))
    refused = world.run("undo", "club")
    assert refused.status == 1
    assert "broken already" in refused.flat
    assert "nonsense on" in site.read_text()
    site.write_text(text)
