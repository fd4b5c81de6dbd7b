"""The shelf: one folder an edition, its files, and the link to the current one.

HOME/shelf/CERTIFICATE/0003/key.pem leaf.pem issuers.pem served.pem combined.pem
HOME/shelf/CERTIFICATE/current -> 0003
"""

import os
import shutil
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from inkstamp.errors import FileTrouble
from inkstamp.files import (
    create_bytes,
    file_trouble,
    link_target,
    point_link,
    private_folder,
    read_bytes,
    remove_tree,
    sync_folder,
)

if TYPE_CHECKING:
    from cryptography.x509 import Certificate as X509Certificate

CURRENT = "current"
_WRITTEN_WITHIN = 60.0
"""Seconds in which all files of an edition are written."""


@dataclass(frozen=True, slots=True)
class EditionFiles:
    """The contents of an edition's folder, all PEM."""

    key: bytes
    leaf: bytes
    issuers: Sequence[bytes]


class Shelf:
    """The editions below one HOME."""

    def __init__(self, home: Path) -> None:
        self._folder = home / "shelf"
        self._path = str(self._folder)

    def of(self, certificate: str) -> Path:
        """Return the folder of a certificate."""
        return self._folder / certificate

    def edition(self, certificate: str, number: int) -> Path:
        """Return the folder of an edition."""
        return self.of(certificate) / f"{number:04d}"

    def chain(self, certificate: str, number: int) -> "tuple[X509Certificate, ...]":
        """Return an edition's certificates, the leaf first; FileTrouble or EditionUnfit when they cannot be read."""
        from inkstamp.pki.certificates import read_pem  # noqa: PLC0415  which loads X.509: most runs read no chain

        file = self.edition(certificate, number) / "served.pem"
        return tuple(read_pem(read_bytes(file), str(file)))

    def numbers(self, certificate: str) -> list[int]:
        """Return the numbers of the editions that are there, the oldest first."""
        folder = self.of(certificate)
        names = os.listdir(folder) if folder.is_dir() else []
        return sorted(int(each) for each in names if each.isdigit())

    def has_key(self, certificate: str, number: int) -> bool:
        """Tell whether an edition's key is there; of thousands in a row, so without anything that takes time."""
        return os.path.exists(f"{self._path}/{certificate}/{number:04d}/key.pem")

    def is_touched(self, certificate: str, number: int) -> bool:
        """Tell whether an edition's key was written at another time than its certificate, as by somebody else."""
        folder = f"{self._path}/{certificate}/{number:04d}"
        try:
            times = [os.stat(f"{folder}/{each}.pem").st_mtime for each in ("key", "leaf")]
        except OSError:
            return True
        return abs(times[0] - times[1]) > _WRITTEN_WITHIN

    def current(self, certificate: str) -> int | None:
        """Return the number of the current edition, None when there is none yet."""
        target = link_target(self.of(certificate) / CURRENT)
        return int(target) if target is not None and target.isdigit() else None

    def current_folder(self, certificate: str) -> Path:
        """Return the path that servers on this machine take the current edition's files from."""
        return self.of(certificate) / CURRENT

    def switch(self, certificate: str, number: int | None) -> None:
        """Make an edition the current one; None takes the link away."""
        link = self.of(certificate) / CURRENT
        if number is None:
            with file_trouble("remove", link), suppress(FileNotFoundError):
                link.unlink()
        else:
            point_link(link, f"{number:04d}")

    def put(self, certificate: str, number: int, files: EditionFiles) -> Path:
        """Write an edition's folder, whole or not at all, and return it.

        Writing the same edition again is harmless: a run that was killed behind the write does so.

        Raises:
            FileTrouble: It could not be written; nothing of it is left then, and no other edition is touched.

        """
        folder = self.edition(certificate, number)
        if folder.is_dir():
            if read_bytes(folder / "leaf.pem") == files.leaf and read_bytes(folder / "key.pem") == files.key:
                return folder
            raise FileTrouble(
                f"{folder} holds another certificate",
                where=str(folder),
                advice="move that folder away and run the command again",
            )
        partial = private_folder(self.of(certificate)) / f".{folder.name}.part"
        remove_tree(partial)
        try:
            private_folder(partial)
            create_bytes(partial / "key.pem", files.key, mode=0o600)
            create_bytes(partial / "leaf.pem", files.leaf)
            create_bytes(partial / "issuers.pem", b"".join(files.issuers))
            create_bytes(partial / "served.pem", b"".join([files.leaf, *files.issuers]))
            create_bytes(partial / "combined.pem", b"".join([files.leaf, *files.issuers, files.key]), mode=0o600)
            with file_trouble("write", folder):
                sync_folder(partial)
                os.rename(partial, folder)
                sync_folder(folder.parent)
        except BaseException:
            shutil.rmtree(partial, ignore_errors=True)
            raise
        return folder
