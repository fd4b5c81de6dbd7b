"""The shelf: one folder an edition, and its files.

HOME/shelf/CERTIFICATE/0003/key.pem leaf.pem issuers.pem served.pem combined.pem

A certificate that was renamed has a link there, to the folder that it had before.

Where another machine has the key: brought.pem, the CSR, in the place of key.pem and combined.pem. From a portal, where
the key is here: request.pem, the CSR, which can be used again.
"""

import os
import shutil
import stat
from collections.abc import Callable, Sequence
from contextlib import nullcontext, suppress
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct

from inkstamp.errors import ConfigurationError, FileTrouble
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
from inkstamp.home import Home
from inkstamp.ledger.file_store import FileStore, OwnFiles
from inkstamp.ledger.records import EditionRecord

if TYPE_CHECKING:
    from cryptography.x509 import Certificate as X509Certificate

    from inkstamp.key_files import KeyFiles, Seal
    from inkstamp.pki.keys import PrivateKey

_MOST_LINKS = 20
_PASSED_BY_GROUP = 0o710
_FIRST_LINE = 40
"""Bytes that the first line of a key in PEM has at most."""
_WRITTEN_WITHIN = 60.0
"""Seconds in which all files of an edition are written."""


class EditionFiles(Struct, frozen=True):
    """The contents of an edition's folder, all PEM."""

    key: bytes | None
    """Plain: the shelf encrypts it where that is configured. None where another machine has it."""
    leaf: bytes
    issuers: Sequence[bytes]
    brought: bytes | None = None
    """The CSR that it was issued for, where that was brought."""
    request: bytes | None = None
    """The CSR that it was issued for at a portal, where its key is here."""


