"""Certificates made for tests: chains of any shape."""

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from inkstamp.pki.keys import PrivateKey

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)


class Signer:
    """A key with a certificate, able to issue more."""

    def __init__(self, name: str, issuer: "Signer | None" = None, *, ca: bool = True, names: tuple[str, ...] = (),
                 key: PrivateKey | None = None, start: datetime = NOW - timedelta(days=10),
                 days: int = 90, path_length: int | None = None,
                 more: Sequence[x509.ExtensionType] = ()) -> None:  # fmt: skip
        self.key: PrivateKey = key or ec.generate_private_key(ec.SECP256R1())
        self.subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
        signer = issuer or self
        builder = (
            x509.CertificateBuilder()
            .subject_name(self.subject)
            .issuer_name(signer.subject)
            .public_key(self.key.public_key())
            .serial_number(x509.random_serial_number())
            .not_valid_before(start)
            .not_valid_after(start + timedelta(days=days))
            .add_extension(x509.BasicConstraints(ca=ca, path_length=path_length), critical=True)
        )
        if names:
            dns = [x509.DNSName(each) for each in names]
            builder = builder.add_extension(x509.SubjectAlternativeName(dns), critical=False)
        for each in more:
            builder = builder.add_extension(each, critical=False)
        self.certificate = builder.sign(signer.key, hashes.SHA256())
