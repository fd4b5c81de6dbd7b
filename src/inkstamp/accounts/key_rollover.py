"""Another key for an account (RFC 8555 section 7.3.5); a run killed in between leaves no doubt which one counts.

    1. the new key is written beside the old one, NAME.next.pem
    2. the CA is asked to change
    3. the new key takes the old one's place

Whoever finds NAME.next.pem asks the CA whose account it is: step 2 was done, or it was not.
"""

from contextlib import ExitStack
from typing import TYPE_CHECKING

from inkstamp.accounts.account import AccountSession
from inkstamp.errors import CaProblem, UsageError
from inkstamp.files import write_bytes
from inkstamp.pki import keys
from inkstamp.pki.kinds import KeyKind

if TYPE_CHECKING:
    from inkstamp.accounts.context import AccountsContext


def new_key(context: "AccountsContext", authority: str, kind: KeyKind | None) -> AccountSession:
    """Give the account at an authority a new key; returns the account as it is then.

    Proofs that stand are made with the key, so no order may be under way meanwhile.

    Args:
        context: The parts of the run.
        authority: Whose account.
        kind: Of the new key; None for what is configured.

    Raises:
        Busy: Another run is at work on a certificate of that authority.
        UsageError: The CA does not change keys.
        CaProblem, NetworkTrouble: The CA refused, or the connection broke; the next run finds out which key counts.

    """
    with ExitStack() as held:
        for name, entry in context.certificates.items():
            if authority in (entry.authority, *entry.otherwise):
                held.enter_context(context.locks.certificate(name))
        account = context.accounts.get(authority)
        if not account.client.directory().key_change:
            raise UsageError(f"“{authority}” does not offer key rollover", where=account.entry.directory,
                             advice="deactivate the account and open another one")  # fmt: skip
        held.enter_context(context.locks.account(authority))
        file = context.home.next_account_key(authority)
        made = keys.make(kind or account.entry.account_key)
        write_bytes(file, keys.to_pem(made), mode=0o600)
        try:
            account.client.change_key(made)
        except CaProblem as problem:
            if problem.status < 500:  # it was refused; with trouble of the CA's own nobody knows
                file.unlink()
            raise
        file.replace(context.home.account_key(authority))
        context.ledger.note("account", f"account at {authority}: new key, {keys.describe(made.public_key())}")
        return context.accounts.again(authority)
