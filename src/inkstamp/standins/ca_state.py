"""What the simulated ACME CA knows: accounts, orders, authorizations, certificates, and its policy."""

import secrets
import threading
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from cryptography import x509

from inkstamp.acme.jws import jwk_of, key_authorization, thumbprint, unb64url
from inkstamp.clock import Clock, SystemClock, stamp
from inkstamp.pki import keys
from inkstamp.pki.certificates import to_pem
from inkstamp.pki.kinds import KeyKind
from inkstamp.standins.ca_accounts import Accounts
from inkstamp.standins.ca_mood import Mood, Refusal
from inkstamp.standins.ca_words import CODES, CaWords, status_extensions
from inkstamp.standins.hierarchy import Hierarchy
from inkstamp.standins.validation import Outside

_TEXT_BEFORE = b"Bag Attributes\r\n  friendlyName: caf\xc3\xa9\r\n"
_TEXT_BEHIND = b"\r\n-- \r\nyours, the CA\r\n"
_URN = "urn:ietf:params:acme:error:"


@dataclass
class _Authorization:
    name: str
    """Of a wildcard with its asterisk."""
    token: str
    account: str
    """URL of whose it is."""
    status: str = "pending"
    challenge_status: str = "pending"
    error: dict[str, Any] | None = None
    tried: int = 0
    answered: str = ""
    """Type of the challenge that was answered; empty for none."""


@dataclass
class _Order:
    account: str
    names: tuple[str, ...]
    authorizations: tuple[str, ...]
    until: datetime
    """Until when it may be finalized."""
    ends: datetime | None = None
    """Until when its certificate is to be valid, as was asked; None for the usual time."""
    profile: str = ""
    status: str = "pending"
    leaf: x509.Certificate | None = None
    error: dict[str, Any] | None = None
    replaces: str | None = None


