"""`stamp --key-file`: a private key that there is already."""

import os
import subprocess
from pathlib import Path

import pytest
from cryptography import x509
from killing import killed_at
from simulated import NAME, SimulatedWorld

from inkstamp.pki import keys
from inkstamp.pki.keys import spki_digest
from inkstamp.pki.kinds import KeyKind


def key_file(world: SimulatedWorld, kind: KeyKind = KeyKind.RSA_2048, words: bytes | None = None) -> tuple[Path, str]:
    """A key as somebody has it already, and the digest of its public half."""
    key, file = keys.make(kind), world.folder / "mine.pem"
    file.unlink(missing_ok=True)
    file.touch(mode=0o600)
    file.write_bytes(keys.to_pem(key, words))
    return file, spki_digest(key.public_key())


def digest_of(world: SimulatedWorld, edition: int) -> str:
    folder = world.home / "shelf" / NAME / f"{edition:04d}"
    leaf = x509.load_pem_x509_certificate((folder / "leaf.pem").read_bytes())
    assert spki_digest(keys.from_pem((folder / "key.pem").read_bytes(), "").public_key()) == spki_digest(
        leaf.public_key()
    )
    return spki_digest(leaf.public_key())


def test_an_existing_key_is_used_for_one_edition_and_the_next_has_a_new_one(world: SimulatedWorld) -> None:
    file, digest = key_file(world)
    done = world.run("stamp", NAME, "--key-file", str(file))
    assert done.status == 0, done.err
    assert digest_of(world, 1) == digest
    assert 'key = "rsa-2048"' in world.config.read_text()
    assert list((world.home / "requests").iterdir()) == []
    assert world.run("stamp", NAME, "--key-file", str(file)).status == 0
    assert world.run("status", "--json").json["certificates"][0]["edition"] == 1
    assert world.run("stamp", NAME, "--reissue").status == 0
    assert digest_of(world, 2) != digest
    other, again = key_file(world)
    assert world.run("stamp", NAME, "--key-file", str(other)).status == 0  # another key is a new edition
    assert digest_of(world, 3) == again
    shown = subprocess.run(
        ["grep", "-rl", file.read_text().splitlines()[1], str(world.home / "ledger.db")], check=False
    )
    assert shown.returncode == 1  # no key in the ledger


def test_a_key_that_is_sealed_open_to_others_of_another_kind_or_too_weak_changes_nothing(world: SimulatedWorld) -> None:
    words = world.folder / "words"
    words.touch(mode=0o600)
    words.write_text("high water\n")
    file, digest = key_file(world, words=b"high water")
    before = world.config.read_text()
    assert "is encrypted" in world.run("stamp", NAME, "--key-file", str(file)).flat
    os.chmod(file, 0o644)
    assert world.run("stamp", NAME, "--key-file", str(file), "--passphrase-file", str(words)).status == 2
    os.chmod(file, 0o600)
    weak = world.folder / "weak.pem"
    subprocess.run(["openssl", "genrsa", "-out", str(weak), "1024"], check=True, capture_output=True)
    weak.chmod(0o600)
    assert world.run("stamp", NAME, "--key-file", str(weak)).status == 2
    assert "opens the key of --key-file" in world.run("stamp", NAME, "--passphrase-file", str(words)).flat
    assert world.config.read_text() == before
    assert world.simulated.state.orders == {}
    assert world.run("stamp", NAME, "--key-file", str(file), "--passphrase-file", str(words)).status == 0
    assert digest_of(world, 1) == digest
    ecdsa, _ = key_file(world, KeyKind.ECDSA_P256)
    refused = world.run("stamp", NAME, "--key-file", str(ecdsa))
    assert refused.status == 2
    assert f"the key is ecdsa-p256, and rsa-2048 is configured for “{NAME}”" in refused.flat
    assert world.run("certificate", "change", NAME, "key=ecdsa-p256").status == 0
    assert world.run("stamp", NAME, "--key-file", str(ecdsa)).status == 0


@pytest.mark.parametrize("place", [3, 6, 9, 14])
def test_the_key_that_was_given_is_used_wherever_the_run_is_killed(world: SimulatedWorld, place: int) -> None:
    file, digest = key_file(world)
    killed_at(place, world.folder / "places", world.config, ["stamp", NAME, "--key-file", str(file)])
    assert world.run("stamp", NAME, "--key-file", str(file)).status == 0
    assert digest_of(world, 1) == digest
    assert list((world.home / "requests").iterdir()) == []
