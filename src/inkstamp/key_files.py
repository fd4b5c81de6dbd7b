"""Private keys in files."""

from pathlib import Path

from inkstamp.files import read_secret
from inkstamp.pki import keys


def read_key(file: Path, passphrase: bytes | None = None, *, group: int | None = None) -> keys.PrivateKey:
    """Read a private key that nobody else may read, but a `group` (its number) where one may.

    Raises:
        ConfigurationError: It is gone, others can read it, it is none of the known kinds, or it stays closed.

    """
    return keys.from_pem(read_secret(file, group=group), str(file), passphrase)
