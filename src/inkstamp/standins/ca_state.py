"""What the simulated ACME CA knows: accounts, orders, authorizations, certificates, and its policy."""

import json
import secrets
import threading
from collections import deque
from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import timedelta
from pathlib import Path
from typing import Any

from cryptography import x509

from inkstamp.acme.jws import key_authorization, thumbprint
from inkstamp.clock import Clock, SystemClock, stamp
from inkstamp.files import write_bytes
from inkstamp.standins.ca_words import CaWords, status_extensions
from inkstamp.standins.hierarchy import Hierarchy
from inkstamp.standins.validation import Outside

_URN = "urn:ietf:params:acme:error:"


class Refusal(Exception):
    """The CA answers with a problem document."""

    def __init__(self, status: int, kind: str, detail: str) -> None:
        super().__init__(detail)
        self.status = status
        self.problem = {"type": _URN + kind, "detail": detail, "status": status}


@dataclass(frozen=True, slots=True)
class Canned:
    """An answer to give in the place of the right one."""

    status: int
    headers: Mapping[str, str] = field(default_factory=dict)
    body: bytes = b""
    content_type: str = "application/problem+json"


@dataclass
class Mood:
    """How the CA behaves; tests and the demo change it while it runs."""

    at_once: bool = False
    """Whether replies already say `valid`, instead of `processing` at first."""
    lifetime: timedelta = timedelta(days=90)
    lifetimes: dict[str, timedelta] = field(default_factory=dict)
    """Names whose certificates have another lifetime."""
    aged: dict[str, timedelta] = field(default_factory=dict)
    """Names whose next certificate began that long ago."""
    canned: dict[str, deque[Canned]] = field(default_factory=dict)
    """Answers to give first, by resource (`new-order`, `order`, `directory` …)."""
    lists_orders: bool = True
    names_windows: bool = True
    """Whether it can be asked when to renew (RFC 9773)."""
    status_by: frozenset[str] = frozenset()
    """How certificates say that their status is told: `ocsp`, `crl`."""
    terms: bool = True


@dataclass
class _Authorization:
    name: str
    token: str
    status: str = "pending"
    challenge_status: str = "pending"
    error: dict[str, Any] | None = None


@dataclass
class _Order:
    account: str
    names: tuple[str, ...]
    authorizations: tuple[str, ...]
    status: str = "pending"
    leaf: x509.Certificate | None = None
    error: dict[str, Any] | None = None
    replaces: str | None = None


