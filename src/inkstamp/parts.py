"""The parts of a run, each as a Protocol with the one property that has it.

A room's `context.py` lists those that the room needs; `runtime.Runtime` has them all, and a test can hand over as few.
"""

from typing import TYPE_CHECKING, Protocol

from inkstamp.clock import Clock
from inkstamp.config.config_file import ConfigFile
from inkstamp.config.model import Configuration
from inkstamp.home import Home
from inkstamp.locks import Locks
from inkstamp.progress import Progress

if TYPE_CHECKING:
    from inkstamp.certificates import Certificates
    from inkstamp.ledger.file_store import FileStore
    from inkstamp.ledger.local_copy import LocalCopy
    from inkstamp.ledger.order_files import OrderKeys
    from inkstamp.ledger.shelf import Shelf
    from inkstamp.ledger.store import Ledger
    from inkstamp.servers.pool import ServerPool
    from inkstamp.view.point import View
    from inkstamp.view.trust import TrustStore


class WithClock(Protocol):
    """Has `clock`."""

    @property
    def clock(self) -> Clock:
        """What tells the time and waits."""
        ...


class WithConfiguration(Protocol):
    """Has `configuration`."""

    @property
    def configuration(self) -> ConfigFile:
        """The configuration file."""
        ...

    @property
    def config(self) -> Configuration:
        """What the file says."""
        ...


class WithCertificates(Protocol):
    """Has `certificates`."""

    @property
    def certificates(self) -> "Certificates":
        """The certificates of the configuration file and of the roster."""
        ...


class WithHome(Protocol):
    """Has `home`."""

    @property
    def home(self) -> Home:
        """The data directory."""
        ...


class WithLocks(Protocol):
    """Has `locks`."""

    @property
    def locks(self) -> Locks:
        """What keeps runs apart that must not meet."""
        ...


class WithProgress(Protocol):
    """Has `progress`."""

    @property
    def progress(self) -> Progress:
        """What is told of the steps."""
        ...


class WithLedger(Protocol):
    """Has `ledger`."""

    @property
    def ledger(self) -> "Ledger":
        """The ledger; it is made when it is first used."""
        ...

    def has_ledger(self) -> bool:
        """Tell whether there is a ledger already; one that only looks should not make it."""
        ...


class WithServers(Protocol):
    """Has `servers`."""

    @property
    def servers(self) -> "ServerPool":
        """The servers that are configured, or found on this machine."""
        ...


class WithView(Protocol):
    """Has `view`."""

    @property
    def view(self) -> "View":
        """How the public sees names."""
        ...


class WithShelf(Protocol):
    """Has `shelf`."""

    @property
    def shelf(self) -> "Shelf":
        """The editions."""
        ...


class WithStore(Protocol):
    """Has `store`."""

    @property
    def store(self) -> "FileStore":
        """Where the files of orders, editions and accounts are besides HOME."""
        ...


class WithOrderKeys(Protocol):
    """Has `order_keys`."""

    @property
    def order_keys(self) -> "OrderKeys":
        """The keys of orders that are under way."""
        ...


class WithLocalCopy(Protocol):
    """Has `local_copy`."""

    @property
    def local_copy(self) -> "LocalCopy":
        """Which edition servers on this machine are given."""
        ...


class WithTrust(Protocol):
    """Has `trust`."""

    @property
    def trust(self) -> "TrustStore":
        """The roots that chains are believed by."""
        ...
