"""The simulated ACME CA's accounts: opened, bound to customers, changed, given other keys, ended."""

import hashlib
import hmac
import json
import threading
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any

from inkstamp.acme.jws import thumbprint, unb64url
from inkstamp.files import write_bytes
from inkstamp.standins.ca_mood import Mood, Refusal

_MACS = {"HS256": hashlib.sha256, "HS384": hashlib.sha384, "HS512": hashlib.sha512}


class Accounts:
    """Accounts by their identity, which stays the same when a key changes; kept in a file."""

    def __init__(self, file: Path, url: str, mood: Mood) -> None:
        self._file = file
        self._url = url
        self._mood = mood
        self._lock = threading.RLock()
        self._known: dict[str, dict[str, Any]] = json.loads(file.read_text()) if file.exists() else {}

    def url(self, identity: str) -> str:
        """Return an account's URL."""
        return f"{self._url}/account/{identity}"

    def key(self, account_url: str) -> dict[str, str]:
        """Return the JWK of an account."""
        identity = account_url.rpartition("/")[2]
        if identity not in self._known:
            raise Refusal(400, "accountDoesNotExist", "no such account")
        if self._known[identity].get("status", "valid") != "valid":
            raise Refusal(401, "unauthorized", "the account is deactivated")
        jwk: dict[str, str] = self._known[identity]["jwk"]
        return jwk

    def open(self, jwk: dict[str, str], payload: Mapping[str, Any]) -> tuple[int, str]:
        """Open an account, or find the one of a key; returns status and identity."""
        with self._lock:
            found = self._of_key(jwk)
            if found:
                self.key(self.url(found))
                return 200, found
            if payload.get("onlyReturnExisting"):
                raise Refusal(400, "accountDoesNotExist", "that key has no account")
            if self._mood.terms and not payload.get("termsOfServiceAgreed"):
                raise Refusal(403, "userActionRequired", f"agree to the terms at {self._url}/terms")
            self._expect_binding(jwk, payload.get("externalAccountBinding"))
            identity = thumbprint(jwk)[:16]
            self._known[identity] = {"jwk": jwk, "contact": payload.get("contact", []), "status": "valid"}
            self._write()
        return 201, identity

    def _of_key(self, jwk: dict[str, str]) -> str:
        return next((name for name, each in self._known.items() if each["jwk"] == jwk), "")

    def _expect_binding(self, jwk: dict[str, str], given: Mapping[str, str] | None) -> None:
        """RFC 8555 section 7.3.4, the steps of a server."""
        if not self._mood.customers:
            return
        if given is None:
            raise Refusal(403, "externalAccountRequired", "accounts here belong to customers")
        header = json.loads(unb64url(given["protected"]))
        secret = self._mood.customers.get(header.get("kid", ""))
        signed = f"{given['protected']}.{given['payload']}".encode()
        fits = (
            secret is not None
            and header.get("alg") in _MACS
            and header.get("url") == f"{self._url}/new-account"
            and json.loads(unb64url(given["payload"])) == jwk
            and hmac.compare_digest(hmac.digest(secret, signed, _MACS[header["alg"]]), unb64url(given["signature"]))
        )
        if not fits:
            raise Refusal(403, "unauthorized", "the binding is not right")

    def change(self, identity: str, payload: Mapping[str, Any] | None) -> dict[str, Any]:
        """Change contact or status; returns the account as it then is."""
        with self._lock:
            if payload and "contact" in payload:
                self._known[identity]["contact"] = payload["contact"]
            if payload and payload.get("status") == "deactivated":
                self._known[identity]["status"] = "deactivated"
            self._write()
        return self.show(identity)

    def show(self, identity: str) -> dict[str, Any]:
        """RFC 8555 section 7.1.2."""
        known = self._known[identity]
        shown = {"status": known.get("status", "valid"), "contact": known["contact"]}
        return shown | ({"orders": f"{self._url}/orders/{identity}"} if self._mood.lists_orders else {})

    def change_key(
        self, account_url: str, inner: Mapping[str, str], verify: Callable[[dict[str, str], str, bytes, bytes], None]
    ) -> None:
        """RFC 8555 section 7.3.5, the steps of a server."""
        try:
            header = json.loads(unb64url(inner["protected"]))
            payload = json.loads(unb64url(inner["payload"]))
            new, alg = header["jwk"], header["alg"]
            signed = f"{inner['protected']}.{inner['payload']}".encode()
            verify(new, alg, signed, unb64url(inner["signature"]))
        except (ValueError, KeyError, TypeError) as error:
            raise Refusal(400, "malformed", f"no JWS inside: {error!r}") from error
        if header.get("url") != f"{self._url}/key-change" or "nonce" in header:
            raise Refusal(400, "malformed", "the inner header must name the same url and no nonce")
        if payload.get("account") != account_url or payload.get("oldKey") != self.key(account_url):
            raise Refusal(400, "malformed", "it is about another account, or another key")
        with self._lock:
            if self._of_key(new):
                raise Refusal(409, "malformed", "that key has an account")
            self._known[account_url.rpartition("/")[2]]["jwk"] = new
            self._write()

    def _write(self) -> None:
        write_bytes(self._file, json.dumps(self._known).encode())