class CaState:
    """The CA behind its HTTP interface; methods take and return JSON objects."""

    def __init__(self, folder: Path, base_url: str, outside: Outside, clock: Clock | None = None) -> None:
        self.clock: Clock = clock or SystemClock()
        self.hierarchy = Hierarchy(folder)
        self.words = CaWords(self.hierarchy.issuer, self.clock)
        self.replaced: set[str] = set()
        """Identifiers of certificates that an order has replaced."""
        self.mood = Mood()
        self.issued = 0
        self.orders: dict[str, _Order] = {}
        self._authorizations: dict[str, _Authorization] = {}
        self._outside = outside
        self._url = base_url
        self._accounts_file = folder / "accounts.json"
        self._accounts: dict[str, dict[str, Any]] = (
            json.loads(self._accounts_file.read_text()) if self._accounts_file.exists() else {}
        )
        self._lock = threading.RLock()

    def url(self, kind: str, identity: str) -> str:
        """Return the URL of a resource."""
        return f"{self._url}/{kind}/{identity}"

    def directory(self) -> dict[str, Any]:
        """RFC 8555 section 7.1.1."""
        meta: dict[str, Any] = {"website": "https://quayside.test", "caaIdentities": ["quayside.test"]}
        if self.mood.terms:
            meta["termsOfService"] = f"{self._url}/terms"
        ours = ("new-nonce", "new-account", "new-order")
        names = ("newNonce", "newAccount", "newOrder")
        windows = {"renewalInfo": f"{self._url}/renewal-info"} if self.mood.names_windows else {}
        return {**{n: f"{self._url}/{path}" for n, path in zip(names, ours, strict=True)}, **windows, "meta": meta}

    # Accounts

    def account_key(self, account_url: str) -> dict[str, str]:
        """Return the JWK of an account."""
        identity = account_url.rpartition("/")[2]
        if identity not in self._accounts:
            raise Refusal(400, "accountDoesNotExist", "no such account")
        key: dict[str, str] = self._accounts[identity]["jwk"]
        return key

    def new_account(self, jwk: dict[str, str], payload: Mapping[str, Any]) -> tuple[int, str, dict[str, Any]]:
        """RFC 8555 section 7.3; returns status, id and account."""
        identity = thumbprint(jwk)[:16]
        with self._lock:
            known = identity in self._accounts
            if not known:
                if self.mood.terms and not payload.get("termsOfServiceAgreed"):
                    raise Refusal(403, "userActionRequired", f"agree to the terms at {self._url}/terms")
                self._accounts[identity] = {"jwk": jwk, "contact": payload.get("contact", [])}
                write_bytes(self._accounts_file, json.dumps(self._accounts).encode())
        return (200 if known else 201), identity, self.account(identity)

    def account(self, identity: str) -> dict[str, Any]:
        """RFC 8555 section 7.1.2."""
        shown = {"status": "valid", "contact": self._accounts[identity]["contact"]}
        return shown | ({"orders": self.url("orders", identity)} if self.mood.lists_orders else {})

    def orders_of(self, identity: str) -> dict[str, Any]:
        """RFC 8555 section 7.1.2.1."""
        return {"orders": [self.url("order", each) for each, order in self.orders.items() if order.account == identity]}

    # Orders

    def new_order(self, account: str, payload: Mapping[str, Any]) -> tuple[str, dict[str, Any]]:
        """RFC 8555 section 7.4."""
        identifiers = payload.get("identifiers") or []
        if not identifiers or any(each.get("type") != "dns" for each in identifiers):
            raise Refusal(400, "unsupportedIdentifier", "only DNS names are certified here")
        names = tuple(each["value"] for each in identifiers)
        for name in names:
            if not name.endswith(".saltmarsh.test") or "*" in name:
                raise Refusal(400, "rejectedIdentifier", f"this simulated CA certifies no name such as {name}")
        replaces = payload.get("replaces")
        if replaces is not None and not self.words.knows(replaces):
            raise Refusal(404, "malformed", "the certificate to be replaced is not known here")
        with self._lock:
            if replaces in self.replaced:
                raise Refusal(409, "alreadyReplaced", "another order has replaced that certificate")
            made = []
            for name in names:
                identity = secrets.token_hex(6)
                self._authorizations[identity] = _Authorization(name, secrets.token_urlsafe(32))
                made.append(identity)
            identity = secrets.token_hex(6)
            self.orders[identity] = _Order(account, names, tuple(made), replaces=replaces)
        return identity, self.order(identity)

    def find_order(self, identity: str, account: str) -> _Order:
        """Return an order of that account."""
        order = self.orders.get(identity)
        if order is None or order.account != account:
            raise Refusal(404, "malformed", "no such order")
        return order

    def order(self, identity: str) -> dict[str, Any]:
        """RFC 8555 section 7.1.3."""
        order = self.orders[identity]
        if order.status == "pending":
            states = [self._authorizations[each].status for each in order.authorizations]
            if "invalid" in states:
                order.status = "invalid"
                order.error = {"type": _URN + "unauthorized", "detail": "an authorization failed"}
            elif all(state == "valid" for state in states):
                order.status = "ready"
        shown: dict[str, Any] = {
            "status": order.status,
            "expires": stamp(self.clock.now() + timedelta(days=7)),
            "identifiers": [{"type": "dns", "value": name} for name in order.names],
            "authorizations": [self.url("authorization", each) for each in order.authorizations],
            "finalize": self.url("finalize", identity),
        }
        if order.status == "valid":
            shown["certificate"] = self.url("certificate", identity)
        return shown | ({"error": order.error} if order.error else {})

    # Authorizations

    def authorization(self, identity: str) -> dict[str, Any]:
        """RFC 8555 section 7.1.4."""
        found = self._authorizations.get(identity)
        if found is None:
            raise Refusal(404, "malformed", "no such authorization")
        strange = {"type": "lighthouse-01", "url": self.url("challenge", "0"), "status": "pending", "beam": 3}
        return {
            "identifier": {"type": "dns", "value": found.name},
            "status": found.status,
            "challenges": [strange, self.challenge(identity)],
        }

    def challenge(self, identity: str) -> dict[str, Any]:
        """RFC 8555 section 8.3."""
        found = self._authorizations[identity]
        shown = {
            "type": "http-01",
            "url": self.url("challenge", identity),
            "token": found.token,
            "status": found.challenge_status,
        }
        return shown | ({"error": found.error} if found.error else {})

    def answer(self, identity: str, jwk: dict[str, str]) -> dict[str, Any]:
        """RFC 8555 section 7.5.1: validate, now or in the background."""
        found = self._authorizations.get(identity)
        if found is None:
            raise Refusal(404, "malformed", "no such challenge")
        if found.challenge_status == "pending":
            found.challenge_status = "processing"
            if self.mood.at_once:
                self._validate(found, jwk)
            else:
                threading.Thread(target=self._validate, args=(found, jwk), daemon=True).start()
        return self.challenge(identity)

    def _validate(self, found: _Authorization, jwk: dict[str, str]) -> None:
        wanted = key_authorization(found.token, thumbprint(jwk))
        kind, detail = self._outside.http01(found.name, found.token, wanted)
        if kind:
            found.error = {"type": _URN + kind, "detail": detail, "status": 403}
        found.challenge_status = found.status = "invalid" if kind else "valid"

    # Certificates

    def finalize(self, identity: str, csr_der: bytes) -> dict[str, Any]:
        """RFC 8555 section 7.4."""
        order = self.orders[identity]
        self.order(identity)
        if order.status != "ready":
            raise Refusal(403, "orderNotReady", f"the order is {order.status}")
        try:
            request = x509.load_der_x509_csr(csr_der)
        except ValueError as error:
            raise Refusal(400, "badCSR", str(error)) from error
        if not request.is_signature_valid or set(_names_of(request)) != set(order.names):
            raise Refusal(400, "badCSR", "the request does not fit the order")
        age = next((self.mood.aged.pop(name) for name in order.names if name in self.mood.aged), timedelta(hours=1))
        public_key: Any = request.public_key()
        status = status_extensions(self._url.replace("localhost", "127.0.0.1"), self.mood.status_by)
        began = self.clock.now() - age
        lifetime = self.mood.lifetimes.get(order.names[0], self.mood.lifetime)
        order.leaf = self.hierarchy.issue(public_key, order.names, began, lifetime, status)
        self.words.remember(order.leaf)
        if order.replaces is not None:
            self.replaced.add(order.replaces)
        self.issued += 1
        shown = {**self.order(identity), "status": "processing"}
        order.status = "valid"
        return self.order(identity) if self.mood.at_once else shown

    def certificate(self, identity: str, *, alternate: bool) -> bytes:
        """RFC 8555 section 7.4.2."""
        order = self.orders.get(identity)
        if order is None or order.leaf is None:
            raise Refusal(404, "malformed", "no such certificate")
        return self.hierarchy.chain(order.leaf, alternate=alternate)


def _names_of(request: x509.CertificateSigningRequest) -> tuple[str, ...]:
    found = request.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    return tuple(found.get_values_for_type(x509.DNSName))
