"""Which key of an account counts after a key rollover was interrupted."""

from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

from inkstamp.acme.client import CaClient
from inkstamp.acme.jws import public_jwk, thumbprint
from inkstamp.acme.session import Session, Signer
from inkstamp.errors import CaMisbehaved
from inkstamp.files import partial_of
from inkstamp.key_files import read_key
from inkstamp.parts import WithConfiguration, WithHome, WithLedger
from inkstamp.pki.keys import PrivateKey

if TYPE_CHECKING:
    from collections.abc import Callable

    from inkstamp.accounts.context import AccountContext
    from inkstamp.config.model import Authority


class _KeysContext(WithConfiguration, WithHome, Protocol):
    """What tells of account keys."""


class _SharingContext(WithConfiguration, WithLedger, Protocol):
    """What tells of accounts."""


def known_thumbprint(context: "_KeysContext", authority: str) -> str:
    """Return the thumbprint of the key of our account at an authority (RFC 7638); empty before there is one."""
    file = context.home.account_key(context.config.account_key_owner(authority))
    return thumbprint(public_jwk(read_key(file))) if file.exists() else ""


def sharing(context: "_SharingContext", authority: str) -> list[str]:
    """Return the authorities whose accounts have the same key as that of one, itself too; those that are open."""
    config = context.config
    owner = config.account_key_owner(authority)
    found = []
    for name, entry in config.authority.items():
        known = context.ledger.account(name) if entry.is_acme and config.account_key_owner(name) == owner else None
        if known is not None and known.directory == entry.directory and known.retired is None:
            found.append(name)
    return found


def settle_key(
    context: "AccountContext",
    authority: str,
    session: Session,
    url: str,
    make_session: "Callable[[AccountContext, Authority], Session]",
) -> None:
    """Find out which key counts where a change was interrupted; the one that does not is removed.

    Where accounts share a key and only some had changed it, the others follow.

    Args:
        context: The parts of the run.
        authority: Whose account is being opened.
        session: The conversation with its CA.
        url: The account's.
        make_session: Begins a conversation with another CA.

    Raises:
        CaMisbehaved: The new key has an account, and another one than ours.
        CaProblem, NetworkTrouble: A CA cannot be asked.

    """
    owner = context.config.account_key_owner(authority)
    file = context.home.next_account_key(owner)
    partial = partial_of(file)
    if not file.exists() and not partial.exists():
        return
    with context.locks.account(owner):
        partial.unlink(missing_ok=True)
        if not file.exists():  # it was not yet written whole, or another run has settled it in this moment
            return
        with ExitStack() as others:
            sessions = {authority: (session, url)}
            for each in sharing(context, authority):
                if each != authority:
                    made = make_session(context, context.config.authority[each])
                    others.callback(made.close)
                    known = context.ledger.account(each)
                    sessions[each] = made, known.url if known is not None else ""
            changed = {each: _has_new_key(file, *pair) for each, pair in sessions.items()}
            if not any(changed.values()):
                file.unlink()
                context.ledger.note("account", f"account at {authority}: the key rollover was not made")
                return
            old = read_key(context.home.account_key(owner))
            for each, (talk, account) in sessions.items():
                if not changed[each]:
                    CaClient(talk, Signer(old, account)).change_key(read_key(file))
        file.replace(context.home.account_key(owner))
        context.ledger.note("account", f"account at {authority}: the new key is in use")


def take_shared_key(context: "AccountContext", authority: str, session: Session, url: str, shared: PrivateKey) -> None:
    """Have an account that was opened with a key of its own use that of another account (RFC 8555 section 7.3.5).

    Its own key is removed when the CA has done it; a run that is killed before finds out by asking.

    Raises:
        CaProblem, NetworkTrouble: The CA refused, perhaps since that key has an account there already.

    """
    own = context.home.account_key(authority)
    if not own.exists():
        return
    with context.locks.account(authority):
        if not own.exists():
            return
        if CaClient(session, Signer(shared)).find_account() != url:
            CaClient(session, Signer(read_key(own), url)).change_key(shared)
        own.unlink()
        owner = context.config.account_key_owner(authority)
        context.ledger.note("account", f"account at {authority}: has the key of the account at {owner} now")


def _has_new_key(file: Path, session: Session, url: str) -> bool:
    """Tell whether a CA has an account of ours under the new key; CaMisbehaved where it is another one."""
    found = CaClient(session, Signer(read_key(file))).find_account()
    if found and found != url:
        raise CaMisbehaved(f"the key in {file} has another account, {found}", where=str(file),
                           advice="move that file away; the account's key is the other file")  # fmt: skip
    return bool(found)
