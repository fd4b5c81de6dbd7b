"""`inkstamp export` as typed: the forms themselves are tested where they are made, in tests/pki/test_packing.py."""

import os
import re
import stat
import subprocess
from datetime import UTC, datetime, timedelta
from pathlib import Path

import forked
import pytest
from authority_of_tests import Signer
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.serialization import Encoding
from world import Ran, inkstamp_program

from inkstamp.clock import SystemClock
from inkstamp.files import private_folder
from inkstamp.home import Home
from inkstamp.ledger.records import EditionRecord, OrderState
from inkstamp.ledger.shelf import EditionFiles, Shelf
from inkstamp.ledger.sqlite import SqliteDatabase
from inkstamp.ledger.store import Ledger
from inkstamp.pki import keys
from inkstamp.pki.certificates import facts, to_pem

CONFIG = """
home = "home"
[authority.fogbell]
kind = "portal"
[certificate.rowing]
names = ["rowing.test"]
authority = "fogbell"
"""


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """A home with two editions of one certificate."""
    (tmp_path / "inkstamp.toml").write_text(CONFIG)
    (tmp_path / "out").mkdir()
    home = private_folder(tmp_path / "home")
    ledger, shelf = Ledger(SqliteDatabase(home / "ledger.db"), SystemClock()), Shelf(Home(home))
    issuer = Signer("Middle", Signer("Root"))
    for number in (1, 2):
        leaf = Signer("rowing.test", issuer, ca=False, names=("rowing.test",), start=datetime.now(UTC), days=90)
        order = ledger.move_order(ledger.intend_order("rowing", "fogbell", ["rowing.test"]), OrderState.WAITING)
        known = facts(leaf.certificate)
        shelf.put(
            "rowing",
            number,
            EditionFiles(keys.to_pem(leaf.key), to_pem(leaf.certificate), [to_pem(issuer.certificate)]),
        )
        edition = EditionRecord(
            certificate="rowing", number=number, names=known.names, issuer=known.issuer, root="Root",
            authority="fogbell", serial=known.serial, sha256=known.sha256,
            not_before=known.not_before, not_after=known.not_after,
        )  # fmt: skip
        ledger.add_edition(order, edition, "issued")
    ledger.close()
    (tmp_path / "secret").write_text("tide table\n")
    (tmp_path / "secret").chmod(0o600)
    return tmp_path


def export(folder: Path, *arguments: str) -> Ran:
    return run(folder, "export", "rowing", "--into", "out", *arguments)


def run(folder: Path, *arguments: str) -> Ran:
    command = [inkstamp_program(), "--config", str(folder / "inkstamp.toml"), *arguments]
    done = forked.run(command, os.environ, cwd=folder, umask=0)
    return Ran(done.returncode, done.stdout, done.stderr)


SEALED = ("--passphrase-file", "secret")


@pytest.mark.parametrize(
    ("arguments", "modes"),
    [
        (("--form", "pkcs12", *SEALED, "--friendly-name", "Rowing"), {"rowing-2.p12": 0o600}),
        (("--form", "pkcs12", *SEALED, "--legacy", "--edition", "1"), {"rowing-1.p12": 0o600}),
        (("--form", "pkcs12", "--no-passphrase", "--without-key"), {"rowing-2.p12": 0o644}),
        (("--form", "pkcs7"), {"rowing-2.p7b": 0o644}),
        (("--form", "served", "--as", "web"), {"web.served.pem": 0o644}),
        (("--form", "combined", "--key-first"), {"rowing-2.combined.pem": 0o600}),
        (("--form", "combined", "--without-key"), {"rowing-2.combined.pem": 0o644}),
        (
            ("--form", "separate", *SEALED),
            {"rowing-2.leaf.pem": 0o644, "rowing-2.issuers.pem": 0o644, "rowing-2.key.pem": 0o600},
        ),
        (("--form", "zip", *SEALED), {"rowing-2.zip": 0o600}),
    ],
    ids=lambda each: " ".join(each) if isinstance(each, tuple) else "",
)
def test_each_form_is_written_with_the_key_closed_to_others_and_never_over_a_file(
    arguments: tuple[str, ...], modes: dict[str, int], folder: Path
) -> None:
    done = export(folder, *arguments)
    assert done.status == 0, done.err
    assert {file.name: stat.S_IMODE(file.stat().st_mode) for file in (folder / "out").iterdir()} == modes
    assert "tide" not in done.out + done.err
    assert all(name in done.out for name in modes)
    assert ("NOT encrypted" in done.out) is (0o600 in modes.values() and SEALED[0] not in arguments)
    before = {file.name: file.read_bytes() for file in (folder / "out").iterdir()}
    again = export(folder, *arguments)
    assert again.status == 2
    assert "--replace" in again.err
    assert {file.name: file.read_bytes() for file in (folder / "out").iterdir()} == before
    assert export(folder, *arguments, "--replace").status == 0


