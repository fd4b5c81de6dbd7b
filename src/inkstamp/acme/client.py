"""The requests of RFC 8555 as functions: what is sent, what comes back."""

from collections.abc import Sequence
from dataclasses import dataclass

from inkstamp.acme.jws import b64url
from inkstamp.acme.messages import (
    Account,
    Authorization,
    Challenge,
    Directory,
    Order,
    OrdersList,
    RenewalInfo,
    read,
)
from inkstamp.acme.session import Reply, Session, Signer
from inkstamp.errors import CaMisbehaved
from inkstamp.pki.names import as_address


@dataclass(frozen=True, slots=True)
class Issued:
    """A downloaded chain, and where the CA offers the same leaf with other issuers."""

    pem: bytes
    alternates: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Polled:
    """A snapshot of an order, and how long the CA wants to be left alone."""

    order: Order
    retry_after: float | None


def _location(reply: Reply) -> str:
    url = reply.headers.get("Location")
    if not url:
        raise CaMisbehaved("the CA made a resource and does not say where (no Location header)", where=reply.url)
    return url


class CaClient:
    """One account at one CA."""

    def __init__(self, session: Session, signer: Signer) -> None:
        self._session = session
        self._signer = signer

    def directory(self) -> Directory:
        """Return what the CA offers."""
        return self._session.directory()

    def new_account(self, contact: Sequence[str], *, terms_agreed: bool) -> tuple[str, Account]:
        """Open the account, or find the one that this key has (RFC 8555 section 7.3); returns URL and account."""
        payload: dict[str, object] = {"contact": list(contact)}
        if terms_agreed:
            payload["termsOfServiceAgreed"] = True
        reply = self._session.post("account", self.directory().new_account, payload, Signer(self._signer.key))
        return _location(reply), read(Account, reply.body, reply.url)

    def new_order(self, names: Sequence[str], replaces: str = "") -> tuple[str, Order]:
        """Open an order for names and addresses (RFC 8555 section 7.4, RFC 8738); returns URL and first snapshot.

        `replaces` is the identifier of the certificate that it will replace (RFC 9773 section 5).
        """
        kinds = [("ip" if as_address(name) else "dns", name) for name in names]
        payload: dict[str, object] = {"identifiers": [{"type": kind, "value": name} for kind, name in kinds]}
        if replaces:
            payload["replaces"] = replaces
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

        Empty where it does not. At most ten pages are read.
        """
        reply = self._session.post("account", self._signer.account_url, None, self._signer)
        page = read(Account, reply.body, reply.url).orders
        urls: list[str] = []
        for _ in range(10):
            if not page:
                break
            reply = self._session.post("orders list", page, None, self._signer)
            urls.extend(read(OrdersList, reply.body, page).orders)
            page = next(iter(reply.links("next")), "")
        return urls

    def authorization(self, url: str) -> Authorization:
        """Fetch an authorization (RFC 8555 section 7.5)."""
        return read(Authorization, self._session.post("authorization", url, None, self._signer).body, url)

    def answer(self, challenge: Challenge) -> Challenge:
        """Tell the CA that the proof stands (RFC 8555 section 7.5.1)."""
        return read(Challenge, self._session.post("challenge", challenge.url, {}, self._signer).body, challenge.url)

    def finalize(self, url: str, csr_der: bytes) -> Polled:
        """Send the request for the certificate (RFC 8555 section 7.4)."""
        reply = self._session.post("finalize", url, {"csr": b64url(csr_der)}, self._signer)
        return Polled(read(Order, reply.body, url), reply.retry_after)

    def certificate(self, url: str) -> Issued:
        """Download a chain (RFC 8555 section 7.4.2)."""
        reply = self._session.post("certificate", url, None, self._signer)
        return Issued(reply.body, reply.links("alternate"))
