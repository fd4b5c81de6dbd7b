"""HOME kept in line with the files that all machines share; where the ledger is one machine's own, nothing is done.

The truth is in the store. What an order or a certificate needs is brought here when its lease has been taken, and what
is written here is stored before the outside can hear of it: with the moves of the ledger that say so.
"""

import os
import threading
from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager, suppress
from pathlib import Path

from inkstamp.errors import Busy, FileTrouble
from inkstamp.files import file_trouble, private_folder, read_bytes, remove_tree, sync_folder, write_bytes
from inkstamp.home import Home
from inkstamp.ledger.sealed_files import ACCOUNTS, SealedFiles, StoredFile, digest_of

_READABLE = 0o004


class SharedFiles:
    """A `FileStore` (`file_store.py`) in a shared ledger; safe to share between threads."""

    is_shared = True

    def __init__(self, home: Home, stored: SealedFiles, *, writes: bool = True) -> None:
        """Keep a data directory in line with what is stored; with `writes` False nothing that is stored is changed."""
        self._writes = writes
        self._home = home
        self._stored = stored
        self._with_key: dict[str, set[int]] = {}
        self._worked_on: set[str] = set()
        self._bringing = threading.Lock()

    def keep_order(self, certificate: str, order_id: int) -> None:
        self._keep_folder(certificate, self._home.order(order_id))

    def strike_out_order(self, certificate: str, order_id: int) -> None:
        self._stored.strike_out(certificate, f"{self._path(self._home.order(order_id))}/")

    def keep_edition(self, certificate: str, number: int) -> None:
        folder = self._edition(certificate, number)
        if not folder.is_dir():
            raise FileTrouble(f"edition {number} of “{certificate}” is not on the shelf any longer", where=str(folder),
                              advice="run the command again")  # fmt: skip
        self._keep_folder(certificate, self._edition(certificate, number))
        self._with_key.pop(certificate, None)

    def drop_edition(self, certificate: str, number: int) -> None:
        if self._writes:  # else others have it still
            self._stored.drop(certificate, f"{self._path(self._edition(certificate, number))}/")
        self._with_key.pop(certificate, None)

    def keep_brought(self, certificate: str) -> None:
        self._keep(certificate, [self._home.next_csr(certificate), self._home.next_key(certificate)])

    def keep_account_key(self, authority: str) -> None:
        self._keep(ACCOUNTS, [self._home.account_key(authority), self._home.next_account_key(authority)])

    def _keep_folder(self, certificate: str, folder: Path) -> None:
        names = sorted(os.listdir(folder)) if folder.is_dir() else []
        self._keep(certificate, [folder / each for each in names if not each.startswith(".")])

    def _keep(self, owner: str, files: Sequence[Path]) -> None:
        """Store files as they are here; those that are not here are stored no longer."""
        self._worked_on.add(owner)
        known = {each.path: each for each in self._stored.of(owner)}
        changed = list[tuple[str, int, bytes]]()
        for file in files:
            path = self._path(file)
            if not file.exists():
                if path in known:
                    self._stored.drop(owner, path)
                continue
            with file_trouble("read", file):
                data, mode = read_bytes(file), 0o644 if file.stat().st_mode & _READABLE else 0o600
            if path not in known or known[path].digest != digest_of(data):
                changed.append((path, mode, data))
        self._stored.put(owner, changed)

    def fetch(self, certificate: str) -> None:
        """Have what the next order of a certificate needs here as it is stored; its lease is held."""
        self._worked_on.add(certificate)
        self._with_key.pop(certificate, None)
        self._stored.expect_key()
        rows = self._stored.of(certificate)
        self._bring(certificate, [each for each in rows if not each.path.startswith("shelf/")])
        self._remove_strays(rows, self._home.next_csr(certificate), self._home.next_key(certificate))

    def fetch_account_key(self, authority: str) -> None:
        """Have the keys of an account here as they are stored; its lease is held."""
        files = (self._home.account_key(authority), self._home.next_account_key(authority))
        paths = {self._path(each) for each in files}
        rows = [each for each in self._stored.of(ACCOUNTS) if each.path in paths]
        self._bring(ACCOUNTS, rows)
        self._remove_strays(rows, *files)

    def _remove_strays(self, rows: Sequence[StoredFile], *files: Path) -> None:
        """Remove what is here and is not stored: no other side has heard of it, or it is used up."""
        stored = {each.path for each in rows}
        for file in files:
            if self._path(file) not in stored:
                with file_trouble("remove", file):
                    file.unlink(missing_ok=True)

    def _bring(self, owner: str, rows: Sequence[StoredFile]) -> None:
        for each in rows:
            file = self._home.folder / each.path
            if file.exists() and digest_of(read_bytes(file)) == each.digest:
                continue
            data = self._stored.get(owner, each.path)
            if data is not None:
                private_folder(file.parent)
                write_bytes(file, data, mode=each.mode)

    def bring_order(self, certificate: str, order_id: int) -> None:
        self._bring_folder(certificate, self._home.order(order_id))

    def bring_edition(self, certificate: str, number: int) -> None:
        self._bring_folder(certificate, self._edition(certificate, number))

    def _bring_folder(self, certificate: str, folder: Path) -> None:
        """Have a folder here that is not, whole or not at all."""
        if folder.exists():
            return
        with self._bringing:
            begin = f"{self._path(folder)}/"
            found = [
                (each, data)
                for each in self._stored.of(certificate, begin)
                if (data := self._stored.get(certificate, each.path)) is not None
            ]
            if not found or folder.exists():
                return
            self._worked_on.add(certificate)
            partial = private_folder(folder.parent) / f".{folder.name}.brought-{os.getpid()}"
            _remove_left(folder)
            try:
                private_folder(partial)
                for each, data in found:
                    write_bytes(partial / each.path.removeprefix(begin), data, mode=each.mode)
                if not folder.exists():  # another run may have brought it in between
                    with file_trouble("write", folder):
                        os.rename(partial, folder)
                        sync_folder(folder.parent)
            finally:
                remove_tree(partial)

    def expect_keys(self, certificates: Sequence[str]) -> None:
        found = {each: set[int]() for each in certificates}
        for owner, path in self._stored.with_path(certificates, "key.pem"):
            room, _, rest = path.partition("/")
            if room == "shelf":
                found[owner].add(int(rest.split("/")[-2]))
        self._with_key |= found

    def has_key(self, certificate: str, number: int) -> bool:
        if certificate not in self._with_key:
            self.expect_keys([certificate])
        return number in self._with_key[certificate]

    def numbers(self, certificate: str) -> list[int]:
        if not self._writes:  # what is here is all that it has to do with
            return []
        begin = f"{self._path(self._home.shelf / certificate)}/"
        names = {each.path.removeprefix(begin).partition("/")[0] for each in self._stored.of(certificate, begin)}
        return sorted(int(each) for each in names if each.isdigit())

    def clear(self, is_needed: Callable[[str], bool], alone: Callable[[str], AbstractContextManager[None]]) -> None:
        """Remove what was here for this run alone: it is stored, and nothing on this machine is given it.

        Args:
            is_needed: Tells whether a certificate's editions stay.
            alone: Keeps other runs on this machine from working on a certificate; Busy where one does.

        """
        for certificate in self._worked_on - {ACCOUNTS}:
            with suppress(Busy), alone(certificate):  # who is at work on it removes it afterwards
                self._clear(certificate, keeps=is_needed(certificate))

    def _clear(self, certificate: str, *, keeps: bool) -> None:
        for each in self._stored.of(certificate):
            if each.path.startswith("orders/"):
                remove_tree((self._home.folder / each.path).parent)
        folder = self._home.shelf / certificate
        if folder.is_dir() and not folder.is_symlink() and not keeps:
            remove_tree(folder)

    def _edition(self, certificate: str, number: int) -> Path:
        return self._home.shelf / certificate / f"{number:04d}"

    def _path(self, file: Path) -> str:
        return str(file.relative_to(self._home.folder))


def _remove_left(folder: Path) -> None:
    """Remove what runs that were killed left while they brought a folder."""
    for each in folder.parent.glob(f".{folder.name}.brought-*"):
        if not Path("/proc", each.name.rpartition("-")[2]).exists():
            remove_tree(each)