@pytest.mark.parametrize(
    ("arguments", "told"),
    [
        (("--form", "pkcs12"), "pkcs12 needs a passphrase"),
        (("--form", "pkcs12", *SEALED, "--no-passphrase"), "leave one of them out"),
        (("--form", "served", *SEALED), "which is left out"),
        (("--form", "separate", "--without-key", *SEALED), "which is left out"),
        (("--form", "served", "--legacy"), "does not apply"),
        (("--form", "zip", "--key-first"), "does not apply"),
        (("--form", "pkcs7", "--friendly-name", "x"), "does not apply"),
        (("--form", "pkcs7", "--edition", "9"), "has no edition 9"),
        (("--form", "pkcs7", "--into", "nowhere"), "is not a folder"),
    ],
)  # fmt: skip
def test_an_option_that_cannot_apply_is_refused_and_nothing_is_written(
    arguments: tuple[str, ...], told: str, folder: Path
) -> None:
    done = export(folder, *arguments)
    assert done.status == 2
    assert told in " ".join(done.err.split())
    assert list((folder / "out").iterdir()) == []


def test_openssl_verifies_what_was_exported_and_the_history_tells_of_it(folder: Path) -> None:
    assert export(folder, "--form", "separate").status == 0
    leaf = x509.load_pem_x509_certificate((folder / "out" / "rowing-2.leaf.pem").read_bytes())
    assert leaf.not_valid_after_utc - datetime.now(UTC) < timedelta(days=91)
    done = subprocess.run(
        ["openssl", "verify", "-partial_chain", "-CAfile", "rowing-2.issuers.pem", "rowing-2.leaf.pem"],
        cwd=folder / "out", capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    told = run(folder, "history", "rowing").out
    assert "edition 2 as separate with its key to out" in " ".join(told.split())


THERE = {
    "windows": "Import-PfxCertificate",
    "windows-console": "certlm.msc",
    "windows-certutil": "certutil -importpfx My rowing-2.p12",
    "java": "-srcstoretype PKCS12",
}


@pytest.mark.parametrize("target", THERE)
def test_the_steps_for_a_server_out_of_reach_name_the_file_the_site_and_how_to_see_that_it_is_done(
    folder: Path, target: str
) -> None:
    done = export(folder, "--form", "pkcs12", "--for", target, *SEALED)
    assert done.status == 0, done.err
    assert THERE[target] in done.out
    assert "rowing-2.p12" in done.out.partition("1. ")[2]
    assert "rowing.test" in done.out.partition("2. ")[2]
    assert done.out.rstrip().endswith("inkstamp check rowing")
    assert "tide" not in done.out  # the passphrase is asked for there
    refused = export(folder, "--form", "pkcs7", "--for", target)
    assert (refused.status, "the key has to get there too" in refused.flat) == (2, True), refused.err
    leaf, middle = (
        x509.load_pem_x509_certificate((folder / "home" / "shelf" / "rowing" / "0002" / f"{name}.pem").read_bytes())
        for name in ("leaf", "issuers")
    )
    thumbprints = [each.fingerprint(hashes.SHA1()).hex().upper() for each in (leaf, middle)]  # noqa: S303
    if target != "java":
        assert all(each in done.out for each in thumbprints)
    assert max(map(len, done.out.splitlines())) <= 100


@pytest.mark.parametrize("target", THERE)
def test_a_file_without_a_passphrase_is_imported_without_one_where_that_can_be(folder: Path, target: str) -> None:
    done = export(folder, "--form", "pkcs12", "--for", target, "--no-passphrase")
    if target == "java":
        assert (done.status, "keytool finds nothing in a PKCS#12 that has no passphrase" in done.flat) == (2, True)
        assert not list((folder / "out").iterdir())
        return
    assert done.status == 0, done.err
    assert "passphrase is asked for" not in done.flat
    assert "Read-Host" not in done.out
    assert "-Password" not in done.out


def typed(out: str) -> list[str]:
    """The keytool commands of the steps, each as it would be pasted."""
    whole = re.sub(r"\\\n\s*", "", out)
    return [line.strip() for line in whole.splitlines() if line.strip().startswith("keytool")]


def paste(folder: Path, command: str, *answers: str, **words: str) -> str:
    """Type a command of the steps with the words of the user's own filled in, and answer what it asks."""
    for word, value in words.items():
        command = command.replace(word, value)
    env = {**os.environ, "LC_ALL": "C.UTF-8", "JAVA_TOOL_OPTIONS": "-Duser.language=en"}
    done = subprocess.run(
        ["/bin/sh", "-c", command], cwd=folder / "out", env=env, check=False, capture_output=True, text=True,
        input="".join(f"{each}\n" for each in answers),
    )  # fmt: skip
    assert done.returncode == 0, f"{command}\n{done.stdout}{done.stderr}"
    return done.stdout


def test_the_steps_for_java_put_key_and_chain_into_a_key_store_when_they_are_typed(folder: Path) -> None:
    done = export(folder, "--form", "pkcs12", "--for", "java", "--friendly-name", "rowing club", *SEALED)
    take, show = typed(done.out)
    paste(folder, take, "changeit", "changeit", "tide table", KEYSTORE="app.p12")
    shown = paste(folder, show, "changeit", KEYSTORE="app.p12")
    assert "Alias name: rowing club" in shown
    assert "Entry type: PrivateKeyEntry" in shown
    assert "Certificate chain length: 2" in shown
    assert "keytool" not in done.flat.partition("server.xml")[2]


def test_the_steps_for_java_complete_a_csr_that_keytool_made(folder: Path) -> None:
    made = "keytool -genkeypair -alias ours -keyalg EC -dname CN=rowing.test -keystore app.p12 -storetype PKCS12"
    paste(folder, made, "changeit", "changeit")
    request = x509.load_pem_x509_csr(
        paste(folder, "keytool -certreq -alias ours -keystore app.p12", "changeit").encode()
    )
    root = Signer("Root")
    issuer = Signer("Middle", root)
    leaf = issued_for(request, issuer)
    shelf = Shelf(Home(folder / "home"))
    pem = request.public_bytes(Encoding.PEM)
    shelf.remove("rowing", 2)
    shelf.put("rowing", 2, EditionFiles(None, to_pem(leaf), [to_pem(issuer.certificate)], pem))
    config = folder / "inkstamp.toml"
    config.write_text(config.read_text() + "key_elsewhere = true\n")
    done = export(folder, "--form", "pkcs7", "--for", "java")
    assert done.status == 0, done.err
    add, show = typed(done.out)
    paste(folder, add, "changeit", "yes", KEYSTORE="app.p12", ALIAS="ours")
    assert "Certificate chain length: 2" in paste(folder, show, "changeit", KEYSTORE="app.p12", ALIAS="ours")
    for target in THERE:
        told = export(folder, "--form", "pkcs7", "--for", target, "--replace")
        assert told.status == 0, told.err
        assert "it holds no key" in told.flat


def issued_for(request: x509.CertificateSigningRequest, issuer: Signer) -> x509.Certificate:
    """A certificate for a CSR of elsewhere."""
    now, key = datetime.now(UTC), request.public_key()
    return (
        x509.CertificateBuilder()
        .subject_name(request.subject)
        .issuer_name(issuer.certificate.subject)
        .public_key(key)
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(hours=1))
        .not_valid_after(now + timedelta(days=90))
        .add_extension(x509.SubjectAlternativeName([x509.DNSName("rowing.test")]), critical=False)
        .add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
        .sign(issuer.key, hashes.SHA256())
    )
