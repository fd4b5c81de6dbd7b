"""Certificates read, and what a person wants to know of one."""

from contextlib import suppress
from datetime import datetime
from functools import lru_cache

from cryptography import x509
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric.types import CertificatePublicKeyTypes
from cryptography.x509.oid import NameOID
from msgspec import Struct

from inkstamp.errors import EditionUnfit
from inkstamp.pki.armour import MALFORMED, blocks, strangers_bytes
from inkstamp.pki.keys import describe
from inkstamp.pki.validation_level import validation_level
from inkstamp.printable import one_line, printable

_LONGEST_NAME = 200
_USUAL_SIZE = 16_384
"""Bytes of a certificate that is worth remembering."""
MOST_CERTIFICATES = 64
"""More than this in one answer is no chain."""

LABELS = frozenset({"CERTIFICATE", "X509 CERTIFICATE"})
"""PEM labels of certificates: RFC 7468 section 5, and the one that older programs write."""


class Facts(Struct, frozen=True, kw_only=True):
    """What is worth showing and recording of a certificate."""

    subject: str
    issuer: str
    names: tuple[str, ...]
    """DNS names (lower case) and IP addresses of the subject alternative name."""
    not_before: datetime
    not_after: datetime
    """First second outside of validity is one after this (RFC 5280 section 4.1.2.5); aware, UTC."""
    serial: str
    """Hexadecimal, lower case."""
    sha256: str
    """Digest of the DER, hexadecimal, lower case."""
    key: str
    """Kind of the public key, as in `ecdsa-p256`."""
    level: str
    """What the CA vetted by its own word: `DV`, `IV`, `OV`, `EV`; empty where it does not say."""


def from_der(der: bytes) -> x509.Certificate:
    """Read one certificate; ValueError when any part of it is malformed (odd encodings of some CAs are let pass)."""
    return _remembered(der) if len(der) <= _USUAL_SIZE else _from_der(der)


def _from_der(der: bytes) -> x509.Certificate:
    with strangers_bytes():
        return complete(x509.load_der_x509_certificate(der))


_remembered = lru_cache(maxsize=64)(_from_der)
"""The same intermediates come again and again, and a leaf is read several times."""


def complete(certificate: x509.Certificate) -> x509.Certificate:
    """Return `certificate` if all of it can be read; ValueError otherwise.

    The library reads lazily; what would fail later, in the middle of the work, must fail here. A key of a kind that the
    library does not know is told of, not refused: `public_key_of` says so.
    """
    with strangers_bytes():
        _ = (certificate.serial_number, certificate.not_valid_before_utc, certificate.not_valid_after_utc)
        for name in (certificate.subject, certificate.issuer):
            _ = (name.public_bytes(), name.rfc4514_string(), [each.value for each in name])
        for extension in certificate.extensions:
            _ = repr(extension.value)
        with suppress(UnsupportedAlgorithm):
            _ = certificate.signature_hash_algorithm
        public_key_of(certificate)
    return certificate


def public_key_of(certificate: x509.Certificate) -> CertificatePublicKeyTypes | None:
    """Return the public key of a certificate, None for one of a kind that the library does not know."""
    try:
        return certificate.public_key()
    except MALFORMED:
        return None


def key_kind(certificate: x509.Certificate) -> str:
    """Say a certificate's kind of key in the configuration's words; `unknown` where the library knows none."""
    key = public_key_of(certificate)
    return describe(key) if key is not None else "unknown"


def pem_certificates(data: bytes) -> list[x509.Certificate]:
    """Read all PEM certificates of `data` in their order; ValueError when one is malformed."""
    return [from_der(block.der) for block in blocks(data) if block.label in LABELS]


def read_pem(data: bytes, where: str) -> list[x509.Certificate]:
    """Read a chain as a CA sends it, in its order.

    Raises:
        EditionUnfit: There is none, there are more than a chain can have, or one is malformed.

    """
    found = [block.der for block in blocks(data) if block.label in LABELS]
    if not 0 < len(found) <= MOST_CERTIFICATES:
        raise EditionUnfit(
            f"{where} holds {len(found)} PEM certificates; a chain has a few",
            where=where,
            advice="run the command again; if it stays, ask the CA for the right chain",
        )
    try:
        return [from_der(each) for each in found]
    except ValueError as error:
        raise EditionUnfit(
            f"{where} holds a malformed certificate", where=where, said=one_line(str(error), _LONGEST_NAME)
        ) from error


def to_pem(certificate: x509.Certificate) -> bytes:
    """Write a certificate as PEM (RFC 7468)."""
    return certificate.public_bytes(serialization.Encoding.PEM)


def dns_names(certificate: x509.Certificate) -> tuple[str, ...]:
    """Return the DNS names of the subject alternative name, lower case, in their order."""
    try:
        extension = certificate.extensions.get_extension_for_class(x509.SubjectAlternativeName)
    except (x509.ExtensionNotFound, *MALFORMED):
        return ()
    return tuple(printable(name.lower()) for name in extension.value.get_values_for_type(x509.DNSName))


def subject_names(certificate: x509.Certificate) -> tuple[str, ...]:
    """Return what the certificate is for: DNS names, then IP addresses."""
    try:
        extension = certificate.extensions.get_extension_for_class(x509.SubjectAlternativeName)
        addresses = tuple(str(each) for each in extension.value.get_values_for_type(x509.IPAddress))
    except (x509.ExtensionNotFound, *MALFORMED):
        return ()
    return (*dns_names(certificate), *addresses)


def short_name(name: x509.Name) -> str:
    """Say whom a distinguished name names: common name, or organisation, or the whole of it."""
    for oid in (NameOID.COMMON_NAME, NameOID.ORGANIZATION_NAME):
        found = name.get_attributes_for_oid(oid)
        if found:
            return one_line(str(found[0].value), _LONGEST_NAME)
    return one_line(name.rfc4514_string(), _LONGEST_NAME) or "(no name)"


def facts(certificate: x509.Certificate) -> Facts:
    """Gather what is shown and recorded of `certificate`."""
    serial = certificate.serial_number
    return Facts(
        subject=short_name(certificate.subject),
        issuer=short_name(certificate.issuer),
        names=subject_names(certificate),
        not_before=certificate.not_valid_before_utc,
        not_after=certificate.not_valid_after_utc,
        serial=f"{serial:x}",
        sha256=certificate.fingerprint(hashes.SHA256()).hex(),
        key=key_kind(certificate),
        level=validation_level(certificate) or "",
    )
