"""What a run is put together from: each part is made when it is first used, and works without the others."""

import os
import threading
from datetime import timedelta
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from inkstamp.clock import Clock, SystemClock
from inkstamp.config.config_file import ConfigFile
from inkstamp.config.model import Configuration
from inkstamp.errors import LedgerTrouble
from inkstamp.home import Home
from inkstamp.locks import Locks
from inkstamp.progress import Progress, Silent

if TYPE_CHECKING:
    from inkstamp.accounts.pool import AccountPool
    from inkstamp.certificates import Certificates
    from inkstamp.ledger.file_store import FileStore
    from inkstamp.ledger.local_copy import LocalCopy
    from inkstamp.ledger.order_files import OrderKeys
    from inkstamp.ledger.passing_copy import PassingCopy
    from inkstamp.ledger.shared import SharedLedger
    from inkstamp.ledger.shelf import Shelf
    from inkstamp.ledger.store import Ledger
    from inkstamp.servers.pool import ServerPool
    from inkstamp.view.point import View
    from inkstamp.view.revocation_status import RevocationStatus
    from inkstamp.view.trust import TrustStore


_WRONG_TIME = timedelta(minutes=1)
"""By so much another clock has to differ to be worth a word."""


class Runtime:
    """The parts of one run; safe to share between threads.

    Rooms do not name it: each says in its `context.py` which parts it needs, and the runtime has them all.
    """

    def __init__(
        self,
        config_file: Path,
        home: Path,
        *,
        clock: Clock | None = None,
        progress: Progress | None = None,
        command: str = "",
        locks: Locks | None = None,
        certificates: "Certificates | None" = None,
        only_looks: bool = False,
    ) -> None:
        self.home = Home(home)
        self.home.expect_own(config_file)
        self._given_locks = locks
        """A rehearsal holds those of the real thing, and has a ledger of its own."""
        if certificates is not None:  # a rehearsal is of those of the real thing
            self.certificates = certificates
        self.asks_anyway = False
        """Whether the CA is asked although an address of a name cannot be reached from here."""
        self.clock = clock or SystemClock()
        self.configuration = ConfigFile(config_file, self.home.cache, Locks(self.home.locks))
        self.progress = progress or Silent()
        self.command = command
        self._only_looks = only_looks
        """Whether what it writes down may be lost, where the data directory cannot be written to."""
        self._copy: PassingCopy | None = None
        self._making = threading.RLock()
        self._process = os.getpid()

    @property
    def config(self) -> Configuration:
        """The configuration: `ConfigFile.current`."""
        return self.configuration.current

    @cached_property
    def shared(self) -> "SharedLedger | None":
        """The ledger that several machines share; None where it is a file in HOME."""
        if self._given_locks is not None or not self.configuration.whole.ledger.database:
            return None
        from inkstamp.ledger.shared import SharedLedger

        return SharedLedger(lambda: self.configuration.whole, self.home, self.command, self._has_servers_here)

    def _has_servers_here(self, certificate: str) -> bool:
        """Tell whether servers on this machine use a certificate's files, or its administrator does."""
        entry = self.certificates.get(certificate)
        return entry is not None and (bool(entry.install) or not self.certificates.is_installed_elsewhere(certificate))

    @cached_property
    def locks(self) -> Locks:
        """What keeps runs apart that must not meet."""
        if self._given_locks is not None:
            return self._given_locks
        return self.shared.locks if self.shared is not None else Locks(self.home.locks)

    @cached_property
    def store(self) -> "FileStore":
        """Where the files of orders, editions and accounts are besides HOME."""
        from inkstamp.ledger.file_store import OwnFiles

        return self.shared.files if self.shared is not None else OwnFiles()

    @cached_property
    def certificates(self) -> "Certificates":
        """The certificates of the configuration file and of the roster."""
        from inkstamp.certificates import Certificates

        return Certificates(self.configuration, lambda: self.ledger.roster if self.has_ledger() else None)

    @property
    def ledger(self) -> "Ledger":
        """The ledger: in HOME, or shared."""
        with self._making:
            return self._ledger

    def forget_parent(self) -> None:
        """In a forked process, go on without what cannot be shared with the one that it came from: the open ledger."""
        with self._making:
            if os.getpid() != self._process:
                self._process = os.getpid()
                for part in ("_ledger", "shared", "locks", "store", "shelf", "order_keys"):
                    self.__dict__.pop(part, None)
                self.certificates.forget()  # which asks the ledger

    def has_ledger(self) -> bool:
        """Tell whether there is a ledger already, and not an empty file; one that only looks should not make it."""
        if self.shared is not None:
            return True
        try:
            return self.home.ledger.stat().st_size > 0
        except OSError:
            return False

    @cached_property
    def _ledger(self) -> "Ledger":
        from inkstamp.ledger.rows import REBUILD
        from inkstamp.ledger.sqlite import SqliteDatabase
        from inkstamp.ledger.store import Ledger

        if self.shared is not None:
            self.home.made()
            self._set_clock(self.shared.database.behind)
            made = Ledger(self.shared.database, self.clock, self.shared.files, self.shared.here)
            made.begin_run(self.command)
            return made
        if not self.has_ledger() and any(self.home.shelf.glob("*/[0-9]*")):
            # A new, empty one would have everything ordered again.
            raise LedgerTrouble("the ledger is missing, but there are editions on the shelf",
                                where=str(self.home.ledger), advice=REBUILD)  # fmt: skip
        made = Ledger(SqliteDatabase(self._ledger_file()), self.clock)
        made.begin_run(self.command)
        return made

    def _ledger_file(self) -> Path:
        if self._only_looks and self.has_ledger():
            from inkstamp.ledger.passing_copy import PassingCopy, can_be_written

            if not can_be_written(self.home.ledger):
                self._copy = PassingCopy(self.home.ledger)
                return self._copy.file
        self.home.made()
        return self.home.ledger

    def _set_clock(self, behind: timedelta) -> None:
        """Go by the clock of a shared ledger's database, which is one for all machines."""
        if isinstance(self.clock, SystemClock) and behind:
            self.clock.behind = behind
            if abs(behind) >= _WRONG_TIME:
                ahead = "behind" if behind > timedelta() else "ahead of"
                text = (
                    f"this machine's clock is {abs(behind).total_seconds():.0f} s {ahead} the database's, which counts"
                )
                self.progress.step("clock", text)

    @cached_property
    def shelf(self) -> "Shelf":
        """The shelf in HOME."""
        from inkstamp.ledger.shelf import Shelf

        self.home.made()
        return Shelf(self.home, self.configuration.current_or_empty().key_group, self._passphrase_file, self.store)

    def _passphrase_file(self, certificate: str) -> str:
        entry = self.certificates.get(certificate)
        return entry.key_passphrase_file if entry is not None else ""

    @cached_property
    def order_keys(self) -> "OrderKeys":
        """The keys of orders that are under way."""
        from inkstamp.key_files import KeyFiles
        from inkstamp.ledger.order_files import OrderKeys

        return OrderKeys(self.home, KeyFiles(self._passphrase_file), self.store)

    @cached_property
    def local_copy(self) -> "LocalCopy":
        """Which edition servers on this machine are given."""
        from inkstamp.ledger.local_copy import LocalCopy

        return LocalCopy(self.home)

    @cached_property
    def view(self) -> "View":
        """How the public sees names."""
        from inkstamp.view.point import View, read_resolver

        view = self.configuration.current_or_empty().view
        return View(
            resolver=read_resolver(view.resolver),
            http_port=view.http_port,
            https_port=view.https_port,
            dns_port=view.dns_port,
            roots=Path(view.roots) if view.roots else None,
        )

    @cached_property
    def revocation_status(self) -> "RevocationStatus":
        """Whether certificates are revoked, as their CAs tell."""
        from inkstamp.view.revocation_status import RevocationStatus

        return RevocationStatus(self.view, self.clock)

    @property
    def trust(self) -> "TrustStore":
        """The roots that chains are believed by."""
        with self._making:
            return self._trust

    @cached_property
    def _trust(self) -> "TrustStore":
        from inkstamp.view.trust import TrustStore

        return TrustStore(self.view.roots, self._own_roots)

    def _own_roots(self, authority: str) -> str:
        """Return the file with the roots of an authority that is no public CA; empty for any other."""
        known = self.configuration.current_or_empty().authority.get(authority)
        return known.roots if known is not None else ""

    @property
    def servers(self) -> "ServerPool":
        """The servers that are configured, or found here."""
        with self._making:
            return self._servers

    @cached_property
    def _servers(self) -> "ServerPool":
        from inkstamp.servers.pool import ServerPool

        return ServerPool(self.configuration, lambda: self.view, self.clock)

    @property
    def accounts(self) -> "AccountPool":
        """Our accounts with ACME CAs."""
        with self._making:
            return self._accounts

    @cached_property
    def _accounts(self) -> "AccountPool":
        from inkstamp.accounts.pool import AccountPool

        return AccountPool(self)

    def close(self, exit_status: int) -> None:
        """End the run: note its outcome and close what is open."""
        if "_accounts" in self.__dict__:
            self._accounts.close()
        if "_servers" in self.__dict__:
            self._servers.close()
        if "_ledger" in self.__dict__:
            self._ledger.end_run(exit_status)
        shared: SharedLedger | None = self.__dict__.get("shared")
        if shared is not None:
            shared.close()
        elif "_ledger" in self.__dict__:
            self._ledger.close()
        if self._copy is not None:
            self._copy.remove()
