"""`key_passphrase_file`: keys on the shelf that are of no use without a passphrase."""

import json
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest
from simulated import NAME, SimulatedWorld

PASSPHRASE = "gulls over the harbour"


def configure(world: SimulatedWorld, line: str = 'key_passphrase_file = "key.pass"') -> None:
    file = world.config.parent / "key.pass"
    file.write_text(f"{PASSPHRASE}\n")
    file.chmod(0o600)
    text = "\n".join(each for each in world.config.read_text().splitlines() if "key_passphrase" not in each)
    header = f'[certificate."{NAME}"]'
    world.config.write_text(text.replace(header, f"{header}\n{line}") + "\n")


def key(world: SimulatedWorld, number: int) -> bytes:
    return (world.home / "shelf" / NAME / f"{number:04d}" / "key.pem").read_bytes()


def opened(world: SimulatedWorld, number: int) -> bool:
    """Whether openssl opens an edition's key with the passphrase, and it is the certificate's."""
    folder = world.home / "shelf" / NAME / f"{number:04d}"
    commands = (
        ["openssl", "pkey", "-in", str(folder / "key.pem"), "-passin", f"pass:{PASSPHRASE}", "-pubout"],
        ["openssl", "x509", "-in", str(folder / "leaf.pem"), "-pubkey", "-noout"],
    )
    mine, certified = (subprocess.run(each, capture_output=True, check=True).stdout for each in commands)
    return mine == certified


def test_a_key_that_lay_open_is_replaced_at_the_next_renewal_and_the_new_one_is_closed(world: SimulatedWorld) -> None:
    assert world.run("stamp", NAME).status == 0
    assert b"BEGIN PRIVATE KEY" in key(world, 1)
    configure(world)
    due = world.run("why", NAME)
    assert "the key of edition 1 is not encrypted, and `key_passphrase_file` is configured" in due.flat
    renewed = world.run("renew")
    assert renewed.status == 0, renewed.err
    assert opened(world, 2)
    assert b"BEGIN PRIVATE" not in (world.home / "shelf" / NAME / "current" / "combined.pem").read_bytes()
    assert PASSPHRASE not in renewed.out + renewed.err
    assert world.run("status").flat.count(f"{NAME} ok") == 1
    assert world.run("undo", NAME).status == 0, "back to the open one, which its configuration fits"
    assert world.run("install", NAME).status == 0
    into = world.folder / "out"
    into.mkdir()
    out = world.run("export", NAME, "--form", "separate", "--into", str(into))
    assert out.status == 0, out.err
    assert any(b"BEGIN PRIVATE KEY" in each.read_bytes() for each in into.iterdir()), "an export is asked for"


def test_a_key_that_is_brought_is_closed_too_and_is_the_one_of_the_edition(world: SimulatedWorld) -> None:
    assert world.run("stamp", NAME).status == 0
    configure(world)
    own = world.folder / "own.key"
    subprocess.run(["openssl", "genpkey", "-algorithm", "EC", "-pkeyopt", "ec_paramgen_curve:P-256", "-out", own],
                   check=True, capture_output=True)  # fmt: skip
    own.chmod(0o600)
    done = world.run("stamp", NAME, "--key-file", str(own), "--reissue")
    assert done.status == 0, done.err
    assert opened(world, 2)
    plain = subprocess.run(["openssl", "pkey", "-in", own, "-pubout"], capture_output=True, check=True).stdout
    leaf = world.home / "shelf" / NAME / "0002" / "leaf.pem"
    public = ["openssl", "x509", "-in", str(leaf), "-pubkey", "-noout"]
    assert subprocess.run(public, capture_output=True, check=True).stdout == plain
    kept = [each for each in world.home.rglob("*") if each.is_file() and "accounts" not in each.parts]
    assert {each.parent.name for each in kept if b"BEGIN PRIVATE KEY" in each.read_bytes()} == {"0001"}


