"""The requests of RFC 8555 as functions: what is sent, what comes back."""

from collections.abc import Mapping, Sequence
from datetime import datetime

from msgspec import Struct

from inkstamp.acme.jws import b64url, compact_json, public_jwk, signed
from inkstamp.acme.patience import ProcessingTimes
from inkstamp.acme.resources import (
    Account,
    Authorization,
    Challenge,
    Directory,
    Order,
    OrdersList,
    RenewalInfo,
    ca_url,
    read,
)
from inkstamp.acme.session import Reply, Session, Signer
from inkstamp.deadline import is_over, within
from inkstamp.errors import CaMisbehaved, CaProblem
from inkstamp.pki.keys import PrivateKey
from inkstamp.pki.names import as_address

_MOST_PAGES = 200
"""Of a list of orders: a CA that links them in a circle must not be followed for ever."""
_LIST_SECONDS = 60.0


class Issued(Struct, frozen=True):
    """A downloaded chain, and where the CA offers the same leaf with other issuers."""

    pem: bytes
    alternates: tuple[str, ...]


class Polled(Struct, frozen=True):
    """A snapshot of an order, and how long the CA wants to be left alone."""

    order: Order
    retry_after: float | None


class Answered(Struct, frozen=True):
    """A challenge after we said that its proof stands, and when the CA wants to be asked how it went."""

    challenge: Challenge
    retry_after: float | None
    """Seconds (RFC 8555 section 8.2)."""


def _location(reply: Reply) -> str:
    url = reply.headers.get("Location")
    if not url:
        raise CaMisbehaved("the CA made a resource and does not say where (no Location header)", where=reply.url)
    return ca_url(reply.url, url)


class OrderExtras(Struct, frozen=True, kw_only=True):
    """What an order may ask for beside its names."""

    replaces: str = ""
    """Identifier of the certificate that it will replace (RFC 9773 section 5)."""
    profile: str = ""
    """Which sort of certificate, of those that the directory offers (draft-ietf-acme-profiles)."""
    not_after: datetime | None = None
    """When it should end (RFC 8555 section 7.1.3); aware, UTC."""

    def members(self) -> dict[str, object]:
        """Return the order's members for it."""
        end = f"{self.not_after:%Y-%m-%dT%H:%M:%SZ}" if self.not_after is not None else ""
        told = {"replaces": self.replaces, "profile": self.profile, "notAfter": end}
        return {name: value for name, value in told.items() if value}


_NO_EXTRAS = OrderExtras()


class Opened(Struct, frozen=True):
    """An account that was opened, or found by its key."""

    url: str
    account: Account
    is_new: bool


