"""Private keys in files, and the passphrases that some of them are encrypted with."""

from collections.abc import Callable
from pathlib import Path

from msgspec import Struct

from inkstamp.errors import ConfigurationError, FileTrouble
from inkstamp.files import read_secret
from inkstamp.pki import keys

_MOST_PASSPHRASES = 8
_LONGEST = 1_000
"""What OpenSSL takes, in bytes, with something to spare."""


def read_key(file: Path, passphrase: bytes | None = None, *, group: int | None = None) -> keys.PrivateKey:
    """Read a private key that nobody else may read, but a `group` (its number) where one may.

    Raises:
        ConfigurationError: It is gone, others can read it, it is none of the known kinds, or it stays closed.

    """
    return keys.from_pem(read_secret(file, group=group), str(file), passphrase)


def read_passphrases(file: Path) -> tuple[bytes, ...]:
    """Read a file of passphrases, one a line: the first encrypts, all of them may open what there is.

    Raises:
        ConfigurationError: It cannot be read, others can read it, it has none or too many, or one is too long.

    """
    found = tuple(each for line in read_secret(file).split(b"\n") if (each := line.rstrip(b"\r")))
    if not 0 < len(found) <= _MOST_PASSPHRASES:
        raise ConfigurationError(
            f"{file} holds {len(found) or 'no'} passphrases, of which {_MOST_PASSPHRASES} at most are read",
            where=str(file),
            advice="write one into its first line; below it those that older keys are encrypted with",
        )
    if any(len(each) > _LONGEST or b"\0" in each for each in found):
        raise ConfigurationError(
            f"a passphrase in {file} is longer than {_LONGEST} bytes, or has a zero byte in it",
            where=str(file),
            advice="choose a shorter one, of letters and digits",
        )
    return found


class KeyFiles(Struct, frozen=True):
    """How the keys of certificates are written into files, and read: plain, or encrypted where that is configured."""

    passphrase_file: Callable[[str], str]
    """Tells the `key_passphrase_file` of a certificate, by its name; empty for keys that are not encrypted."""

    def to_pem(self, certificate: str, key: keys.PrivateKey) -> bytes:
        """Write a certificate's key as PEM; ConfigurationError where the passphrase cannot be read."""
        file = self.passphrase_file(certificate)
        if not file:
            return keys.to_pem(key)
        from inkstamp.pki.key_encryption import encrypted_pem  # noqa: PLC0415  few keys are encrypted

        return encrypted_pem(key, read_passphrases(Path(file))[0])

    def read(self, certificate: str, file: Path, *, group: int | None = None) -> keys.PrivateKey:
        """Read a certificate's key, encrypted or not.

        Raises:
            ConfigurationError: As `read_key`, or no passphrase is configured, or none of them opens it.

        """
        data = read_secret(file, group=group)
        if not keys.is_encrypted(data):
            return keys.from_pem(data, str(file))
        known = self.passphrase_file(certificate)
        if not known:
            raise ConfigurationError(
                f"{file} is encrypted, and no passphrase is configured for “{certificate}”",
                where=str(file),
                advice="add the line key_passphrase_file = … that was there when it was made; or get a new key:"
                f" inkstamp stamp {certificate} --reissue",
            )
        for passphrase in read_passphrases(Path(known)):
            key = keys.opened(data, passphrase)
            if key is not None:
                return key
        raise ConfigurationError(
            f"no passphrase in {known} opens {file}",
            where=str(file),
            advice=f"add the one that it was encrypted with as a further line of {known}",
        )


class Seal(Struct, frozen=True):
    """Encrypts what is kept of a certificate's files with the passphrase of its key."""

    file: Path

    def close(self, data: bytes) -> bytes:
        """Encrypt; ConfigurationError where the passphrase cannot be read."""
        from inkstamp.pki.key_encryption import seal  # noqa: PLC0415  as above

        return seal(data, read_passphrases(self.file)[0])

    def open(self, data: bytes, where: str) -> bytes:
        """Decrypt what `close` returned.

        Raises:
            ConfigurationError: The passphrases cannot be read.
            FileTrouble: None of them opens it, or it is damaged.

        """
        from inkstamp.pki.key_encryption import unseal  # noqa: PLC0415  as above

        for passphrase in read_passphrases(self.file):
            found = unseal(data, passphrase)
            if found is not None:
                return found
        raise FileTrouble(
            f"no passphrase in {self.file} opens {where}",
            where=where,
            advice=f"add the one that it was encrypted with as a further line of {self.file}",
        )
