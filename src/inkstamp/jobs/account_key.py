"""Another key for an account (RFC 8555 section 7.3.5); a run killed in between leaves no doubt which one counts.

    1. the new key is written beside the old one, NAME.next.pem
    2. the CA is asked to change
    3. the new key takes the old one's place

Whoever finds NAME.next.pem asks the CA whose account it is: step 2 was done, or it was not.
"""

from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING

from inkstamp.acme.client import CaClient
from inkstamp.acme.session import Session, Signer
from inkstamp.errors import CaMisbehaved, CaProblem, UsageError
from inkstamp.files import partial_of, read_secret, write_bytes
from inkstamp.jobs.account import Account, key_file
from inkstamp.pki import keys
from inkstamp.pki.kinds import KeyKind

if TYPE_CHECKING:
    from inkstamp.jobs.workplace import Workplace


def _next_file(home: Path, authority: str) -> Path:
    return key_file(home, authority).with_suffix(".next.pem")


def settle_key(workplace: "Workplace", authority: str, session: Session, url: str) -> None:
    """Find out which key counts where a change was interrupted; the one that does not is removed.

    Raises:
        CaMisbehaved: The new key has an account, and another one than ours.
        CaProblem, NetworkTrouble: The CA cannot be asked.

    """
    file = _next_file(workplace.home, authority)
    partial = partial_of(file)
    if not file.exists() and not partial.exists():
        return
    with workplace.hold_account(authority):
        partial.unlink(missing_ok=True)
        if not file.exists():  # it was not yet written whole, or another run has settled it in this moment
            return
        found = CaClient(session, Signer(keys.from_pem(read_secret(file), str(file)))).find_account()
        if found == url:
            file.replace(key_file(workplace.home, authority))
            workplace.ledger.note("account", f"account at {authority}: the new key is in use")
        elif found:
            raise CaMisbehaved(f"the key in {file} has another account, {found}", where=str(file),
                               advice="move that file away; the account's key is the other file")  # fmt: skip
        else:
            file.unlink()
            workplace.ledger.note("account", f"account at {authority}: the key rollover was not made")


def new_key(workplace: "Workplace", authority: str, kind: KeyKind | None) -> Account:
    """Give the account at an authority a new key; returns the account as it is then.

    Proofs that stand are made with the key, so no order may be under way meanwhile.

    Args:
        workplace: The run's surroundings.
        authority: Whose account.
        kind: Of the new key; None for what is configured.

    Raises:
        Busy: Another run is at work on a certificate of that authority.
        UsageError: The CA does not change keys.
        CaProblem, NetworkTrouble: The CA refused, or the connection broke; the next run finds out which key counts.

    """
    config = workplace.config
    with ExitStack() as held:
        for name, entry in config.certificate.items():
            if authority in (entry.authority, *entry.otherwise):
                held.enter_context(workplace.hold_certificate(name))
        account = workplace.account(authority)
        if not account.client.directory().key_change:
            raise UsageError(f"“{authority}” does not offer key rollover", where=account.entry.directory,
                             advice="deactivate the account and open another one")  # fmt: skip
        held.enter_context(workplace.hold_account(authority))
        file = _next_file(workplace.home, authority)
        made = keys.make(kind or account.entry.account_key)
        write_bytes(file, keys.to_pem(made), mode=0o600)
        try:
            account.client.change_key(made)
        except CaProblem as problem:
            if problem.status < 500:  # it was refused; with trouble of the CA's own nobody knows
                file.unlink()
            raise
        file.replace(key_file(workplace.home, authority))
        workplace.ledger.note("account", f"account at {authority}: new key, {keys.describe(made.public_key())}")
        return workplace.account_again(authority)
