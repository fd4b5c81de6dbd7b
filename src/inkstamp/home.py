"""The data directory (HOME): where everything in it lies."""

import os
import stat
from pathlib import Path
from typing import NamedTuple

from inkstamp.errors import ConfigurationError
from inkstamp.files import private_folder
from inkstamp.ownership import expect_ours
from inkstamp.wording import some_of

_OF_OTHERS = 0o067
"""What others may do with a folder that is not private."""
_OF_DISKS = frozenset({"lost+found"})
"""What a file system of its own, such as a container's volume, comes with."""
_OURS = frozenset({"ledger.db", "locks", "shelf"})
"""What a data directory has: some of it from the first command on that changes something."""


class Home(NamedTuple):
    """A data directory; names of paths alone, but for `made` and the folder of account keys."""

    folder: Path

    def __str__(self) -> str:
        return str(self.folder)

    def made(self) -> Path:
        """Return the folder, made where it is missing; ConfigurationError when others own it or may write there."""
        expect_ours(self.folder, "HOME")
        return private_folder(self.folder)

    def expect_own(self, beside: Path) -> None:
        """Refuse a folder that is of others too, such as / or /srv: being private, HOME would shut them out.

        Args:
            beside: The configuration file, which may lie in the same folder.

        Raises:
            ConfigurationError: Others may look into the folder, and what it holds is not ours.

        """
        try:
            mode = stat.S_IMODE(os.stat(self.folder).st_mode)
            held = set(os.listdir(self.folder)) if mode & _OF_OTHERS else set()
        except OSError:  # it is not there yet, or whoever uses it says what is wrong
            return
        foreign = held - _OF_DISKS - ({beside.name} if beside.parent == self.folder else set())
        if foreign and not held & _OURS:
            raise ConfigurationError(
                f"{self.folder} is no folder of Ink Stamp's own, and a data directory has to be private",
                where=str(self.folder), said=f"mode {mode:04o}, with {some_of(sorted(foreign))} in it",
                advice="name a new or an empty folder: --home, INKSTAMP_HOME, or `home` in the configuration",
            )  # fmt: skip

    @property
    def ledger(self) -> Path:
        """The ledger's database."""
        return self.folder / "ledger.db"

    @property
    def shelf(self) -> Path:
        """The editions, a folder for each certificate."""
        return self.folder / "shelf"

    @property
    def locks(self) -> Path:
        """What the kernel's locks are held on."""
        return self.folder / "locks"

    @property
    def cache(self) -> Path:
        """What can be made again at any time."""
        return self.folder / "cache"

    @property
    def roster_copy(self) -> Path:
        """What was enrolled, as JSON lines, for a ledger that has to be rebuilt."""
        return self.folder / "roster.jsonl"

    @property
    def last_renewal(self) -> Path:
        """What the last run of `renew` did."""
        return self.folder / "last-renewal.json"

    @property
    def archive(self) -> Path:
        """The editions of certificates that were removed."""
        return self.folder / "archive"

    @property
    def given(self) -> Path:
        """Copies of editions for servers here that do not read the shelf's files, and what tells passphrases."""
        return self.folder / "given"

    def order(self, order_id: int) -> Path:
        """Return the folder of an order that is under way: its key, and at a portal its CSR."""
        return self.folder / "orders" / str(order_id)

    def next_csr(self, certificate: str) -> Path:
        """Return where the CSR lies that was brought for a certificate whose key is elsewhere, until it is used."""
        return self.folder / "requests" / f"{certificate}.pem"

    def next_key(self, certificate: str) -> Path:
        """Return where the key lies that was brought for the next order of a certificate, until it is used."""
        return self.folder / "requests" / f"{certificate}.key"

    def undo(self, certificate: str) -> Path:
        """Return the folder of what a certificate's installs changed."""
        return self.folder / "undo" / certificate

    def hardened(self, server: str) -> Path:
        """Return the folder of what changes of a server's TLS settings replaced."""
        return self.folder / "hardened" / server

    def standing(self, server: str) -> Path:
        """Return the folder of what putting a standing answer into a server's configuration replaced."""
        return self.folder / "standing" / server

    def challenge_path(self, certificate: str) -> Path:
        """Return the folder of what opening the challenge path for a certificate changed."""
        return self.folder / "passages" / certificate

    def account_key(self, authority: str) -> Path:
        """Return where the key of an account lies, in a folder that is made."""
        return private_folder(self.folder / "accounts") / f"{authority}.pem"

    def next_account_key(self, authority: str) -> Path:
        """Return where the new key of an account lies while a key rollover is under way."""
        return self.account_key(authority).with_suffix(".next.pem")
