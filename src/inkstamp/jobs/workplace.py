"""What the jobs work with: configuration, ledger, shelf, view, servers and CAs, each made when first used."""

import os
import threading
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from inkstamp.clock import Clock, SystemClock
from inkstamp.config.config_file import ConfigFile
from inkstamp.config.model import Certificate, Configuration
from inkstamp.errors import LedgerTrouble
from inkstamp.files import private_folder
from inkstamp.jobs.progress import Progress, Silent
from inkstamp.locks import Locks
from inkstamp.ownership import expect_ours

if TYPE_CHECKING:
    from inkstamp.jobs.account import AccountSession
    from inkstamp.jobs.revocation import CrlShelf
    from inkstamp.ledger.shelf import Shelf
    from inkstamp.ledger.store import Ledger
    from inkstamp.proof.carriers import RecordCarrier
    from inkstamp.reach.interface import Host
    from inkstamp.servers.interface import Configured, FileCarrier, Reloadable, ServerKind
    from inkstamp.servers.pool import ServerPool
    from inkstamp.view.point import View
    from inkstamp.view.trust import TrustStore


class Workplace:
    """One run's surroundings; safe to share between threads."""

    def __init__(
        self,
        config_file: Path,
        home: Path,
        *,
        clock: Clock | None = None,
        progress: Progress | None = None,
        command: str = "",
        locks: Locks | None = None,
    ) -> None:
        self.config_file = config_file
        self.home = home
        self.locks = locks or Locks(home / "locks")
        """What keeps runs apart that must not meet; a rehearsal holds those of the real thing."""
        self.asks_anyway = False
        """Whether the CA is asked although an address of a name cannot be reached from here."""
        self.clock = clock or SystemClock()
        self.configuration = ConfigFile(config_file, home / "cache", self.locks)
        self.progress = progress or Silent()
        self.command = command
        self._accounts: dict[str, AccountSession] = {}
        self._making = threading.RLock()
        self._process = os.getpid()

    @property
    def config(self) -> Configuration:
        """The configuration: `ConfigFile.current`."""
        return self.configuration.current

    def config_or_empty(self) -> Configuration:
        """Return the configuration, an empty one when there is no file yet."""
        return self.configuration.current_or_empty()

    def certificate(self, name: str) -> Certificate:
        """Return a configured certificate; UsageError when there is none of that name."""
        return self.configuration.certificate(name)

    @property
    def ledger(self) -> "Ledger":
        """The ledger in HOME."""
        with self._making:
            return self._ledger

    def forget_parent(self) -> None:
        """In a forked process, go on without what cannot be shared with the one that it came from: the open ledger."""
        with self._making:
            if os.getpid() != self._process:
                self._process = os.getpid()
                self.__dict__.pop("_ledger", None)

    def has_ledger(self) -> bool:
        """Tell whether there is a ledger already, and not an empty file; one that only looks should not make it."""
        try:
            return (self.home / "ledger.db").stat().st_size > 0
        except OSError:
            return False

    @cached_property
    def _ledger(self) -> "Ledger":
        from inkstamp.ledger.sqlite import REBUILD
        from inkstamp.ledger.store import Ledger

        if not self.has_ledger() and any((self.home / "shelf").glob("*/[0-9]*")):
            # A new, empty one would have everything ordered again.
            raise LedgerTrouble("the ledger is missing, but there are editions on the shelf",
                                where=str(self.home / "ledger.db"), advice=REBUILD)  # fmt: skip
        made = Ledger(self._own_home() / "ledger.db", self.clock)
        made.begin_run(self.command)
        return made

    def _own_home(self) -> Path:
        """Return HOME, made where it is missing; ConfigurationError when others own it or may write there."""
        expect_ours(self.home, "HOME")
        return private_folder(self.home)

    @cached_property
    def shelf(self) -> "Shelf":
        """The shelf in HOME."""
        from inkstamp.ledger.shelf import Shelf

        return Shelf(self._own_home())

    @cached_property
    def view(self) -> "View":
        """How the public sees names."""
        from inkstamp.view.point import View, read_resolver

        view = self.config.view
        return View(
            resolver=read_resolver(view.resolver),
            http_port=view.http_port,
            https_port=view.https_port,
            dns_port=view.dns_port,
            roots=Path(view.roots) if view.roots else None,
        )

    @cached_property
    def crls(self) -> "CrlShelf":
        """CRLs that are needed more than once in a run."""
        from inkstamp.jobs.revocation import CrlShelf

        return CrlShelf(self.view)

    @property
    def is_private(self) -> bool:
        """Whether the view has roots of its own, so that names are certified that no public CA may."""
        return bool(self.config_or_empty().view.roots)

    @property
    def trust(self) -> "TrustStore":
        """The roots that chains are believed by."""
        with self._making:
            return self._trust

    @cached_property
    def _trust(self) -> "TrustStore":
        from inkstamp.view.trust import TrustStore

        return TrustStore(self.view.roots)

    @property
    def servers(self) -> "ServerPool":
        """The servers that are configured, or found here."""
        with self._making:
            return self._servers

    @cached_property
    def _servers(self) -> "ServerPool":
        from inkstamp.servers.pool import ServerPool

        return ServerPool(self.configuration, lambda: self.view, self.clock)

    def server(self, name: str) -> "FileCarrier":
        """Return a server that is configured, or found here."""
        return self.servers.get(name)

    def configured(self, name: str) -> "Configured":
        """Return a configured server whose configuration can open the challenge path."""
        return self.servers.configured(name)

    def reloadable(self, name: str) -> "Reloadable":
        """Return a configured server that can be told to take what was changed."""
        return self.servers.reloadable(name)

    def installable(self, name: str) -> "ServerKind":
        """Return a configured server that certificates are installed on."""
        return self.servers.installable(name)

    def carrier(self, name: str) -> "RecordCarrier | None":
        """Return what puts records into DNS, None when a person does."""
        from inkstamp.proof.carriers import ProgramCarrier, UpdateCarrier
        from inkstamp.reach.local import LocalHost

        if name in self.config.nameserver:
            return UpdateCarrier(name, self.config.nameserver[name], self.view.dns_port)
        if name in self.config.program:
            return ProgramCarrier(name, self.config.program[name], LocalHost())
        return None

    def host(self, server: str) -> "Host":
        """Return the host of a server; ConfigurationError when there is none of that name any longer."""
        return self.server(server).host

    def account(self, authority: str) -> "AccountSession":
        """Return our account at a configured authority; it is opened if the terms are agreed to."""
        from inkstamp.jobs.account import open_account

        with self._making:
            if authority not in self._accounts:
                self._accounts[authority] = open_account(self, authority, self.config.authority[authority])
            return self._accounts[authority]

    def account_again(self, authority: str) -> "AccountSession":
        """Return our account at an authority as it is now, after it was changed."""
        with self._making:
            self._accounts.pop(authority).close()
        return self.account(authority)

    def close(self, exit_status: int) -> None:
        """End the run: note its outcome and close what is open."""
        for account in self._accounts.values():
            account.close()
        if "_servers" in self.__dict__:
            self._servers.close()
        if "_ledger" in self.__dict__:
            self._ledger.end_run(exit_status)
            self._ledger.close()
