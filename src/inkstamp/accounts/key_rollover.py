"""Another key for an account (RFC 8555 section 7.3.5); a run killed in between leaves no doubt which one counts.

    1. the new key is written beside the old one, NAME.next.pem
    2. the CA is asked to change
    3. the new key takes the old one's place

Whoever finds NAME.next.pem asks the CA whose account it is: step 2 was done, or it was not.
"""

from collections.abc import Callable
from contextlib import ExitStack
from typing import TYPE_CHECKING

from inkstamp.accounts.account import AccountSession
from inkstamp.accounts.account_keys import sharing
from inkstamp.acme.jws import public_jwk, thumbprint
from inkstamp.errors import CaProblem, InkStampError, UsageError
from inkstamp.files import write_bytes
from inkstamp.pki import keys
from inkstamp.pki.kinds import KeyKind

if TYPE_CHECKING:
    from inkstamp.accounts.context import AccountsContext


def new_key(
    context: "AccountsContext",
    authority: str,
    kind: KeyKind | None,
    prepare: Callable[[str], None] = lambda _thumbprint: None,
) -> AccountSession:
    """Give the account at an authority a new key; returns the account as it is then.

    Proofs that stand are made with the key, so no order may be under way meanwhile. Accounts that share the key get the
    new one too.

    Args:
        context: The parts of the run.
        authority: Whose account.
        kind: Of the new key; None for what is configured.
        prepare: Has servers answer for the key with a thumbprint: the new one, before the CA hears of it, and the old
            one again where the CA refuses.

    Raises:
        Busy: Another run is at work on a certificate of that authority.
        UsageError: The CA does not change keys.
        ServerTrouble: A server cannot answer for the new key; nothing was changed.
        CaProblem, NetworkTrouble: The CA refused, or the connection broke; the next run finds out which key counts.

    """
    with ExitStack() as held:
        first = context.accounts.get(authority)
        alike = [each for each in sharing(context, authority) if each != authority]
        for name, entry in context.certificates.items():
            if {authority, *alike} & {entry.authority, *entry.otherwise}:
                held.enter_context(context.locks.certificate(name))
        accounts = [first, *(context.accounts.get(each) for each in alike)]
        for account in accounts:
            if not account.client.directory().key_change:
                raise UsageError(f"“{account.authority}” does not offer key rollover", where=account.entry.directory,
                                 advice="deactivate the account and open another one")  # fmt: skip
        owner = context.config.account_key_owner(authority)
        held.enter_context(context.locks.account(owner))
        file = context.home.next_account_key(owner)
        made = keys.make(kind or first.entry.account_key)
        write_bytes(file, keys.to_pem(made), mode=0o600)
        context.store.keep_account_key(owner)
        try:
            prepare(thumbprint(public_jwk(made)))
        except InkStampError:
            file.unlink()
            context.store.keep_account_key(owner)
            raise
        changed = 0
        try:
            for account in accounts:
                account.client.change_key(made)
                changed += 1
        except CaProblem as problem:
            if problem.status < 500 and not changed:  # it was refused; with trouble of the CA's own nobody knows
                file.unlink()
                context.store.keep_account_key(owner)
                prepare(first.thumbprint)
            raise
        file.replace(context.home.account_key(owner))
        context.store.keep_account_key(owner)
        told = f"account at {', '.join(each.authority for each in accounts)}: new key"
        context.ledger.note("account", f"{told}, {keys.describe(made.public_key())}")
        for account in accounts[1:]:
            context.accounts.again(account.authority)
        return context.accounts.again(authority)
