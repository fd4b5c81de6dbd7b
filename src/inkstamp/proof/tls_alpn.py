"""A proof that is a TLS handshake: `tls-alpn-01` (RFC 8737), for addresses too (RFC 8738 section 6)."""

import hashlib
import ipaddress
from dataclasses import dataclass, field
from datetime import datetime, timedelta

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from inkstamp.pki.armour import MALFORMED
from inkstamp.pki.certificates import subject_names
from inkstamp.pki.names import as_address

ALPN = b"acme-tls/1"
"""RFC 8737 section 6.2."""
_IDENTIFIER = x509.ObjectIdentifier("1.3.6.1.5.5.7.1.31")
"""id-pe-acmeIdentifier, RFC 8737 section 6.1."""
_LIFE = timedelta(days=1)


@dataclass(frozen=True, slots=True)
class TlsProof:
    """A certificate that is shown to whoever asks for `acme-tls/1`."""

    name: str
    certificate: x509.Certificate
    key: ec.EllipticCurvePrivateKey = field(repr=False)

    @property
    def server_name(self) -> str:
        """What a CA asks for by SNI: the name, or an address's reverse name (RFC 8738 section 6)."""
        return server_name(self.name)

    def is_shown_by(self, leaf: x509.Certificate) -> bool:
        """Tell whether a served leaf is a proof of the same: name and digest, whatever its key."""
        try:
            mine, theirs = (each.extensions.get_extension_for_oid(_IDENTIFIER) for each in (self.certificate, leaf))
        except (x509.ExtensionNotFound, *MALFORMED):
            return False
        return theirs.critical and theirs.value == mine.value and subject_names(leaf) == (self.name,)


def server_name(name: str) -> str:
    """Return the SNI under which the challenge response for a name or an address is asked for."""
    return ipaddress.ip_address(name).reverse_pointer if as_address(name) else name


def tls_proof(name: str, key_authorization: str, now: datetime) -> TlsProof:
    """Make the certificate of RFC 8737 section 3 with a key that lives as long as the proof; `now` in UTC."""
    key = ec.generate_private_key(ec.SECP256R1())
    digest = hashlib.sha256(key_authorization.encode("ascii")).digest()
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "proof of control")])
    address = as_address(name)
    alternative: x509.GeneralName = x509.IPAddress(ipaddress.ip_address(address)) if address else x509.DNSName(name)
    certificate = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(subject)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - _LIFE)
        .not_valid_after(now + _LIFE)
        .add_extension(x509.SubjectAlternativeName([alternative]), critical=False)
        .add_extension(x509.UnrecognizedExtension(_IDENTIFIER, b"\x04\x20" + digest), critical=True)
        .sign(key, hashes.SHA256())
    )
    return TlsProof(name, certificate, key)
