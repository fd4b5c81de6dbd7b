"""Private keys: the kinds that public CAs certify, made, written and read."""

from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives import serialization
from cryptography.hazmat.primitives.asymmetric import ec, rsa

from inkstamp.errors import ConfigurationError
from inkstamp.pki.kinds import KeyKind

PrivateKey = ec.EllipticCurvePrivateKey | rsa.RSAPrivateKey
"""The private keys that are made and used here."""


_CURVES: dict[KeyKind, type[ec.EllipticCurve]] = {
    KeyKind.ECDSA_P256: ec.SECP256R1,
    KeyKind.ECDSA_P384: ec.SECP384R1,
}
_BITS = {KeyKind.RSA_2048: 2048, KeyKind.RSA_3072: 3072, KeyKind.RSA_4096: 4096}


def make(kind: KeyKind) -> PrivateKey:
    """Make a new key of that kind."""
    if kind in _CURVES:
        return ec.generate_private_key(_CURVES[kind]())
    return rsa.generate_private_key(public_exponent=65537, key_size=_BITS[kind])


def to_pem(key: PrivateKey) -> bytes:
    """Write a key as unencrypted PKCS#8 PEM (RFC 5958), which every web server reads."""
    return key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )


def from_pem(data: bytes, where: str) -> PrivateKey:
    """Read an unencrypted PEM key; ConfigurationError naming `where` when it is none of the known kinds."""
    try:
        key = serialization.load_pem_private_key(data, password=None)
    except (ValueError, TypeError, UnsupportedAlgorithm) as error:
        raise ConfigurationError(
            f"{where} does not hold a private key that can be read",
            where=where,
            advice="put back the right file, or move it away to have a new key made",
        ) from error
    if isinstance(key, ec.EllipticCurvePrivateKey | rsa.RSAPrivateKey):
        return key
    raise ConfigurationError(
        f"{where} holds a key of a kind that CAs do not take", where=where, advice="use an ECDSA or RSA key"
    )


def describe(public_key: object) -> str:
    """Say a public key's kind in the configuration's words (`ecdsa-p256`, `rsa-2048`)."""
    if isinstance(public_key, rsa.RSAPublicKey):
        return f"rsa-{public_key.key_size}"
    if isinstance(public_key, ec.EllipticCurvePublicKey):
        return {"secp256r1": "ecdsa-p256", "secp384r1": "ecdsa-p384"}.get(
            public_key.curve.name, f"ecdsa-{public_key.curve.name}"
        )
    return type(public_key).__name__.removesuffix("PublicKey").lower()
