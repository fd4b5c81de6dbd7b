"""What the room needs of a run."""

from typing import TYPE_CHECKING, Protocol

from inkstamp.parts import (
    WithCertificates,
    WithClock,
    WithConfiguration,
    WithHome,
    WithLedger,
    WithLocks,
    WithProgress,
    WithStore,
)

if TYPE_CHECKING:
    from inkstamp.accounts.pool import AccountPool


class AuthoritiesContext(WithConfiguration, WithLedger, Protocol):
    """What tells of authorities without asking them."""


class AccountContext(WithClock, WithConfiguration, WithHome, WithStore, WithLocks, WithProgress, WithLedger, Protocol):
    """What an account is opened with."""


class WithAccounts(Protocol):
    """Has `accounts`."""

    @property
    def accounts(self) -> "AccountPool":
        """Our accounts with ACME CAs."""
        ...


class AccountsContext(WithCertificates, AccountContext, WithAccounts, Protocol):
    """The same, and the accounts that are open."""
