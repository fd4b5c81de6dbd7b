"""Encryption of a backup in the format age (age-encryption.org/v1), which other programs open too."""

import shutil
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO, TypeAlias

from msgspec import Struct

from inkstamp.errors import ConfigurationError, FileTooLarge, FileTrouble, UsageError
from inkstamp.files import read_bytes, read_secret
from inkstamp.printable import one_line

if TYPE_CHECKING:
    from pyrage import ssh, x25519

    Recipient: TypeAlias = ssh.Recipient | x25519.Recipient
    Identity: TypeAlias = ssh.Identity | x25519.Identity

HEADER = b"age-encryption.org/v1"
"""What an encrypted file begins with."""
_MOST_IN_MEMORY = 2_147_483_648
"""Bytes of what is encrypted to a passphrase, which is done in one piece."""


class Protection(Struct, frozen=True):
    """Who can read a backup: exactly one of the three is given."""

    passphrase: bytes | None = None
    public_keys: tuple[Path, ...] = ()
    """Files with public keys, one in a line: SSH keys (`ssh-ed25519`, `ssh-rsa`) or age recipients (`age1…`)."""
    none: bool = False
    """It is not encrypted: whoever has the file has the keys in it."""


class Opening(Struct, frozen=True):
    """What a backup is decrypted with."""

    passphrase: bytes | None = None
    private_key: Path | None = None
    """A file with an SSH private key without a passphrase, or with age identities."""


def expect_usable(protection: Protection) -> None:
    """Make sure, before anything is read, that a backup can be protected in this way.

    Raises:
        UsageError: None or several ways were chosen.
        ConfigurationError: A file holds no public key.

    """
    ways = (protection.passphrase is not None) + bool(protection.public_keys) + protection.none
    if ways != 1:
        raise UsageError(
            "a backup holds private keys: say in one way who may read it" if ways else "a backup holds private keys",
            advice="encrypt it with --public-key FILE, --passphrase-file FILE or --ask-passphrase; or --not-encrypted",
        )
    _recipients(protection.public_keys)


def encrypt(plain: BinaryIO, into: BinaryIO, protection: Protection) -> None:
    """Write what `plain` holds, from where it stands, into another file, protected.

    Raises:
        FileTooLarge: Too much for a passphrase.

    """
    if protection.none:
        shutil.copyfileobj(plain, into)
        return
    import pyrage  # noqa: PLC0415  needed for backups alone

    if protection.passphrase is None:
        pyrage.encrypt_io(plain, into, _recipients(protection.public_keys))
        return
    data = plain.read(_MOST_IN_MEMORY + 1)
    if len(data) > _MOST_IN_MEMORY:
        raise FileTooLarge("there is too much for a passphrase", advice="use --public-key FILE")
    into.write(pyrage.passphrase.encrypt(data, _text(protection.passphrase)))


def decrypt(source: BinaryIO, into: BinaryIO, opening: Opening, where: str) -> None:
    """Write what an encrypted backup holds into another file.

    Raises:
        UsageError: Nothing was given to open it with.
        FileTrouble: That does not open it, or it is damaged.

    """
    import pyrage  # noqa: PLC0415  needed for backups alone

    if opening.passphrase is None and opening.private_key is None:
        raise UsageError(f"{where} is encrypted", where=where,
                         advice="add --ask-passphrase, --passphrase-file FILE or --private-key FILE")  # fmt: skip
    try:
        if opening.private_key is not None:
            pyrage.decrypt_io(source, into, _identities(opening.private_key))
            return
        data = source.read(_MOST_IN_MEMORY + 1)
        if len(data) > _MOST_IN_MEMORY:
            raise FileTooLarge(f"{where} is too large for a passphrase", where=where, advice="check the path")
        into.write(pyrage.passphrase.decrypt(data, _text(opening.passphrase or b"")))
    except pyrage.DecryptError as error:
        raise FileTrouble(
            f"cannot decrypt {where}", where=where, said=one_line(str(error), 200),
            advice="check that the passphrase or the key is that of this backup, and that the file is whole",
        ) from error  # fmt: skip


def _text(passphrase: bytes) -> str:
    try:
        return passphrase.decode("utf-8")
    except UnicodeDecodeError as error:
        raise UsageError("the passphrase is not UTF-8 text", advice="save its file as UTF-8") from error


def _lines(data: bytes) -> Sequence[str]:
    lines = [each.strip() for each in data.decode("utf-8", "replace").splitlines()]
    return [each for each in lines if each and not each.startswith("#")]


def _recipients(files: Sequence[Path]) -> "Sequence[Recipient]":
    from pyrage import RecipientError, ssh, x25519  # noqa: PLC0415  needed for backups alone

    found: list[Recipient] = []
    for file in files:
        try:
            lines = _lines(read_bytes(file, limit=1_048_576))
            found += [
                x25519.Recipient.from_str(each) if each.startswith("age1") else ssh.Recipient.from_str(each)
                for each in lines
            ]
        except RecipientError as error:
            raise _no_public_key(file, one_line(str(error), 200)) from error
        if not lines:
            raise _no_public_key(file, "")
    return found


def _no_public_key(file: Path, said: str) -> ConfigurationError:
    return ConfigurationError(
        f"{file} does not hold public keys that a backup can be encrypted to", where=str(file), said=said,
        advice="name a file such as ~/.ssh/id_ed25519.pub: ssh-ed25519, ssh-rsa, or age recipients (age1…)",
    )  # fmt: skip


def _identities(file: Path) -> "Sequence[Identity]":
    from pyrage import IdentityError, ssh, x25519  # noqa: PLC0415  needed for backups alone

    data = read_secret(file)
    try:
        if b"PRIVATE KEY-----" in data:
            return [ssh.Identity.from_buffer(data)]
        found = [x25519.Identity.from_str(each) for each in _lines(data)]
    except IdentityError as error:
        raise _no_private_key(file, one_line(str(error), 200)) from error
    if not found:
        raise _no_private_key(file, "")
    return found


def _no_private_key(file: Path, said: str) -> ConfigurationError:
    return ConfigurationError(
        f"{file} does not hold a private key that opens a backup", where=str(file), said=said,
        advice="name an SSH private key without a passphrase, or a file of age identities (AGE-SECRET-KEY-…)",
    )  # fmt: skip
