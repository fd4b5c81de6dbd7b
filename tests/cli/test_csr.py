"""`inkstamp csr` as typed: files nobody else can read, questions on a terminal, secrets kept out of sight."""

import json
import os
import re
import stat
import subprocess
from pathlib import Path

import forked
import pytest
from cryptography.hazmat.primitives import serialization
from terminal import on_terminal
from world import Ran, inkstamp_program

CONFIG = """
[subject]
organisation = "Saltmarsh Hosting"
locality = "Gull"
country = "GB"
"""


def environment(folder: Path) -> dict[str, str]:
    known = {name: value for name, value in os.environ.items() if not name.startswith("INKSTAMP_")}
    return known | {"INKSTAMP_CONFIG": str(folder / "inkstamp.toml")}


def run(folder: Path, *arguments: str, data: bytes = b"") -> Ran:
    command = [inkstamp_program(), "csr", *arguments]
    done = forked.run(command, environment(folder), cwd=folder, data=data, umask=0)
    return Ran(done.returncode, done.stdout, done.stderr)


def openssl(folder: Path, *arguments: str) -> str:
    done = subprocess.run(["openssl", *arguments], cwd=folder, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    return done.stdout + done.stderr


def secret(folder: Path, text: str = "tide table\nnot this") -> str:
    file = folder / "secret"
    file.write_text(text)
    file.chmod(0o600)
    return str(file)


def test_key_and_request_are_written_for_their_owner_alone_and_fit_each_other(tmp_path: Path) -> None:
    (tmp_path / "inkstamp.toml").write_text(CONFIG)
    place = ["--locality", "Kiel", "--country", "DE"]
    done = run(
        tmp_path, "make", "bücher.example.org", "*.bücher.example.org", "192.31.196.9", "--kind", "ecdsa-p384", *place
    )
    assert done.status == 0, done.err
    base = "xn--bcher-kva.example.org"
    key = tmp_path / f"{base}.key.pem"
    assert stat.S_IMODE(key.stat().st_mode) == 0o600
    text = openssl(tmp_path, "req", "-in", f"{base}.csr.pem", "-noout", "-verify", "-text")
    assert "verify OK" in text
    assert "C = DE, L = Kiel, O = Saltmarsh Hosting, CN = xn--bcher-kva.example.org" in text
    assert "DNS:xn--bcher-kva.example.org, DNS:*.xn--bcher-kva.example.org, IP Address:192.31.196.9" in text
    public = openssl(tmp_path, "pkey", "-in", key.name, "-pubout")
    assert openssl(tmp_path, "req", "-in", f"{base}.csr.pem", "-noout", "-pubkey") == public
    assert (tmp_path / f"{base}.csr.pem").read_text() in done.out
    assert "(bücher.example.org)" in done.out
    before = key.read_bytes()
    again = run(tmp_path, "make", "bücher.example.org")
    assert again.status == 2
    assert "is there already" in again.err
    assert key.read_bytes() == before
    reused = run(tmp_path, "make", "bücher.example.org", "--key", key.name, "--as", "second", "--json")
    assert reused.json["made"]["key_is_new"] is False
    assert openssl(tmp_path, "req", "-in", "second.csr.pem", "-noout", "-pubkey") == public


def test_an_encrypted_key_opens_with_its_passphrase_which_is_shown_nowhere(tmp_path: Path) -> None:
    file = secret(tmp_path)
    done = run(tmp_path, "make", "example.org", "www.example.org", "--passphrase-file", file)
    assert done.status == 0, done.err
    assert "Key is valid" in openssl(
        tmp_path, "pkey", "-in", "example.org.key.pem", "-passin", "pass:tide table", "-check", "-noout"
    )
    assert "tide" not in done.out + done.err
    closed = run(tmp_path, "make", "example.net", "--key", "example.org.key.pem")
    assert closed.status == 2
    assert "is encrypted" in closed.err
    assert run(tmp_path, "make", "example.net", "--key", "example.org.key.pem", "--passphrase-file", file).status == 0
    Path(file).chmod(0o644)
    assert "chmod 600" in run(tmp_path, "make", "example.com", "--passphrase-file", file).err
    assert (
        "no passphrase in its first line"
        in run(tmp_path, "make", "example.com", "--passphrase-file", secret(tmp_path, "\nx")).err
    )
    assert "no terminal" in run(tmp_path, "make", "example.com", "--ask-passphrase").err
    assert not (tmp_path / "example.com.key.pem").exists()


@pytest.mark.parametrize(
    ("arguments", "told"),
    [
        ([], "no name was given"),
        (["example.org", "--country", "UK"], "write GB"),
        (["localhost"], "no public CA may issue for it"),
        (["a.*.org"], "wildcard in the wrong place"),
        (["a example.net"], "is not a domain name"),
        (["example.org", "--common-name", "example.net"], "add example.net to the names"),
        (["example.org", "--organisation", "x" * 65], "64 are allowed"),
        (["example.org", "--into", "nowhere"], "is not a folder"),
        (["example.org", "--as", "../a"], "cannot begin a file name"),
        (["example.org", "--key", "weak.pem"], "RSA of 1024 bits is too weak"),
        (["example.org", "--key", "weak.pem", "--kind", "rsa-2048"], "not allowed with"),
        (["example.org", "--key", "none.pem"], "cannot read the secret"),
        (["example.org", "--key", "inkstamp.toml"], "private key that can be read"),
    ],
)
def test_what_a_ca_would_refuse_is_told_and_nothing_is_written(arguments: list[str], told: str, tmp_path: Path) -> None:
    (tmp_path / "inkstamp.toml").write_text(CONFIG)
    (tmp_path / "inkstamp.toml").chmod(0o600)
    openssl(tmp_path, "genrsa", "-out", "weak.pem", "1024")
    (tmp_path / "weak.pem").chmod(0o600)
    before = sorted(tmp_path.iterdir())
    done = run(tmp_path, "make", *arguments)
    assert done.status == 2
    assert told in re.sub(r"\s+", " ", done.err)
    assert sorted(tmp_path.iterdir()) == before


def test_a_run_that_was_cut_short_is_gone_on_with_and_a_strange_key_is_never_taken(tmp_path: Path) -> None:
    assert run(tmp_path, "make", "example.org", "www.example.org").status == 0
    csr, key = tmp_path / "example.org.csr.pem", tmp_path / "example.org.key.pem"
    before = key.read_bytes()
    csr.rename(tmp_path / ".example.org.csr.pem.part")  # as a kill between the last two steps leaves it
    assert run(tmp_path, "make", "example.org", "www.example.org").status == 0
    assert key.read_bytes() == before
    assert csr.exists()
    csr.unlink()
    refused = run(tmp_path, "make", "example.org", "www.example.org")
    assert refused.status == 2
    assert "--key" in refused.err


def der_of(file: Path) -> bytes:
    return subprocess.run(["openssl", "req", "-in", file, "-outform", "DER"], capture_output=True, check=True).stdout


def test_show_says_what_a_person_wants_to_know_and_text_is_just_the_block(tmp_path: Path) -> None:
    names = "subjectAltName=DNS:example.com,DNS:www.example.com,URI:x:y"
    openssl(
        tmp_path,
        "req",
        "-new",
        "-newkey",
        "rsa:2048",
        "-nodes",
        "-keyout",
        "k",
        "-out",
        "r",
        "-subj",
        "/C=UK/O=Tides/CN=example.com",
        "-addext",
        names,
    )
    text = (tmp_path / "r").read_text()
    (tmp_path / "mail.txt").write_text("Hello,\r\n" + text.replace("\n", "\r\n") + "\r\nbye", encoding="utf-16")
    shown = run(tmp_path, "show", "mail.txt")
    assert shown.status == 1
    for part in (
        "country UK, organisation Tides, common name example.com",
        "example.com, www.example.com, UniformResource",
        "rsa-2048",
        "sha256",
        "write GB",
        "is signed with the key that it holds",
    ):
        assert part in shown.out
    der = der_of(tmp_path / "r")
    for name in ("md5", "sha1", "sha256"):
        digest = subprocess.run(["openssl", "dgst", f"-{name}", "-r"], input=der, capture_output=True, check=True)
        assert digest.stdout.decode().split()[0] in shown.out
    assert run(tmp_path, "show", "mail.txt", "--text").out == text
    assert run(tmp_path, "show", "-", data=der).out.startswith("standard input: a certificate signing request")
    data = json.loads(run(tmp_path, "show", "mail.txt", "--json").out)
    assert data["request"]["names"] == ["example.com", "www.example.com"]
    for wrong in ("k", "none"):
        done = run(tmp_path, "show", wrong)
        assert done.status == 1
        assert done.err.startswith("inkstamp: ")


def test_on_a_terminal_it_asks_in_order_with_defaults_and_never_echoes_the_passphrase(tmp_path: Path) -> None:
    (tmp_path / "inkstamp.toml").write_text(CONFIG)
    answers = [
        "example.org www.example.org",
        "",
        "Tides",
        "-",
        "",
        "Kent",
        "",
        "",
        "ecdsa-p384",
        "yes",
        "mud flats",
        "mud flats",
    ]
    status, screen = on_terminal(
        [inkstamp_program(), "csr", "make", "--ask-passphrase"], environment(tmp_path), tmp_path, answers
    )
    assert status == 0, screen
    asked = re.findall(r"(?m)^(?:\x00)?([a-z][a-z ,-]*?)(?: \[(.*?)\])?: ", screen.replace("\r", ""))
    assert [name for name, _ in asked][:8] == [
        "names, separated by blanks",
        "common name",
        "organisation",
        "unit",
        "locality",
        "state",
        "country",
        "e-mail",
    ]
    assert dict(asked)["organisation"] == "Saltmarsh Hosting"
    assert dict(asked)["common name"] == "example.org"
    assert "mud flats" not in screen
    subject = openssl(tmp_path, "req", "-in", "example.org.csr.pem", "-noout", "-subject")
    assert "C = GB, ST = Kent, L = Gull, O = Tides, CN = example.org" in subject
    key = (tmp_path / "example.org.key.pem").read_bytes()
    assert serialization.load_pem_private_key(key, b"mud flats").key_size == 384  # type: ignore[union-attr]


def test_each_answer_is_judged_when_it_is_given_and_the_whole_is_reviewed_before_it_is_written(tmp_path: Path) -> None:
    (tmp_path / "inkstamp.toml").write_text("")
    wrong = ["not_a name", "shop.exmaple", "shop.example.org", "", "Tides", "", "Gull", "Calif.", "UK", "GB", "mail",
             "", "rsa-9", "rsa-2048"]  # fmt: skip
    command = [inkstamp_program(), "csr", "make"]
    status, screen = on_terminal(command, environment(tmp_path), tmp_path, [*wrong, "maybe", "no"])
    text = " ".join(screen.replace("\x00", " ").split())
    for told in (
        "there is no top-level domain “exmaple”",
        "public CAs leave the unit out since 2022; Enter skips it unit: ",
        "“Calif.” is abbreviated; CAs want the full name fix: spell it out in full",
        "“UK” is not a country's two-letter code",
        "“mail” is not an address",
        "key algorithm: “rsa-9” is none fix: known: ",
        "subject common name shop.example.org, organisation Tides, locality Gull, state Calif., country GB",
        "nothing was written",
    ):
        assert told in text, told
    assert text.count("names, separated by blanks: ") == 3
    assert len(re.findall(r"(?m)^[ \x00]*country: ", screen)) == len(re.findall(r"(?m)^[ \x00]*e-mail: ", screen)) == 2
    assert text.count("write key and CSR? yes or no [yes]: ") == 2
    assert status == 1
    assert [each.name for each in tmp_path.iterdir()] == ["inkstamp.toml"]


@pytest.mark.parametrize(
    ("options", "told"),
    [
        (["--organisation", "Tides", "--locality", "Gull", "--country", "US"], "is given without a state"),
        (["--state", "Calif.", "--country", "US"], "write California"),
        (["--state", "Mass.", "--country", "US"], "write Massachusetts"),
        (["--state", "N.Y.", "--country", "US"], "write New York"),
        (["--state", "New", "--country", "US"], ""),
        (["--organisation", "Tides", "--locality", "Gull", "--country", "DE"], ""),
    ],
)
def test_what_cas_ask_back_about_a_subject_is_told_first(tmp_path: Path, options: list[str], told: str) -> None:
    done = run(tmp_path, "make", "example.org", "www.example.org", *options)
    assert done.status == 0
    assert told in " ".join(done.out.split())
    assert bool(told) == ("warn" in done.out)


def test_two_different_passphrases_write_nothing(tmp_path: Path) -> None:
    status, screen = on_terminal(
        [inkstamp_program(), "csr", "make", "example.org", "--ask-passphrase"],
        environment(tmp_path),
        tmp_path,
        ["one", "two"],
    )
    assert status == 2
    assert "differ" in screen
    assert list(tmp_path.iterdir()) == []