@pytest.mark.parametrize(
    ("break_it", "status", "told"),
    [
        (lambda file: file.unlink(), 2, "cannot read the secret in"),
        (lambda file: file.write_text("another\n"), 2, "no passphrase in"),
        (lambda file: file.chmod(0o644), 2, "its mode is 0644"),
    ],
)
def test_a_passphrase_that_is_gone_or_another_is_told_before_anything_is_changed(
    world: SimulatedWorld, break_it: Callable[[Path], object], status: int, told: str
) -> None:
    assert world.run("stamp", NAME).status == 0
    configure(world)
    assert world.run("stamp", NAME, "--reissue").status == 0
    before = (world.nginx.folder / "sites").joinpath("rowing.conf").read_bytes()
    break_it(world.config.parent / "key.pass")
    refused = world.run("install", NAME)
    assert refused.status == status, refused.flat
    assert told in refused.flat
    assert (world.nginx.folder / "sites").joinpath("rowing.conf").read_bytes() == before
    assert world.run("status").status in {0, 1}, "it needs no key"


def test_a_line_that_is_taken_away_again_is_told_with_both_ways_out(world: SimulatedWorld) -> None:
    assert world.run("stamp", NAME).status == 0
    configure(world)
    assert world.run("stamp", NAME, "--reissue").status == 0
    configure(world, "")
    refused = world.run("install", NAME)
    assert "is encrypted, and no passphrase is configured" in refused.flat
    assert f"inkstamp stamp {NAME} --reissue" in refused.flat
    done = world.run("stamp", NAME, "--reissue")
    assert done.status == 0, done.err
    assert "ssl_password_file" not in (world.nginx.folder / "sites" / "rowing.conf").read_text()
    assert b"BEGIN PRIVATE KEY" in key(world, 3)


@pytest.mark.parametrize("kind", ["haproxy", "lighttpd", "postfix", "balancer"])
def test_a_server_that_reads_no_encrypted_keys_is_refused_and_the_advice_works(
    world: SimulatedWorld, kind: str
) -> None:
    assert world.run("stamp", NAME).status == 0
    more = 'address = "https://x.test"\nlistener = "a"\ntoken_file = "t"\n' if kind == "balancer" else ""
    world.config.write_text(world.config.read_text() + f'\n[server.edge]\nkind = "{kind}"\n{more}')
    configure(world, 'key_passphrase_file = "key.pass"\n')
    text = world.config.read_text().replace('install = ["front"]', 'install = ["front", "edge"]')
    world.config.write_text(text)
    refused = world.run("why", NAME)
    assert "“edge” cannot be given an encrypted key" in refused.flat
    assert "let it have the plain key: decrypt = true in [server.edge]" in refused.flat
    world.config.write_text(text.replace("[server.edge]\n", "[server.edge]\ndecrypt = true\n"))
    assert "cannot be given" not in world.run("why", NAME).flat


def test_copies_are_encrypted_and_a_program_is_told_where_the_passphrase_is(
    world: SimulatedWorld, tmp_path: Path
) -> None:
    assert world.run("stamp", NAME).status == 0
    told, store = tmp_path / "told.json", tmp_path / "store"
    store.mkdir()
    program = tmp_path / "vault"
    program.write_text(f"#!/bin/sh\ncat > {told}\necho '{{\"done\": true}}'\n")
    program.chmod(0o755)
    table = f'\n[server.store]\nkind = "files"\nfiles = [{{ path = "{store}/key.pem", form = "key" }}]\n'
    text = world.config.read_text() + table + f'\n[program.vault]\ncommand = ["{program}"]\n'
    world.config.write_text(text.replace('install = ["front"]', 'install = ["front", "store", "vault"]'))
    configure(world)
    done = world.run("stamp", NAME, "--reissue")
    assert opened(world, 2), done.flat
    assert (store / "key.pem").read_bytes() == key(world, 2)
    files = json.loads(told.read_text())["files"]
    assert files["passphrases"] == str(world.config.parent / "key.pass")