class CaClient:
    """One account at one CA."""

    def __init__(self, session: Session, signer: Signer) -> None:
        self._session = session
        self._signer = signer
        self.processing_times = ProcessingTimes()
        """How long the CA takes to validate and to issue."""

    def directory(self) -> Directory:
        """Return what the CA offers."""
        return self._session.directory()

    def new_account(
        self, contact: Sequence[str], *, terms_agreed: bool, bound_by: Mapping[str, str] | None = None
    ) -> Opened:
        """Open the account, or find the one that this key has (RFC 8555 sections 7.3 and 7.3.1).

        Args:
            contact: URLs, as `mailto:…`.
            terms_agreed: Whether somebody has read the terms and agrees.
            bound_by: What `jws.binding` made, where the CA binds accounts to customers.

        """
        payload: dict[str, object] = {"contact": list(contact)}
        if terms_agreed:
            payload["termsOfServiceAgreed"] = True
        if bound_by is not None:
            payload["externalAccountBinding"] = bound_by
        reply = self._session.post("account", self.directory().new_account, payload, Signer(self._signer.key))
        return Opened(_location(reply), read(Account, reply.body, reply.url), reply.status == 201)

    def find_account(self) -> str:
        """Return the URL of the account that this key has, empty when it has none (RFC 8555 section 7.3.1)."""
        only = {"onlyReturnExisting": True}
        try:
            reply = self._session.post("account", self.directory().new_account, only, Signer(self._signer.key))
        except CaProblem as problem:
            if problem.kind == "accountDoesNotExist":
                return ""
            raise
        return _location(reply)

    def account(self) -> Account:
        """Fetch the account."""
        return self._change_account(None)

    def change_contact(self, contact: Sequence[str]) -> Account:
        """Give the account other contacts (RFC 8555 section 7.3.2)."""
        return self._change_account({"contact": list(contact)})

    def deactivate_account(self) -> Account:
        """End the account, for ever (RFC 8555 section 7.3.6)."""
        return self._change_account({"status": "deactivated"})

    def _change_account(self, payload: Mapping[str, object] | None) -> Account:
        reply = self._session.post("account", self._signer.account_url, payload, self._signer)
        return read(Account, reply.body, reply.url)

    def change_key(self, new: PrivateKey) -> None:
        """Have the account use another key from now on (RFC 8555 section 7.3.5).

        Not repeated when the connection breaks: who asks then has to find out which of the two counts.
        """
        url = self.directory().key_change
        payload = {"account": self._signer.account_url, "oldKey": public_jwk(self._signer.key)}
        inner = signed(new, {"jwk": public_jwk(new), "url": url}, compact_json(payload))
        self._session.post("key change", url, inner, self._signer, repeatable=False)

    def revoke(self, certificate_der: bytes, reason: int, *, by: PrivateKey | None = None) -> None:
        """Revoke a certificate (RFC 8555 section 7.6): as this account, or with the certificate's own key `by`.

        `reason` is a code of RFC 5280 section 5.3.1.
        """
        signer = self._signer if by is None else Signer(by)
        payload = {"certificate": b64url(certificate_der), "reason": reason}
        self._session.post("revocation", self.directory().revoke_cert, payload, signer)

    def new_order(self, names: Sequence[str], wish: OrderExtras = _NO_EXTRAS) -> tuple[str, Order]:
        """Open an order for names and addresses (RFC 8555 section 7.4, RFC 8738); returns URL and first snapshot."""
        kinds = [("ip" if as_address(name) else "dns", name) for name in names]
        payload = {"identifiers": [{"type": kind, "value": name} for kind, name in kinds], **wish.members()}
        reply = self._session.post("new order", self.directory().new_order, payload, self._signer, repeatable=False)
        return _location(reply), read(Order, reply.body, reply.url)

    def renewal_info(self, identifier: str) -> tuple[RenewalInfo, float | None]:
        """Ask when a certificate should be renewed (RFC 9773 section 4.1); returns that and Retry-After in seconds."""
        url = f"{self.directory().renewal_info.rstrip('/')}/{identifier}"
        reply = self._session.get("renewal information", url)
        return read(RenewalInfo, reply.body, url), reply.retry_after

    def order(self, url: str) -> Polled:
        """Fetch an order."""
        reply = self._session.post("order", url, None, self._signer)
        return Polled(read(Order, reply.body, url), reply.retry_after)

    def open_orders(self) -> list[str]:
        """Return the URLs of the account's orders where the CA lists them (RFC 8555 section 7.1.2.1).

        Empty where it does not. So many pages are read, and for so long, that the newest of a large account are among
        them, and no more.
        """
        page = self.account().orders
        urls: list[str] = []
        with within(_LIST_SECONDS):
            for _ in range(_MOST_PAGES):
                if not page or is_over():
                    break
                reply = self._session.post("orders list", page, None, self._signer)
                urls.extend(read(OrdersList, reply.body, page).orders)
                page = next(iter(reply.links("next")), "")
        return urls

    def authorization(self, url: str) -> Authorization:
        """Fetch an authorization (RFC 8555 section 7.5)."""
        return read(Authorization, self._session.post("authorization", url, None, self._signer).body, url)

    def deactivate(self, url: str) -> None:
        """Give an authorization back (RFC 8555 section 7.5.2)."""
        self._session.post("authorization", url, {"status": "deactivated"}, self._signer)

    def answer(self, challenge: Challenge) -> Answered:
        """Tell the CA that the proof stands (RFC 8555 section 7.5.1)."""
        reply = self._session.post("challenge", challenge.url, {}, self._signer)
        return Answered(read(Challenge, reply.body, challenge.url), reply.retry_after)

    def finalize(self, url: str, csr_der: bytes) -> Polled:
        """Send the request for the certificate (RFC 8555 section 7.4)."""
        reply = self._session.post("finalize", url, {"csr": b64url(csr_der)}, self._signer)
        return Polled(read(Order, reply.body, url), reply.retry_after)

    def certificate(self, url: str) -> Issued:
        """Download a chain (RFC 8555 section 7.4.2)."""
        reply = self._session.post("certificate", url, None, self._signer)
        return Issued(reply.body, reply.links("alternate"))
