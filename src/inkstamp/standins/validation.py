"""The simulated CA's own look at the world: DNS and HTTP on loopback, with code of its own.

It shares nothing with the look that Ink Stamp takes beforehand, so that the two can disagree.
"""

import base64
import hashlib
import http.client
from collections.abc import Sequence
from datetime import datetime

import dns.exception
import dns.resolver


class Outside:
    """Looks through one nameserver and at one HTTP port."""

    def __init__(self, dns_port: int, http_port: int) -> None:
        self._resolver = dns.resolver.Resolver(configure=False)
        self._resolver.nameservers = ["127.0.0.1"]
        self._resolver.port = dns_port
        self._resolver.lifetime = 5
        self._http_port = http_port

    def http01(self, name: str, token: str, wanted: str) -> tuple[str, str]:
        """Validate as RFC 8555 section 8.3 says; returns the problem's kind and detail, empty when all is well."""
        return self.file(name, f"/.well-known/acme-challenge/{token}", wanted)

    def file(self, name: str, path: str, wanted: str) -> tuple[str, str]:
        """Fetch a file and compare it; returns the problem's kind and detail, empty when all is well."""
        try:
            answer = self._resolver.resolve(name + ".", "A", search=False)
        except dns.exception.DNSException as error:
            return "dns", f"{name}: {error}"
        address = sorted(record.address for record in answer)[0]
        connection = http.client.HTTPConnection(address, self._http_port, timeout=5)
        try:
            connection.request("GET", path, headers={"Host": name})
            reply = connection.getresponse()
            body = reply.read(4096)
        except (OSError, http.client.HTTPException) as error:
            return "connection", f"{address}: {error}"
        finally:
            connection.close()
        if reply.status != 200:
            return "unauthorized", f"{address} answered {path} with status {reply.status}"
        if body.decode("latin-1").rstrip() != wanted.rstrip():
            return "incorrectResponse", f"{address} answered {path} with other content"
        return "", ""

    def dns01(self, name: str, key_authorization: str, account: str = "") -> tuple[str, str]:
        """Validate as RFC 8555 section 8.4 says, or with an account's URL as draft-ietf-acme-dns-account-label does."""
        digest = hashlib.sha256(key_authorization.encode("ascii")).digest()
        place = f"_acme-challenge.{name}"
        if account:
            label = base64.b32encode(hashlib.sha256(account.encode("ascii")).digest()[:10]).decode("ascii")
            place = f"_{label.lower()}.{place}"
        return self.record(place, "TXT", base64.urlsafe_b64encode(digest).decode("ascii").rstrip("="))

    def dns_persist01(
        self, name: str, issuers: Sequence[str], account: str, is_wildcard: bool, now: datetime
    ) -> tuple[str, str]:
        """Validate as draft-ietf-acme-dns-persist says: one record is enough, whatever others there are."""
        try:
            answer = self._resolver.resolve(f"_validation-persist.{name}.", "TXT", search=False)
        except dns.exception.DNSException as error:
            return "dns", f"{name}: {error}"
        why = "no record"
        for record in answer:
            issuer, *parameters = (part.strip() for part in b"".join(record.strings).decode("utf-8").split(";"))
            known = {key.lower(): value for key, _, value in (each.partition("=") for each in parameters)}
            if issuer.lower().rstrip(".") not in issuers:
                why = "another issuer"
            elif known.get("accounturi") != account:
                why = "another account"
            elif "persistuntil" in known and int(known["persistuntil"]) < now.timestamp():
                why = "it has run out"
            elif is_wildcard and known.get("policy", "").lower() != "wildcard":
                why = "it does not allow wildcards"
            else:
                return "", ""
        return "unauthorized", f"_validation-persist.{name}: {why}"

    def record(self, name: str, kind: str, wanted: str) -> tuple[str, str]:
        """Look for a CNAME or TXT record; returns the problem's kind and detail, empty when all is well."""
        try:
            answer = self._resolver.resolve(name + ".", kind, search=False)
        except dns.exception.DNSException as error:
            return "dns", f"{name}: {error}"
        values = [record.to_text().strip('"').rstrip(".") for record in answer]
        return ("", "") if wanted.rstrip(".") in values else ("incorrectResponse", f"{name} has {', '.join(values)}")
