"""TLSA records: which certificate or key a name's owner binds a service to (RFC 6698, RFC 7671). Pure."""

import hashlib
from collections.abc import Sequence

from cryptography import x509
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric.types import PublicKeyTypes
from msgspec import Struct

from inkstamp.pki.certificates import public_key_of
from inkstamp.pki.keys import spki_digest

DANE_TA, DANE_EE = 2, 3
_SPKI, _SHA256 = 1, 1


class Tlsa(Struct, frozen=True):
    """One record, by the numbers of RFC 6698 section 7."""

    usage: int
    """0 and 1 limit which public CAs count, 2 names a CA of the owner's choice, 3 the server's own certificate."""
    selector: int
    """0 the whole certificate, 1 its public key."""
    matching: int
    """0 all of it, 1 its SHA-256, 2 its SHA-512."""
    data: bytes

    def __str__(self) -> str:
        """Return it as a zone file has it."""
        return f"{self.usage} {self.selector} {self.matching} {self.data.hex()}"

    @property
    def counts_for_mail(self) -> bool:
        """Whether mail servers heed it: they ignore usages 0 and 1 (RFC 7672 section 3.1.3)."""
        return self.usage in {DANE_TA, DANE_EE}


def read_tlsa(text: str) -> Tlsa | None:
    """Read a record as zone files have it; None for what is none."""
    numbers, data = text.split()[:3], "".join(text.split()[3:])
    if len(numbers) < 3 or not all(each.isascii() and each.isdigit() and len(each) < 4 for each in numbers):
        return None
    try:
        return Tlsa(int(numbers[0]), int(numbers[1]), int(numbers[2]), bytes.fromhex(data))
    except ValueError:
        return None


def record_for(key: PublicKeyTypes, usage: int = DANE_EE) -> Tlsa:
    """Return the record to publish for a key: by its SHA-256, as RFC 7672 section 3.1 would have it."""
    return Tlsa(usage, _SPKI, _SHA256, bytes.fromhex(spki_digest(key)))


def matches(record: Tlsa, chain: Sequence[x509.Certificate]) -> bool:
    """Tell whether a record stands for a chain as served, leaf first (RFC 6698 section 2.1).

    That the chain leads up to the certificate that a record of usage 2 or 0 names is not looked at here.
    """
    candidates = chain[:1] if record.usage in {1, DANE_EE} else chain[1:]
    return any(_selected(each, record) == record.data for each in candidates)


def _selected(certificate: x509.Certificate, record: Tlsa) -> bytes | None:
    der = certificate.public_bytes(serialization.Encoding.DER)
    if record.selector == _SPKI:
        key = public_key_of(certificate)
        if key is None:
            return None
        der = key.public_bytes(serialization.Encoding.DER, serialization.PublicFormat.SubjectPublicKeyInfo)
    elif record.selector != 0:
        return None
    known = {0: lambda: der, 1: hashlib.sha256(der).digest, 2: hashlib.sha512(der).digest}
    return known[record.matching]() if record.matching in known else None
