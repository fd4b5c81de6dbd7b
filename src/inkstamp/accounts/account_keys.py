"""Which key of an account counts after a key rollover was interrupted."""

import functools
import os
from contextlib import closing
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

from inkstamp.acme.client import CaClient
from inkstamp.acme.jws import public_jwk, thumbprint
from inkstamp.acme.session import Session, Signer
from inkstamp.bulkhead import attempt
from inkstamp.errors import CaMisbehaved
from inkstamp.files import file_trouble, partial_of
from inkstamp.key_files import read_key
from inkstamp.parts import WithConfiguration, WithHome, WithLedger
from inkstamp.pki.keys import PrivateKey

if TYPE_CHECKING:
    from collections.abc import Callable

    from inkstamp.accounts.context import AccountContext
    from inkstamp.config.model import Authority


class _KeysContext(WithConfiguration, WithHome, WithLedger, Protocol):
    """What tells of account keys."""


class _SharingContext(WithConfiguration, WithLedger, Protocol):
    """What tells of accounts."""


def fetch_account_key(context: "AccountContext", owner: str) -> None:
    """Have the key of an account here as it is: another machine may have made or changed it since."""
    if context.store.is_shared:
        with context.locks.account(owner):
            pass  # taking the lease brings it here


def known_thumbprint(context: "_KeysContext", authority: str) -> str:
    """Return the thumbprint of the key of our account at an authority (RFC 7638); empty before there is one."""
    owner = context.config.account_key_owner(authority)
    machines = context.ledger.machines if context.has_ledger() else None
    shared = machines.thumbprint(owner) if machines is not None else ""
    if shared:  # another machine may have changed the key since, and a node never has it
        return shared
    file = context.home.account_key(owner)
    with file_trouble("read", file):
        try:
            there = os.stat(file)
        except (FileNotFoundError, NotADirectoryError):
            return ""
    return _thumbprint(file, (there.st_ino, there.st_ctime_ns))


@functools.lru_cache(maxsize=64)
def _thumbprint(file: Path, _as_it_is: tuple[int, int]) -> str:
    """Read the key in a file, once for as long as it is neither replaced nor changed: each certificate asks."""
    return thumbprint(public_jwk(read_key(file)))


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
) -> PrivateKey | None:
    """Find out which key counts where a change was interrupted; the one that does not is removed.

    Where accounts share a key and only some had changed it, the others follow. One whose CA cannot be asked, or
    refuses, does not keep the others from their work: both keys stay meanwhile.

    Args:
        context: The parts of the run.
        authority: Whose account is being opened.
        session: The conversation with its CA.
        url: The account's.
        make_session: Begins a conversation with another CA.

    Returns:
        The key that counts for this account where that is not settled for all; else None, for the one in its file.

    Raises:
        CaMisbehaved: The new key has an account, and another one than ours.
        CaProblem, NetworkTrouble: The CA cannot be asked.

    """
    owner = context.config.account_key_owner(authority)
    file = context.home.next_account_key(owner)
    partial = partial_of(file)
    if not file.exists() and not partial.exists():
        return None
    with context.locks.account(owner):
        partial.unlink(missing_ok=True)
        if not file.exists():  # it was not yet written whole, or another run has settled it in this moment
            return None
        new = read_key(file)
        changed = _has_new_key(file, session, url)
        others = [each for each in sharing(context, authority) if each != authority]
        beside = [attempt(_follow, context, each, make_session, None) for each in others]
        if not changed and not any(each is True for each in beside):
            if all(each is False for each in beside):
                file.unlink()
                context.store.keep_account_key(owner)
                context.ledger.note("account", f"account at {authority}: the key rollover was not made")
            return None
        if not changed:
            CaClient(session, Signer(read_key(context.home.account_key(owner)), url)).change_key(new)
        beside = [attempt(_follow, context, each, make_session, new) for each in others]
        if not all(each is True for each in beside):
            return new
        file.replace(context.home.account_key(owner))
        context.store.keep_account_key(owner)
        context.ledger.note("account", f"account at {authority}: the new key is in use")
    return None


def _follow(
    context: "AccountContext",
    authority: str,
    make_session: "Callable[[AccountContext, Authority], Session]",
    new: PrivateKey | None,
) -> bool:
    """Tell whether an account that shares a key has the new one; with `new`, it is given that where it has not."""
    owner = context.config.account_key_owner(authority)
    known = context.ledger.account(authority)
    url = known.url if known is not None else ""
    with closing(make_session(context, context.config.authority[authority])) as session:
        has = _has_new_key(context.home.next_account_key(owner), session, url)
        if not has and new is not None:
            CaClient(session, Signer(read_key(context.home.account_key(owner)), url)).change_key(new)
        return has or new is not None


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
        context.store.keep_account_key(authority)
        owner = context.config.account_key_owner(authority)
        context.ledger.note("account", f"account at {authority}: has the key of the account at {owner} now")


def _has_new_key(file: Path, session: Session, url: str) -> bool:
    """Tell whether a CA has an account of ours under the new key; CaMisbehaved where it is another one."""
    found = CaClient(session, Signer(read_key(file))).find_account()
    if found and found != url:
        raise CaMisbehaved(f"the key in {file} has another account, {found}", where=str(file),
                           advice="move that file away; the account's key is the other file")  # fmt: skip
    return bool(found)
