"""Which key of an account counts after a key rollover was interrupted."""

from typing import TYPE_CHECKING

from inkstamp.acme.client import CaClient
from inkstamp.acme.jws import public_jwk, thumbprint
from inkstamp.acme.session import Session, Signer
from inkstamp.errors import CaMisbehaved
from inkstamp.files import partial_of
from inkstamp.key_files import read_key

if TYPE_CHECKING:
    from inkstamp.accounts.context import AccountContext
    from inkstamp.parts import WithHome


def known_thumbprint(context: "WithHome", authority: str) -> str:
    """Return the thumbprint of the key of our account at an authority (RFC 7638); empty before there is one."""
    file = context.home.account_key(authority)
    return thumbprint(public_jwk(read_key(file))) if file.exists() else ""


def settle_key(context: "AccountContext", authority: str, session: Session, url: str) -> None:
    """Find out which key counts where a change was interrupted; the one that does not is removed.

    Raises:
        CaMisbehaved: The new key has an account, and another one than ours.
        CaProblem, NetworkTrouble: The CA cannot be asked.

    """
    file = context.home.next_account_key(authority)
    partial = partial_of(file)
    if not file.exists() and not partial.exists():
        return
    with context.locks.account(authority):
        partial.unlink(missing_ok=True)
        if not file.exists():  # it was not yet written whole, or another run has settled it in this moment
            return
        found = CaClient(session, Signer(read_key(file))).find_account()
        if found == url:
            file.replace(context.home.account_key(authority))
            context.ledger.note("account", f"account at {authority}: the new key is in use")
        elif found:
            raise CaMisbehaved(f"the key in {file} has another account, {found}", where=str(file),
                               advice="move that file away; the account's key is the other file")  # fmt: skip
        else:
            file.unlink()
            context.ledger.note("account", f"account at {authority}: the key rollover was not made")