class Shelf:
    """The editions below one HOME."""

    def __init__(
        self,
        home: Home,
        key_group: str = "",
        passphrase_file: Callable[[str], str] = lambda _: "",
        store: FileStore | None = None,
    ) -> None:
        """Make the shelf below HOME.

        Args:
            home: The data directory.
            key_group: The group that may read keys (name or number); empty for none.
            passphrase_file: Tells which file has the passphrases of a certificate's keys; empty for plain keys.
            store: Where the files of editions are besides; None where they are in HOME alone.

        """
        self._store = store or OwnFiles()
        self._passphrase_file = passphrase_file
        self._home = home.folder
        self._folder = home.shelf
        self._path = str(self._folder)
        self._key_group = key_group

    def of(self, certificate: str) -> Path:
        """Return the folder of a certificate."""
        return self._folder / certificate

    def link(self, certificate: str, to: str) -> None:
        """Have a certificate's folder be that of another name, which it had before."""
        point_link(self.of(certificate), to)

    def unlink(self, certificate: str) -> None:
        """Remove the links of a certificate that was renamed, whose folder is gone."""
        while link_target(self.of(certificate)) is not None:
            link = self.of(certificate)
            certificate = link_target(link) or ""
            with file_trouble("remove", link):
                link.unlink()

    def leads_to(self, certificate: str) -> str:
        """Return which name the folder has that a certificate's editions lie in; its own where that is no link."""
        name = certificate
        for _ in range(_MOST_LINKS):
            target = link_target(self.of(name))
            if target is None:
                break
            name = target
        return name

    def renamed(self) -> dict[str, str]:
        """Return the folders whose editions are of a certificate by another name, and whose they are."""
        with os.scandir(self._folder) if self._folder.is_dir() else nullcontext(()) as found:
            links = [each.name for each in found if each.is_symlink()]
        return {self.leads_to(each): each for each in links}

    def edition(self, certificate: str, number: int) -> Path:
        """Return the folder of an edition, which is brought here where other machines have it."""
        self._store.bring_edition(certificate, number)
        return self._edition(certificate, number)

    def _edition(self, certificate: str, number: int) -> Path:
        return self.of(certificate) / f"{number:04d}"

    def chain(self, edition: EditionRecord) -> "tuple[X509Certificate, ...]":
        """Return an edition's certificates, the leaf first; FileTrouble or EditionUnfit when they cannot be read."""
        from inkstamp.pki.certificates import read_pem  # noqa: PLC0415  which loads X.509: most runs read no chain

        file = self.edition(edition.certificate, edition.number) / "served.pem"
        return tuple(read_pem(read_bytes(file), str(file)))

    def key(self, certificate: str, number: int) -> "PrivateKey":
        """Return an edition's key; ConfigurationError when it cannot be read or opened, or others can read it."""
        file = self.edition(certificate, number) / "key.pem"
        return self._keys().read(certificate, file, group=group_number(self._key_group))

    def _keys(self) -> "KeyFiles":
        from inkstamp.key_files import KeyFiles  # noqa: PLC0415  as above

        return KeyFiles(self._passphrase_file)

    def seal(self, certificate: str) -> "Seal | None":
        """Return what encrypts copies of a certificate's files that are kept; None where its keys are plain."""
        if not self.has_passphrase(certificate):
            return None
        from inkstamp.key_files import Seal  # noqa: PLC0415  as above

        return Seal(Path(self._passphrase_file(certificate)))

    def has_passphrase(self, certificate: str) -> bool:
        """Tell whether a passphrase is configured for a certificate's keys."""
        return bool(self._passphrase_file(certificate))

    def is_encrypted(self, certificate: str, number: int) -> bool:
        """Tell whether an edition's key is encrypted; of thousands in a row, so by its first line alone.

        Raises:
            FileTrouble: It cannot be read.

        """
        file = f"{self._path}/{certificate}/{number:04d}/key.pem"
        self._store.bring_edition(certificate, number)
        with file_trouble("read", file), open(file, "rb") as source:
            return b"ENCRYPTED" in source.read(_FIRST_LINE)

    def request(self, edition: EditionRecord) -> bytes | None:
        """Return the CSR that a portal issued an edition for, as PEM; None where it was not kept, or was brought."""
        file = self.edition(edition.certificate, edition.number) / "request.pem"
        return read_bytes(file) if file.exists() else None

    def remove(self, certificate: str, number: int) -> None:
        """Remove an edition's folder; whoever calls has made sure that no server has it."""
        self._store.drop_edition(certificate, number)
        remove_tree(self._edition(certificate, number))

    def numbers(self, certificate: str) -> list[int]:
        """Return the numbers of the editions that are there, the oldest first."""
        folder = self.of(certificate)
        names = os.listdir(folder) if folder.is_dir() else []
        return sorted({*(int(each) for each in names if each.isdigit()), *self._store.numbers(certificate)})

    def has_key(self, certificate: str, number: int) -> bool:
        """Tell whether an edition's key is there; of thousands in a row, so without anything that takes time."""
        if self._store.is_shared:  # where HOME has copies alone
            return self._store.has_key(certificate, number)
        return os.path.exists(f"{self._path}/{certificate}/{number:04d}/key.pem")

    def expect_keys(self, certificates: Sequence[str]) -> None:
        """Find out about the keys of many certificates at once, before `has_key` is asked about each."""
        self._store.expect_keys(certificates)

    def is_touched(self, certificate: str, number: int) -> bool:
        """Tell whether an edition's key was written at another time than its certificate, as by somebody else."""
        folder = f"{self._path}/{certificate}/{number:04d}"
        if self._store.is_shared and not os.path.exists(folder):
            return False  # what is stored is sealed
        try:
            times = [os.stat(f"{folder}/{each}.pem").st_mtime for each in ("key", "leaf")]
        except OSError:
            return True
        return abs(times[0] - times[1]) > _WRITTEN_WITHIN

    def put(self, certificate: str, number: int, files: EditionFiles) -> Path:
        """Write an edition's folder, whole or not at all, and return it.

        Writing the same edition again is harmless: a run that was killed behind the write does so.

        Raises:
            FileTrouble: It could not be written; nothing of it is left then, and no other edition is touched.

        """
        folder = self._edition(certificate, number)
        if folder.is_dir():
            if read_bytes(folder / "leaf.pem") == files.leaf and self._has_this_key(certificate, number, files.key):
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
            served = b"".join([files.leaf, *files.issuers])
            create_bytes(partial / "leaf.pem", files.leaf)
            create_bytes(partial / "issuers.pem", b"".join(files.issuers))
            create_bytes(partial / "served.pem", served)
            if files.key is not None:
                key = self._as_configured(certificate, files.key)
                create_bytes(partial / "key.pem", key, mode=0o600)
                create_bytes(partial / "combined.pem", served + key, mode=0o600)
            if files.brought is not None:
                create_bytes(partial / "brought.pem", files.brought)
            if files.request is not None:
                create_bytes(partial / "request.pem", files.request)
            self._grant(partial)
            with file_trouble("write", folder):
                sync_folder(partial)
                os.rename(partial, folder)
                sync_folder(folder.parent)
        except BaseException:
            shutil.rmtree(partial, ignore_errors=True)
            raise
        return folder

    def _as_configured(self, certificate: str, key: bytes) -> bytes:
        """Return a plain key as it is written: encrypted where that is configured."""
        if not self._passphrase_file(certificate):
            return key
        from inkstamp.pki.keys import from_pem  # noqa: PLC0415  as above

        return self._keys().to_pem(certificate, from_pem(key, "the key"))

    def _has_this_key(self, certificate: str, number: int, key: bytes | None) -> bool:
        """Tell whether an edition that is there has a key (plain PEM); None for one whose key is elsewhere."""
        file = self._edition(certificate, number) / "key.pem"
        if key is None or not file.exists():
            return key is None and not file.exists()
        if not self.is_encrypted(certificate, number):
            return read_bytes(file) == key
        from inkstamp.pki.keys import to_pem  # noqa: PLC0415  as above

        return to_pem(self.key(certificate, number)) == key

    def expect_group(self) -> None:
        """Raise ConfigurationError where the group that may read keys is not on this machine."""
        group_number(self._key_group)

    def grant(self, certificate: str, number: int) -> None:
        """Give an edition's key the rights that are configured now, before a server is given it.

        Raises:
            ConfigurationError: There is no such group.
            FileTrouble: The rights cannot be given.

        """
        self._grant(self.edition(certificate, number))

    def _grant(self, folder: Path) -> None:
        """Let the group read the files with the key, and pass through the folders to them; or nobody, without one."""
        group = group_number(self._key_group)
        for name in ("key.pem", "combined.pem"):
            file = folder / name
            with file_trouble("give rights to", file), suppress(FileNotFoundError):
                found = file.stat()
                if group is not None and found.st_gid != group:
                    os.chown(file, -1, group)
                mode = 0o640 if group is not None else 0o600
                if stat.S_IMODE(found.st_mode) != mode:
                    os.chmod(file, mode)
        for above in (folder, folder.parent, self._folder, self._home) if group is not None else ():
            with file_trouble("give rights to", above):
                os.chown(above, -1, group or 0)
                os.chmod(above, _PASSED_BY_GROUP)


def group_number(group: str) -> int | None:
    """Return the number of a group, by its name or number; None for none. ConfigurationError where it is not here."""
    if not group:
        return None
    if group.isdigit():
        return int(group)
    import grp  # noqa: PLC0415  few need it

    try:
        return grp.getgrnam(group).gr_gid
    except KeyError as error:
        raise ConfigurationError(
            f"there is no group “{group}” on this machine", where="key_group", advice="make it, or correct `key_group`"
        ) from error
