"""Read whatever files a person points at, and gather the certificates in them."""

import os
from collections.abc import Iterator, Sequence
from pathlib import Path

from inkstamp.errors import BundleTrouble, FileTooLarge
from inkstamp.files import file_trouble, read_bytes
from inkstamp.pki.bundles import MOST_BYTES, Haul, Passphrase, open_into

_MOST_FILES = 2000


def gather(paths: Sequence[Path], pasted: bytes | None, passphrase: Passphrase) -> Haul:
    """Gather the certificates of files, folders and what was pasted on standard input.

    Raises:
        BundleTrouble: Something cannot be read or is too much, or there is no certificate in any of it.
        FileTrouble: A file is not there or must not be read.

    """
    haul = Haul()
    if pasted is not None:
        if len(pasted) > MOST_BYTES:
            raise BundleTrouble("what was pasted is too long", where="standard input", advice="paste certificates")
        open_into(haul, pasted, "standard input", passphrase)
    for path in paths:
        if path.is_dir():
            for file in _files_below(path, haul):
                open_into(haul, read_bytes(file, limit=MOST_BYTES), str(file), passphrase)
        else:
            open_into(haul, _read(path), str(path), passphrase)
    if not haul.found:
        raise BundleTrouble(
            "no certificate was found in the input",
            where=", ".join(haul.nothing[:5]) or ", ".join(map(str, paths)),
            said="there is a private key in it" if haul.keys else "",
            advice="give the ZIP, PKCS#7 or certificate files that the portal offers for download",
        )
    return haul


def _read(path: Path) -> bytes:
    try:
        return read_bytes(path, limit=MOST_BYTES)
    except FileTooLarge as error:
        raise BundleTrouble(
            f"{path} is larger than {MOST_BYTES // 1_048_576} MiB, which no CA's download is",
            where=str(path),
            advice="give the certificate files alone",
        ) from error


def _files_below(folder: Path, haul: Haul) -> Iterator[Path]:
    count = 0
    with file_trouble("read", folder):
        for where, folders, names in os.walk(folder):
            folders.sort()
            for name in sorted(names):
                file = Path(where) / name
                count += 1
                if count > _MOST_FILES:
                    raise BundleTrouble(
                        f"more than {_MOST_FILES} files",
                        where=str(folder),
                        advice="give a smaller folder, or the files",
                    )
                if file.is_file() and file.stat().st_size <= MOST_BYTES:
                    yield file
                else:
                    haul.nothing.append(str(file))
