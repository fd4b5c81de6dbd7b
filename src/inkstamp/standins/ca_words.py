"""What the simulated ACME CA says of certificates it issued: when to renew them, and whether they are revoked."""

import base64
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.serialization import Encoding
from cryptography.x509 import ocsp

from inkstamp.acme.ari import certificate_id
from inkstamp.clock import Clock, stamp
from inkstamp.standins.hierarchy import Issuer

_WIDTH = timedelta(days=2)
_VALID_FOR = timedelta(days=3)
_WISHED = 0.65
"""Share of a lifetime that is over when its window begins."""


CODES = {
    0: x509.ReasonFlags.unspecified,
    1: x509.ReasonFlags.key_compromise,
    3: x509.ReasonFlags.affiliation_changed,
    4: x509.ReasonFlags.superseded,
    5: x509.ReasonFlags.cessation_of_operation,
    9: x509.ReasonFlags.privilege_withdrawn,
}
"""Reasons that subscribers may give (RFC 5280 section 5.3.1)."""


@dataclass(frozen=True, slots=True)
class Wish:
    """A window that the CA names in the place of its usual one."""

    start: datetime
    end: datetime
    explanation: str = ""


class CaWords:
    """Remembers what was issued, in a file where there is one; answers are JSON objects and DER."""

    def __init__(self, issuer: Issuer, clock: Clock, file: Path | None = None) -> None:
        self._issuer = issuer
        self._clock = clock
        self._file = file
        self._issued: dict[str, x509.Certificate] = {}
        self._owners: dict[str, str] = {}
        if file is not None and file.exists():
            for line in file.read_text().splitlines():
                owner, der = line.split()
                self._keep(x509.load_der_x509_certificate(base64.b64decode(der)), owner)
        self.wishes: dict[str, Wish] = {}
        """By name, of the certificates for it."""
        self.revoked: dict[int, tuple[datetime, x509.ReasonFlags]] = {}
        """By serial number."""

    def remember(self, leaf: x509.Certificate, owner: str) -> None:
        """Note that a certificate was issued, and to which account."""
        self._keep(leaf, owner)
        if self._file is not None:
            with self._file.open("a") as out:
                out.write(f"{owner} {base64.b64encode(leaf.public_bytes(Encoding.DER)).decode()}\n")

    def _keep(self, leaf: x509.Certificate, owner: str) -> None:
        identifier = certificate_id(leaf)
        self._issued[identifier], self._owners[identifier] = leaf, owner

    def find(self, der: bytes) -> tuple[x509.Certificate, str] | None:
        """Return a certificate that was issued, and to which account; None for one that was not."""
        identifier = certificate_id(x509.load_der_x509_certificate(der))
        leaf = self._issued.get(identifier)
        return (leaf, self._owners[identifier]) if leaf is not None else None

    def knows(self, identifier: str) -> bool:
        """Tell whether a certificate is one of ours (RFC 9773 section 4.1)."""
        return identifier in self._issued

    def window(self, identifier: str) -> dict[str, Any]:
        """RFC 9773 section 4.2; KeyError for a certificate that is not ours."""
        leaf = self._issued[identifier]
        names = leaf.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
        wish = next((self.wishes[n] for n in names.get_values_for_type(x509.DNSName) if n in self.wishes), None)
        if wish is None:
            lifetime = leaf.not_valid_after_utc - leaf.not_valid_before_utc
            start = leaf.not_valid_before_utc + lifetime * _WISHED
            wish = Wish(start, start + min(_WIDTH, lifetime / 20))
        shown: dict[str, Any] = {"suggestedWindow": {"start": stamp(wish.start), "end": stamp(wish.end)}}
        return shown | ({"explanationURL": wish.explanation} if wish.explanation else {})

    def revoke(self, leaf: x509.Certificate, reason: x509.ReasonFlags = x509.ReasonFlags.superseded) -> None:
        """Revoke a certificate."""
        self.revoked[leaf.serial_number] = (self._clock.now(), reason)

    def ocsp_answer(self, request: bytes) -> bytes:
        """Answer an OCSP request (RFC 6960); ValueError when it is none."""
        asked = ocsp.load_der_ocsp_request(request)
        leaf = next((each for each in self._issued.values() if each.serial_number == asked.serial_number), None)
        if leaf is None:
            refusal = ocsp.OCSPResponseBuilder.build_unsuccessful(ocsp.OCSPResponseStatus.UNAUTHORIZED)
            return refusal.public_bytes(Encoding.DER)
        when, why = self.revoked.get(leaf.serial_number, (None, None))
        now = self._clock.now()
        made = (
            ocsp.OCSPResponseBuilder()
            .add_response(
                cert=leaf,
                issuer=self._issuer.certificate,
                algorithm=hashes.SHA1(),  # noqa: S303  as it was asked (RFC 5019)
                cert_status=ocsp.OCSPCertStatus.REVOKED if when else ocsp.OCSPCertStatus.GOOD,
                this_update=now,
                next_update=now + _VALID_FOR,
                revocation_time=when,
                revocation_reason=why,
            )
            .responder_id(ocsp.OCSPResponderEncoding.HASH, self._issuer.certificate)
        )
        return made.sign(self._issuer.key, hashes.SHA256()).public_bytes(Encoding.DER)

    def crl(self) -> bytes:
        """Return the list of all that is revoked (RFC 5280 section 5)."""
        now = self._clock.now()
        builder = (
            x509.CertificateRevocationListBuilder()
            .issuer_name(self._issuer.certificate.subject)
            .last_update(now)
            .next_update(now + _VALID_FOR)
        )
        for serial, (when, why) in self.revoked.items():
            entry = x509.RevokedCertificateBuilder().serial_number(serial).revocation_date(when)
            builder = builder.add_revoked_certificate(entry.add_extension(x509.CRLReason(why), critical=False).build())
        return builder.sign(self._issuer.key, hashes.SHA256()).public_bytes(Encoding.DER)


def status_extensions(url: str, told_by: frozenset[str]) -> Mapping[str, str]:
    """Return which URLs a certificate names for its status, by `ocsp` and `crl`."""
    return {each: f"{url}/{each}" for each in ("ocsp", "crl") if each in told_by}
