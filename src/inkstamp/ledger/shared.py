"""What a run has of a shared ledger: put together from the configuration, and loaded by those runs alone."""

import functools
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from functools import cached_property
from pathlib import Path

from inkstamp.config.ledger_settings import LedgerSettings
from inkstamp.config.model import Configuration
from inkstamp.config.sharing import is_here, is_worker, machine_name
from inkstamp.errors import ConfigurationError, LedgerTrouble
from inkstamp.files import read_secret
from inkstamp.home import Home
from inkstamp.ledger.fences import Fences
from inkstamp.ledger.interface import Database, Here
from inkstamp.ledger.leases import Holder, LeaseLocks
from inkstamp.ledger.sealed_files import SealedFiles
from inkstamp.ledger.sealing import BothKeys, KeyFile, KeyProgram, SealKeys
from inkstamp.ledger.shared_files import SharedFiles
from inkstamp.locks import Lock, Locks

try:
    from inkstamp.ledger.postgresql import DatabaseAddress, PostgresqlDatabase
except ImportError as missing:
    raise ConfigurationError(
        "a ledger in PostgreSQL needs a package that is not installed", where="[ledger] database",
        said=str(missing), advice="pip install 'inkstamp[fleet]'",
    ) from missing  # fmt: skip


def address_of(settings: LedgerSettings) -> DatabaseAddress:
    """Return where the database is; ConfigurationError where its password cannot be read."""
    password = ""
    if settings.password_file:
        password = read_secret(Path(settings.password_file)).decode("utf-8", "replace").rstrip("\r\n")
        if not password or "\n" in password:
            raise ConfigurationError("the database's password is no single line", where=settings.password_file,
                                     advice="write it there alone")  # fmt: skip
    return DatabaseAddress(settings.database, password)


def seal_keys(settings: LedgerSettings, database: Database) -> SealKeys:
    """Return the keys that private files are sealed with."""
    if not settings.seal_program:
        return KeyFile(Path(settings.seal_key_file))
    from inkstamp.reach.local import LocalHost  # noqa: PLC0415  which takes long to load

    wrapped = KeyProgram(database, LocalHost(), settings.seal_program)
    if not settings.seal_key_file:
        return wrapped
    return BothKeys(wrapped, KeyFile(Path(settings.seal_key_file)), with_file=settings.seal_with == "file")


@dataclass(frozen=True)
class SharedLedger:
    """The parts of one run, each made when it is first asked for."""

    config: Callable[[], Configuration]
    """What the file says for all machines."""
    home: Home
    command: str
    has_servers_here: Callable[[str], bool]
    """Tells whether a certificate's files are needed on this machine when the run is over."""

    @cached_property
    def fences(self) -> Fences:
        """The leases that are held."""
        return Fences(self.config().ledger.lease_seconds)

    @cached_property
    def machine(self) -> str:
        """The name of the machine that we are on."""
        return machine_name(self.config())

    @cached_property
    def here(self) -> Here:
        """The same, as the ledger's books know it."""
        return Here(self.machine, functools.partial(is_here, self.config()), is_worker(self.config()))

    @cached_property
    def address(self) -> DatabaseAddress:
        """Where the database is."""
        return address_of(self.config().ledger)

    @cached_property
    def database(self) -> PostgresqlDatabase:
        """The connection of this run."""
        return PostgresqlDatabase(self.address, self.fences, marks=self.here.orders)

    @cached_property
    def stored(self) -> SealedFiles:
        """The sealed files."""
        return SealedFiles(self.database, self.seal_keys)

    @cached_property
    def seal_keys(self) -> SealKeys:
        """The keys that they are sealed with."""
        return seal_keys(self.config().ledger, self.database)

    @cached_property
    def files(self) -> SharedFiles:
        """HOME, kept in line with them."""
        return SharedFiles(self.home, self.stored, writes=self.here.orders)

    @cached_property
    def locks(self) -> Locks:
        """The locks that all machines heed; one that only installs changes nothing but what is its own."""
        if not self.here.orders:
            return Locks(self.home.locks)
        return LeaseLocks(
            folder=self.home.locks,
            database=lambda: self.database,
            another=lambda: PostgresqlDatabase(self.address),
            fences=self.fences,
            holder=Holder(self.machine, self.command),
            is_here=self.here.has,
            on_taken=self._bring,
        )

    def _bring(self, lock: Lock) -> None:
        """Have here what the work needs whose lease was just taken."""
        kind, _, name = lock.key.partition("-")
        if kind == "certificate":
            self.files.fetch(name)
        elif kind == "account":
            self.files.fetch_account_key(name)

    def close(self) -> None:
        """End the run: what was here for it alone is removed, and the connections are closed."""
        locks = self.__dict__.get("locks")
        if isinstance(locks, LeaseLocks):
            locks.close()
        try:
            if "files" in self.__dict__:
                # Where the database cannot be asked, the next run removes it; it is as private as ever.
                with suppress(LedgerTrouble):
                    self.files.clear(self.has_servers_here, Locks(self.home.locks).certificate)
        finally:
            if "database" in self.__dict__:
                self.database.close()