class CaState:
    """The CA behind its HTTP interface; methods take and return JSON objects."""

    def __init__(self, folder: Path, base_url: str, outside: Outside, clock: Clock | None = None) -> None:
        self.clock: Clock = clock or SystemClock()
        self.hierarchy = Hierarchy(folder)
        self.words = CaWords(self.hierarchy.issuer, self.clock, folder / "issued.txt")
        self.replaced: set[str] = set()
        """Identifiers of certificates that an order has replaced."""
        self.mood = Mood()
        self.issued = 0
        self.orders: dict[str, _Order] = {}
        self._authorizations: dict[str, _Authorization] = {}
        self._outside = outside
        self._url = base_url
        self.accounts = Accounts(folder / "accounts.json", base_url, self.mood)
        self._lock = threading.RLock()

    @property
    def base_url(self) -> str:
        """What all its URLs begin with."""
        return self._url

    def url(self, kind: str, identity: str) -> str:
        """Return the URL of a resource."""
        return f"{self._url}/{kind}/{identity}"

    def directory(self) -> dict[str, Any]:
        """RFC 8555 section 7.1.1."""
        meta: dict[str, Any] = {"website": "https://quayside.test", "caaIdentities": ["quayside.test"]}
        if self.mood.terms:
            meta["termsOfService"] = f"{self._url}/terms"
        if self.mood.customers:
            meta["externalAccountRequired"] = True
        if self.mood.profiles:
            meta["profiles"] = self.mood.profiles
        offered = {"newNonce": "new-nonce", "newAccount": "new-account", "newOrder": "new-order"}
        more = (("renewalInfo", "renewal-info", self.mood.names_windows), ("keyChange", "key-change",
                self.mood.changes_keys), ("revokeCert", "revoke-cert", self.mood.revokes))  # fmt: skip
        offered |= {name: path for name, path, there in more if there}
        return {**{name: f"{self._url}/{path}" for name, path in offered.items()}, "meta": meta}

    def orders_of(self, identity: str) -> dict[str, Any]:
        """RFC 8555 section 7.1.2.1."""
        return {"orders": [self.url("order", each) for each, order in self.orders.items() if order.account == identity]}

    # Orders

    def new_order(self, account: str, payload: Mapping[str, Any]) -> tuple[str, dict[str, Any]]:
        """RFC 8555 section 7.4."""
        if self.mood.terms_changed:
            terms = f'<{self._url}/terms>;rel="terms-of-service"'
            raise Refusal(
                403, "userActionRequired", "the terms have changed", link=terms, instance=f"{self._url}/agree"
            )
        names = self._names_of(payload)
        replaces = payload.get("replaces")
        if replaces is not None and not self.words.knows(replaces):
            raise Refusal(404, "malformed", "the certificate to be replaced is not known here")
        profile = payload.get("profile", "")
        if profile and profile not in self.mood.profiles:
            raise Refusal(400, "invalidProfile", f"there is no profile {profile}")
        with self._lock:
            if replaces in self.replaced:
                raise Refusal(409, "alreadyReplaced", "another order has replaced that certificate")
            made = []
            for name in names:
                identity = secrets.token_hex(6)
                token = self.mood.token or secrets.token_urlsafe(32)
                status = "valid" if self.mood.proven else "pending"
                if name in self.mood.lapsing:
                    self.mood.lapsing.remove(name)
                    status = "expired"
                self._authorizations[identity] = _Authorization(
                    name, token, self.accounts.url(account), status, "valid" if self.mood.proven else "pending"
                )
                made.append(identity)
            identity = secrets.token_hex(6)
            until = self.clock.now() + self.mood.order_life
            ends = self._end_of(payload)
            self.orders[identity] = _Order(account, names, tuple(made), until, ends, profile, replaces=replaces)
        return identity, self.order(identity)

    def _names_of(self, payload: Mapping[str, Any]) -> tuple[str, ...]:
        """Return what is ordered; Refusal for what is not certified here, name by name where that is for some alone."""
        identifiers = payload.get("identifiers") or []
        if not identifiers or any(each.get("type") != "dns" for each in identifiers):
            raise Refusal(400, "unsupportedIdentifier", "only DNS names are certified here")
        names = tuple(each["value"] for each in identifiers)
        for name in names:
            if not f".{name}".endswith(".saltmarsh.test") or (
                name.startswith("*.") and self.mood.offers == ("http-01",)
            ):
                raise Refusal(400, "rejectedIdentifier", f"this simulated CA certifies no name such as {name}")
        parts = [
            {"type": _URN + kind, "detail": detail, "identifier": {"type": "dns", "value": name}}
            for name, (kind, detail) in self.mood.refused.items()
            if name in names
        ]
        if parts:
            raise Refusal(403, "compound", f"{len(parts)} of the names are refused", subproblems=parts)
        return names

    def _end_of(self, payload: Mapping[str, Any]) -> datetime | None:
        if "notAfter" not in payload and "notBefore" not in payload:
            return None
        if not self.mood.lets_choose_end:
            raise Refusal(400, "malformed", "notBefore and notAfter are not supported")
        return datetime.fromisoformat(payload["notAfter"])

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
            if {"invalid", "expired", "deactivated"} & set(states):
                order.status = "invalid"
                if "invalid" in states:
                    detail = "something went wrong" if self.mood.vague else "an authorization failed"
                    order.error = {"type": _URN + "unauthorized", "detail": detail}
            elif all(state == "valid" for state in states):
                order.status = "ready"
        shown: dict[str, Any] = {
            "status": "processing" if order.status == "valid" and self.mood.never_done else order.status,
            "expires": stamp(order.until),
            "identifiers": [{"type": "dns", "value": name} for name in order.names],
            "authorizations": [self.url("authorization", each) for each in order.authorizations],
            "finalize": self.url("finalize", identity),
        }
        if self.mood.talkative:
            shown["authorizations"].reverse()
        if order.profile:
            shown["profile"] = order.profile
        if shown["status"] == "valid":
            shown["certificate"] = self.url("certificate", identity)
        return shown | ({"error": order.error} if order.error else {})

    # Authorizations

    def authorization(self, identity: str) -> dict[str, Any]:
        """RFC 8555 section 7.1.4."""
        found = self._authorizations.get(identity)
        if found is None:
            raise Refusal(404, "malformed", "no such authorization")
        strange = {"type": "lighthouse-01", "url": self.url("challenge", "0"), "status": "pending", "beam": 3}
        shown: dict[str, Any] = {
            "identifier": {"type": "dns", "value": found.name.removeprefix("*.")},
            "status": found.status,
            "challenges": [strange, *(self.challenge(f"{identity}.{kind}") for kind in self.mood.offers)],
        }
        return shown | ({"wildcard": True} if found.name.startswith("*.") else {})

    def challenge(self, identity: str) -> dict[str, Any]:
        """RFC 8555 section 8; its identity is that of the authorization, a dot and the type."""
        identity, _, kind = identity.partition(".")
        found = self._authorizations[identity]
        tried = found.answered in {"", kind}
        shown: dict[str, Any] = {
            "type": kind,
            "url": f"{self.mood.challenges_at or self._url}/challenge/{identity}.{kind}",
            "status": found.challenge_status if tried else "pending",
        }
        if kind == "dns-persist-01":  # draft-ietf-acme-dns-persist: it has no token
            shown["issuer-domain-names"] = list(self.mood.issuers)
        else:
            shown["token"] = found.token
        return shown | ({"error": found.error} if found.error and tried else {})

    def answer(self, identity: str, jwk: dict[str, str]) -> dict[str, Any]:
        """RFC 8555 section 7.5.1: validate, now or in the background."""
        found = self._authorizations.get(identity.partition(".")[0])
        if found is None:
            raise Refusal(404, "malformed", "no such challenge")
        if found.challenge_status == "pending":
            found.challenge_status = "processing"
            found.answered = identity.partition(".")[2]
            if self.mood.at_once:
                self._validate(found, jwk)
            else:
                threading.Thread(target=self._validate, args=(found, jwk), daemon=True).start()
        return self.challenge(identity)

    def _look(self, found: _Authorization, jwk: dict[str, str]) -> tuple[str, str]:
        """Validate by the challenge that was answered; returns the problem's kind and detail, empty for none."""
        wanted = key_authorization(found.token, thumbprint(jwk))
        name, is_wildcard = found.name.removeprefix("*."), found.name.startswith("*.")
        if found.answered == "http-01":
            return self._outside.http01(name, found.token, wanted)
        if found.answered == "dns-persist-01":
            return self._outside.dns_persist01(name, self.mood.issuers, found.account, is_wildcard, self.clock.now())
        return self._outside.dns01(name, wanted, found.account if found.answered == "dns-account-01" else "")

    def _validate(self, found: _Authorization, jwk: dict[str, str]) -> None:
        while True:
            kind, detail = self._look(found, jwk)
            found.tried += 1
            found.error = {"type": _URN + kind, "detail": detail, "status": 403} if kind else None
            if not kind or found.tried >= self.mood.tries:
                break
            found.challenge_status = "pending"  # RFC 8555 section 8.2: the error of the last try stands there meanwhile
            self.clock.sleep(0.2)
        found.challenge_status = found.status = "invalid" if kind else "valid"

    def deactivate(self, identity: str) -> dict[str, Any]:
        """RFC 8555 section 7.5.2."""
        self._authorizations[identity].status = "deactivated"
        return self.authorization(identity)

    # Certificates

    def finalize(self, identity: str, csr_der: bytes) -> dict[str, Any]:
        """RFC 8555 section 7.4."""
        order = self.orders[identity]
        self.order(identity)
        if order.status == "ready" and self.clock.now() > order.until:
            order.status = "invalid"
        if order.status != "ready":
            raise Refusal(403, "orderNotReady", f"the order is {order.status}")
        try:
            request = x509.load_der_x509_csr(csr_der)
        except ValueError as error:
            raise Refusal(400, "badCSR", str(error)) from error
        if not request.is_signature_valid or set(_names_of(request)) != set(order.names):
            raise Refusal(400, "badCSR", "the request does not fit the order")
        order.leaf = self._issue(order, request.public_key())
        self.words.remember(order.leaf, order.account)
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
        whole = self.hierarchy.chain(order.leaf, alternate=alternate)
        leaf, issuer = to_pem(order.leaf), whole[len(to_pem(order.leaf)) :]
        return {
            "": whole,
            "none": b"",
            "bare": leaf,
            "shuffled": issuer + leaf,
            "long": leaf + issuer * 200,
            "dressed": _TEXT_BEFORE + whole.replace(b"\n", b"\r\n") + _TEXT_BEHIND,
        }[self.mood.chain]

    def _issue(self, order: _Order, public_key: Any) -> x509.Certificate:
        """Issue what the order is for, or what the mood has in its place."""
        mood, now = self.mood, self.clock.now()
        age = next((mood.aged.pop(name) for name in order.names if name in mood.aged), timedelta(hours=1))
        status = status_extensions(self._url.replace("localhost", "127.0.0.1"), mood.status_by)
        began = now - age
        lifetime = mood.lifetimes.get(order.names[0], mood.lifetime)
        lifetime = order.ends - began if order.ends is not None else lifetime
        names = order.names
        match mood.issues:
            case "another key":
                public_key = keys.make(KeyKind.ECDSA_P256).public_key()
            case "a name less":
                names = names[1:] or (f"other-{names[0]}",)
            case "expired":
                began, lifetime = now - timedelta(days=100), timedelta(days=90)
            case "not yet valid":
                began = now + timedelta(days=2)
        return self.hierarchy.issue(public_key, names, began, lifetime, status)

    def revoke(self, payload: Mapping[str, Any], account: str, jwk: Mapping[str, str]) -> None:
        """RFC 8555 section 7.6: by the account that ordered it, or by its own key."""
        found = self.words.find(unb64url(payload["certificate"]))
        if found is None:
            raise Refusal(404, "malformed", "that certificate is not one of ours")
        leaf, owner = found
        own: Any = leaf.public_key()
        if account != owner and dict(jwk) != jwk_of(own):
            raise Refusal(403, "unauthorized", "neither the account that ordered it nor its own key")
        if payload.get("reason", 0) not in CODES:
            raise Refusal(400, "badRevocationReason", f"known: {sorted(CODES)}")
        if leaf.serial_number in self.words.revoked:
            raise Refusal(400, "alreadyRevoked", "it was revoked before")
        self.words.revoke(leaf, CODES[payload.get("reason", 0)])


def _names_of(request: x509.CertificateSigningRequest) -> tuple[str, ...]:
    found = request.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    return tuple(found.get_values_for_type(x509.DNSName))
