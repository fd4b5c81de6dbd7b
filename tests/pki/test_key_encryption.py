"""Encrypted private keys: what openssl reads, and nobody without the passphrase."""

import subprocess
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from inkstamp.errors import ConfigurationError, FileTrouble
from inkstamp.key_files import KeyFiles, Seal, read_passphrases
from inkstamp.pki import keys
from inkstamp.pki.key_encryption import encrypted_pem, seal, unseal
from inkstamp.pki.kinds import KeyKind

KEY = keys.make(KeyKind.ECDSA_P256)


def passphrase_file(folder: Path, text: bytes, mode: int = 0o600) -> Path:
    file = folder / "pass"
    file.write_bytes(text)
    file.chmod(mode)
    return file


@pytest.mark.parametrize("kind", [KeyKind.ECDSA_P256, KeyKind.ECDSA_P384, KeyKind.RSA_2048])
def test_openssl_opens_a_key_with_its_passphrase_alone_and_finds_scrypt_and_aes(tmp_path: Path, kind: KeyKind) -> None:
    key = keys.make(kind)
    file = tmp_path / "key.pem"
    file.write_bytes(encrypted_pem(key, "größer als $1".encode()))
    shown = subprocess.run(["openssl", "asn1parse", "-in", file], capture_output=True, text=True, check=True).stdout
    assert all(each in shown for each in (":PBES2", ":scrypt", ":aes-256-cbc"))
    found = {
        passphrase: subprocess.run(["openssl", "pkey", "-in", file, "-passin", f"pass:{passphrase}"],
                                   capture_output=True, check=False).stdout
        for passphrase in ("größer als $1", "grösser")
    }  # fmt: skip
    assert found == {"größer als $1": keys.to_pem(key), "grösser": b""}


@settings(max_examples=12, deadline=None)
@given(data=st.binary(max_size=300), first=st.binary(min_size=1, max_size=40), other=st.binary(min_size=1, max_size=40))
def test_what_is_sealed_is_opened_by_its_passphrase_alone_and_only_unharmed(
    data: bytes, first: bytes, other: bytes
) -> None:
    sealed = seal(data, first)
    assert unseal(sealed, first) == data
    assert first == other or unseal(sealed, other) is None
    assert unseal(sealed[:-1], first) is None
    assert unseal(b"", first) is None


def test_the_first_line_encrypts_and_every_line_opens(tmp_path: Path) -> None:
    file = passphrase_file(tmp_path, b"new\r\nold\n\n")
    key_file = tmp_path / "key.pem"
    key_file.write_bytes(encrypted_pem(KEY, b"old"))
    key_file.chmod(0o600)
    files = KeyFiles(lambda name: str(file) if name == "club" else "")
    assert keys.to_pem(files.read("club", key_file)) == keys.to_pem(KEY)
    assert keys.opened(files.to_pem("club", KEY), b"new") is not None
    assert files.to_pem("other", KEY) == keys.to_pem(KEY)
    with pytest.raises(ConfigurationError, match="no passphrase is configured for “other”"):
        files.read("other", key_file)
    file.write_bytes(b"neither\n")
    with pytest.raises(ConfigurationError, match=r"no passphrase in .* opens"):
        files.read("club", key_file)
    with pytest.raises(FileTrouble, match=r"no passphrase in .* opens the copy"):
        Seal(file).open(seal(b"x", b"old"), "the copy")


@pytest.mark.parametrize(
    ("text", "mode", "told"),
    [
        (b"", 0o600, "holds no passphrases"),
        (b"\n\r\n", 0o600, "holds no passphrases"),
        (b"a\n" * 9, 0o600, "holds 9 passphrases"),
        (b"a" * 1001, 0o600, "longer than 1000 bytes"),
        (b"a\0b", 0o600, "a zero byte"),
        (b"a\n", 0o644, "its mode is 0644"),
    ],
)
def test_a_passphrase_file_that_is_none_is_refused_with_what_to_do(
    tmp_path: Path, text: bytes, mode: int, told: str
) -> None:
    with pytest.raises(ConfigurationError, match=told) as caught:
        read_passphrases(passphrase_file(tmp_path, text, mode))
    assert caught.value.advice
