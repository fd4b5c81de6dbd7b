"""An account as the CA knows it: looked at, its contact changed, retired."""

from typing import TYPE_CHECKING

from msgspec import Struct

from inkstamp.accounts.pool import acme_authority
from inkstamp.errors import CaProblem, UsageError

if TYPE_CHECKING:
    from inkstamp.accounts.context import AccountsContext

_MOST_ORDERS = 20


class AccountDetails(Struct, frozen=True, kw_only=True):
    """What a CA says of itself and of our account."""

    name: str
    directory: str
    account_url: str
    status: str
    """`valid`, `deactivated` or `revoked` (RFC 8555 section 7.1.6)."""
    contact: tuple[str, ...]
    key: str
    """Kind of the account's key."""
    key_thumbprint: str
    """RFC 7638; what CAA `validationmethods` and standing proofs go by."""
    terms: str
    caa: tuple[str, ...]
    """Domain names that the CA goes by in CAA records."""
    binds: bool
    """Whether it binds accounts to customers."""
    offers: tuple[str, ...]
    """What its directory offers beside orders, in a few words each."""
    profiles: dict[str, str]
    """Sorts of certificates that may be asked for, with descriptions."""
    orders: tuple[tuple[str, str, tuple[str, ...]], ...]
    """URL, status and names of the newest orders, where the CA lists them."""
    orders_listed: bool
    certificates: tuple[str, ...]
    """Configured certificates that come from it."""


_OFFERS = {
    "renewal_info": "offers renewal information (ARI)",
    "revoke_cert": "revokes",
    "key_change": "offers key rollover",
}


def show_account(context: "AccountsContext", authority: str) -> AccountDetails:
    """Ask a CA what it offers and how our account stands.

    Raises:
        UsageError: The authority is not configured, is a portal, or there is no account with it yet.
        CaProblem, NetworkTrouble: The CA refused, or cannot be reached.

    """
    _expect_account(context, authority)
    account = context.accounts.get(authority)
    directory, known = account.client.directory(), account.client.account()
    listed = bool(known.orders)
    urls = account.client.open_orders()[-_MOST_ORDERS:] if listed else []
    polled = [(url, account.client.order(url).order) for url in urls]
    return AccountDetails(
        name=authority,
        directory=account.entry.directory,
        account_url=account.url,
        status=known.status,
        contact=known.contact,
        key=account.key_kind,
        key_thumbprint=account.thumbprint,
        terms=directory.meta.terms_of_service,
        caa=directory.meta.caa_identities,
        binds=directory.meta.external_account_required,
        offers=tuple(told for name, told in _OFFERS.items() if getattr(directory, name)),
        profiles=directory.meta.profiles,
        orders=tuple((url, each.status.value, tuple(i.value for i in each.identifiers)) for url, each in polled),
        orders_listed=listed,
        certificates=certificates_of(context, authority),
    )


def certificates_of(context: "AccountsContext", authority: str) -> tuple[str, ...]:
    """Return the configured certificates that come from an authority, in the first place; UsageError for none."""
    context.configuration.authority(authority)
    return tuple(name for name, each in context.certificates.items() if each.authority == authority)


def change_contact(context: "AccountsContext", authority: str, email: str) -> str:
    """Write another contact into the configuration and tell the CA of it; returns the account's URL.

    The configuration comes first: a run that is killed in between is caught up with by the next one.

    Raises:
        UsageError: The authority is not configured, is a portal, or there is no account with it yet.

    """
    _expect_account(context, authority)
    if context.config.authority[authority].email != email:
        context.configuration.change_entry("authority", authority, {"email": email})
    return context.accounts.get(authority).url


def retire(context: "AccountsContext", authority: str) -> str:
    """Deactivate the account at an authority, for ever; returns its URL.

    What was issued stays good and can still be revoked with its own key.

    Raises:
        UsageError: The authority is not configured, is a portal, or there is no account with it yet.
        CaProblem, NetworkTrouble: The CA refused, or cannot be reached.

    """
    _expect_account(context, authority)
    account = context.accounts.get(authority)
    try:
        account.client.deactivate_account()
    except CaProblem as problem:
        # So answers a CA that has done it already, and was not heard (RFC 8555 section 7.3.6).
        if problem.kind != "unauthorized":
            raise
    context.ledger.retire_account(authority)
    return account.url


def _expect_account(context: "AccountsContext", authority: str) -> None:
    entry = acme_authority(context.configuration, authority)
    known = context.ledger.account(authority)
    if known is None or known.directory != entry.directory:
        raise UsageError(f"there is no account at “{authority}” yet", advice=f"inkstamp authority add {authority}")
