"""The accounts of a run, each opened when it is first used."""

import threading

from inkstamp.accounts.account import AccountSession, open_account
from inkstamp.accounts.account_keys import fetch_account_key
from inkstamp.accounts.context import AccountContext
from inkstamp.config.config_file import ConfigFile
from inkstamp.config.model import Authority
from inkstamp.errors import UsageError


def acme_authority(configuration: ConfigFile, name: str) -> Authority:
    """Return an authority that we have an account with; UsageError where it is not configured, or is a portal."""
    entry = configuration.authority(name)
    if not entry.is_acme:
        raise UsageError(f"“{name}” is a portal: the account there is a person's", where=entry.page)
    return entry


class AccountPool:
    """Our accounts at the configured authorities; safe to share between threads."""

    def __init__(self, context: AccountContext) -> None:
        self._context = context
        self._open: dict[str, AccountSession] = {}
        self._making = threading.RLock()

    def get(self, authority: str) -> AccountSession:
        """Return our account at a configured authority; it is opened if the terms are agreed to.

        Raises:
            UsageError: There is no authority of that name, or it is a portal.
            AccountTrouble: The CA has terms that are not agreed to, or binds accounts to customers, or it was retired.
            CaProblem, NetworkTrouble: The CA refused or cannot be reached.

        """
        with self._making:
            if authority not in self._open:
                fetch_account_key(self._context, self._context.config.account_key_owner(authority))
                self._open_now(authority)
            return self._open[authority]

    def _open_now(self, authority: str) -> AccountSession:
        entry = acme_authority(self._context.configuration, authority)
        self._open[authority] = open_account(self._context, authority, entry)
        return self._open[authority]

    def again(self, authority: str) -> AccountSession:
        """Return our account at an authority as it is now, after it was changed here; who did so has its lock."""
        with self._making:
            self._open.pop(authority).close()
            return self._open_now(authority)

    def close(self) -> None:
        """Close the connections to the CAs."""
        for account in self._open.values():
            account.close()
