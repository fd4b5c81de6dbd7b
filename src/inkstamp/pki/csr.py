"""Certificate signing requests (PKCS#10, RFC 2986)."""

from collections.abc import Sequence

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.x509.oid import NameOID

from inkstamp.pki.keys import PrivateKey

_COMMON_NAME_LIMIT = 64
"""RFC 5280 appendix A, ub-common-name."""


def make(key: PrivateKey, names: Sequence[str]) -> bytes:
    """Make a request for `names` (normalised DNS names), signed with `key`; returned as DER.

    The first name that is short enough is also the common name: some devices still show it, and RFC 8555
    section 7.4 wants it among the order's names. A request whose names are all too long has an empty subject.
    """
    common = next((name for name in names if len(name) <= _COMMON_NAME_LIMIT), None)
    subject = x509.Name([] if common is None else [x509.NameAttribute(NameOID.COMMON_NAME, common)])
    request = (
        x509.CertificateSigningRequestBuilder()
        .subject_name(subject)
        .add_extension(x509.SubjectAlternativeName([x509.DNSName(name) for name in names]), critical=False)
        .sign(key, hashes.SHA256())
    )
    return request.public_bytes(serialization.Encoding.DER)
