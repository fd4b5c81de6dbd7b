"""What the jobs work with: configuration, ledger, shelf, view, servers and CAs, each made when first used."""

import math
import os
import threading
from collections.abc import Iterator, Mapping
from contextlib import AbstractContextManager, contextmanager
from copy import copy
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING

from inkstamp.clock import Clock, SystemClock
from inkstamp.config.load import load
from inkstamp.config.model import Certificate, Configuration, Section, Server
from inkstamp.config.toml_file import read_file
from inkstamp.errors import ConfigurationError, InkStampError, LedgerTrouble, UsageError
from inkstamp.files import held, private_folder
from inkstamp.jobs.progress import Progress, Silent
from inkstamp.ownership import expect_ours
from inkstamp.wording import known_names

if TYPE_CHECKING:
    from cryptography.x509 import Certificate as X509Certificate

    from inkstamp.jobs.account import AccountSession
    from inkstamp.jobs.revocation import CrlShelf
    from inkstamp.ledger.shelf import Shelf
    from inkstamp.ledger.store import Ledger
    from inkstamp.proof.carriers import RecordCarrier
    from inkstamp.reach.interface import Host
    from inkstamp.servers.interface import Configured, FileCarrier, Reloadable, ServerKind
    from inkstamp.view.point import View

_CONFIG_PATIENCE = 10.0
_SERVER_PATIENCE = 180.0
"""Seconds to wait for another thread or run that is changing the same server."""


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
        locks: Path | None = None,
    ) -> None:
        self.config_file = config_file
        self.home = home
        self.locks = locks or home / "locks"
        """Where runs that must not meet hold locks; a rehearsal holds those of the real thing."""
        self.trusts_any_root = False
        """Whether a chain is believed whatever it leads to: a staging CA's root is seldom known."""
        self.asks_anyway = False
        """Whether the CA is asked although an address of a name cannot be reached from here."""
        self.leaves_out_mistakes = False
        """Whether servers, authorities and messengers with a mistake in their entries are left out too."""
        self.clock = clock or SystemClock()
        self.progress = progress or Silent()
        self.command = command
        self._tested: dict[str, tuple[float, InkStampError | None]] = {}
        self._testing: dict[str, threading.Lock] = {}
        self._servers: dict[str, FileCarrier] = {}
        self._hosts: dict[tuple[str, str, bool], Host] = {}
        self._accounts: dict[str, AccountSession] = {}
        self._making = threading.RLock()
        self._process = os.getpid()

    @property
    def config(self) -> Configuration:
        """The configuration file, read.

        Certificates whose entries have a mistake are left out. A mistake in another entry is an error, but for an
        unattended run (`leaves_out_mistakes`): whoever is there fixes it before anything is decided without that entry.
        """
        found = self._config
        for mistake in () if self.leaves_out_mistakes else found.mistakes_beside.values():
            raise mistake.error
        return found

    @cached_property
    def _config(self) -> Configuration:
        return load(read_file(self.config_file), self.config_file, self.home / "cache")

    def config_or_empty(self) -> Configuration:
        """Return the configuration, an empty one when there is no file yet."""
        return self.config if self.config_file.exists() else Configuration()

    @cached_property
    def found_servers(self) -> Mapping[str, Server]:
        """Servers in their usual places on this machine that were not configured when this run began, by name.

        None where the public comes by other ports: those in the usual places are not the ones that it reaches then.
        """
        from inkstamp.config.model import ViewSettings
        from inkstamp.servers.usual_places import found_beside

        config, usual = self.config_or_empty(), ViewSettings()
        if (config.view.http_port, config.view.https_port) != (usual.http_port, usual.https_port):
            return {}
        return found_beside(config)

    def use_config(self, config: Configuration) -> None:
        """Go on with a configuration that has just been written."""
        self.__dict__["_config"] = config

    def add_entries(self, *entries: tuple[str, str, Section]) -> None:
        """Add entries (table, name, entry) to the configuration file, and go on with what it then says."""
        from inkstamp.config.write import save, with_entry

        with self.hold_config():
            data = self.config_file.read_bytes() if self.config_file.exists() else b""
            for table, name, entry in entries:
                data, grown = with_entry(data, self.config_file, table, name, entry)
            save(self.config_file, data)
        self.use_config(grown)

    def change_entry(self, table: str, name: str, key: str, value: str) -> None:
        """Set one key of an entry in the configuration file, and go on with what it then says."""
        from inkstamp.config.write import save, with_value

        with self.hold_config():
            data, changed = with_value(self.config_file.read_bytes(), self.config_file, (table, name, key), value)
            save(self.config_file, data)
        self.use_config(changed)

    def certificate(self, name: str) -> Certificate:
        """Return a configured certificate; UsageError when there is none of that name."""
        try:
            return self.config.certificate[name]
        except KeyError:
            mistake = self.config.mistaken.get(name)
            if mistake is not None:
                raise mistake.error from None
            raise UsageError(
                f"there is no certificate “{name}” in the configuration",
                where=str(self.config_file),
                advice=known_names(self.config.certificate, name),
            ) from None

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
    def roots(self) -> "list[X509Certificate]":
        """The roots that the public trusts."""
        with self._making:
            return self._roots

    def use_roots(self, roots: "list[X509Certificate]") -> None:
        """Go on with other roots than the view's."""
        self.__dict__["_roots"] = roots

    def roots_for(self, chain: "list[X509Certificate]") -> "list[X509Certificate]":
        """Return the roots that a chain which a CA sent may lead to."""
        return [*self.roots, chain[-1]] if self.trusts_any_root else self.roots

    @property
    def public_roots(self) -> "list[X509Certificate]":
        """The roots that the public trusts, none where the machine has none: for what is only told."""
        from inkstamp.errors import ConfigurationError

        try:
            return self.roots
        except ConfigurationError:
            return []

    @cached_property
    def _roots(self) -> "list[X509Certificate]":
        from inkstamp.view.point import load_roots

        return load_roots(self.view.roots)

    def server(self, name: str) -> "FileCarrier":
        """Return a server that is configured, or found here."""
        from inkstamp.servers.registry import make_host, make_server

        with self._making:
            if name not in self._servers:
                entry = self.config_or_empty().server.get(name) or self.found_servers.get(name)
                if entry is None and name in self.config.program:
                    from inkstamp.reach.local import LocalHost
                    from inkstamp.servers.handed import ProgramServer

                    self._servers[name] = ProgramServer(name, LocalHost(), self.config.program[name])
                    return self._servers[name]
                if entry is None:
                    raise ConfigurationError(
                        f"there is no server “{name}”",
                        where=str(self.config_file),
                        advice=f"add a table [server.{name}]",
                    )
                machine = (entry.reach, entry.ssh_config, entry.sudo)
                if machine not in self._hosts:  # one connection for all servers of a machine
                    self._hosts[machine] = make_host(entry)
                self._servers[name] = make_server(name, entry, self.view, self._hosts[machine])
            return self._servers[name]

    def configured(self, name: str) -> "Configured":
        """Return a configured server whose configuration can open the challenge path."""
        from inkstamp.servers.registry import as_configured

        return as_configured(self.server(name))

    def reloadable(self, name: str) -> "Reloadable":
        """Return a configured server that can be told to take what was changed."""
        from inkstamp.servers.registry import as_reloadable

        return as_reloadable(self.server(name))

    def installable(self, name: str) -> "ServerKind":
        """Return a configured server that certificates are installed on."""
        from inkstamp.servers.registry import as_installable

        return as_installable(self.server(name))

    def test_server(self, name: str, since: float) -> None:
        """Have a server's configuration tested as it stands, unless this run did so after `since`, monotonic.

        Raises:
            ServerTrouble: It is broken, and nothing must be changed.
            ReachTrouble: Its machine is unreachable.

        """
        from inkstamp.bulkhead import apart
        from inkstamp.jobs.way_back import test_before

        with self._testing.setdefault(name, threading.Lock()):
            tested, trouble = self._tested.get(name, (-math.inf, None))
            if tested < since:
                trouble = None
                try:
                    with apart():
                        test_before(self.installable(name))
                except InkStampError as error:
                    trouble = error
                self._tested[name] = self.clock.monotonic(), trouble
            if trouble is not None:
                raise copy(trouble)  # each that meets it adds to its advice

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

    def hold_account(self, authority: str) -> AbstractContextManager[None]:
        """Keep other runs from changing the key of the same account in the same moment."""
        return held(self.locks / f"account-{authority}", f"the account at “{authority}”", patience=_CONFIG_PATIENCE)

    def hold_certificate(self, name: str) -> AbstractContextManager[None]:
        """Keep other runs from working on the same certificate."""
        return held(self.locks / f"certificate-{name}", f"the certificate “{name}”")

    def hold_trial(self, patience: float = _SERVER_PATIENCE) -> AbstractContextManager[None]:
        """Keep other runs from trying out proofs in the same moment; `patience` in seconds."""
        return held(self.locks / "trial", "a test of challenge responses", patience=patience)

    def hold_proofs(self, server: str) -> AbstractContextManager[None]:
        """Keep other threads and runs from taking proofs down from the same server in the same moment."""
        return held(
            self.locks / f"proofs-{server}", f"the challenge responses on “{server}”", patience=_SERVER_PATIENCE
        )

    def hold_port(self, port: int) -> AbstractContextManager[None]:
        """Keep other runs from answering on the same port in the same moment."""
        return held(self.locks / f"port-{port}", f"port {port}", patience=_SERVER_PATIENCE)

    def hold_config(self) -> AbstractContextManager[None]:
        """Keep other runs from adding to the configuration in the same moment."""
        return held(self.locks / "configuration", str(self.config_file), patience=_CONFIG_PATIENCE)

    @contextmanager
    def hold_servers(self, names: tuple[str, ...]) -> Iterator[None]:
        """Keep other threads and runs from changing the same servers; always taken in the same order."""
        if not names:
            yield
            return
        first, *rest = sorted(set(names))
        lock = self.locks / f"server-{first}"
        with held(lock, f"the server “{first}”", patience=_SERVER_PATIENCE), self.hold_servers(tuple(rest)):
            yield

    def close(self, exit_status: int) -> None:
        """End the run: note its outcome and close what is open."""
        for account in self._accounts.values():
            account.close()
        for host in self._hosts.values():
            host.close()
        if "_ledger" in self.__dict__:
            self._ledger.end_run(exit_status)
            self._ledger.close()
