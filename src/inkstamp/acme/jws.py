"""JSON Web Signatures as ACME uses them (RFC 7515, RFC 7518, RFC 7638, RFC 8555 section 6.2)."""

import base64
import hashlib
import hmac
from collections.abc import Callable, Mapping
from typing import Any

import msgspec
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, padding, rsa
from cryptography.hazmat.primitives.asymmetric.utils import decode_dss_signature
from msgspec import Struct

from inkstamp.pki.keys import PrivateKey


class _Curve(Struct, frozen=True):
    alg: str
    crv: str
    hash: hashes.HashAlgorithm
    size: int
    """Octets of one coordinate."""


_CURVES = {
    "secp256r1": _Curve("ES256", "P-256", hashes.SHA256(), 32),
    "secp384r1": _Curve("ES384", "P-384", hashes.SHA384(), 48),
}


def b64url(data: bytes) -> str:
    """Encode as base64url without padding (RFC 7515 section 2)."""
    return base64.urlsafe_b64encode(data).rstrip(b"=").decode("ascii")


def unb64url(text: str) -> bytes:
    """Decode base64url without padding; ValueError when it is not that."""
    if not set(text) <= set("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_"):
        raise ValueError("not base64url")
    return base64.urlsafe_b64decode(text + "=" * (-len(text) % 4))


def compact_json(value: object) -> bytes:
    """Encode as JSON without spaces."""
    return msgspec.json.encode(value)


def _integer(number: int, size: int | None = None) -> str:
    return b64url(number.to_bytes(size or (number.bit_length() + 7) // 8, "big"))


def public_jwk(key: PrivateKey) -> dict[str, str]:
    """Return the public part of `key` as a JWK with just the members that its thumbprint needs."""
    return jwk_of(key.public_key())


def jwk_of(key: rsa.RSAPublicKey | ec.EllipticCurvePublicKey) -> dict[str, str]:
    """Return a public key as a JWK; see `public_jwk`."""
    if isinstance(key, rsa.RSAPublicKey):
        numbers = key.public_numbers()
        return {"e": _integer(numbers.e), "kty": "RSA", "n": _integer(numbers.n)}
    curve = _CURVES[key.curve.name]
    point = key.public_numbers()
    return {"crv": curve.crv, "kty": "EC", "x": _integer(point.x, curve.size), "y": _integer(point.y, curve.size)}


def thumbprint(jwk: Mapping[str, str]) -> str:
    """Return a JWK's thumbprint (RFC 7638): base64url of SHA-256 over its required members, sorted."""
    return b64url(hashlib.sha256(compact_json(dict(sorted(jwk.items())))).digest())


def algorithm(key: PrivateKey) -> str:
    """Return the `alg` that `key` signs with: ES256, ES384 or RS256 (RFC 7518 section 3.1)."""
    return "RS256" if isinstance(key, rsa.RSAPrivateKey) else _CURVES[key.curve.name].alg


def _sign(key: PrivateKey, data: bytes) -> bytes:
    if isinstance(key, rsa.RSAPrivateKey):
        return key.sign(data, padding.PKCS1v15(), hashes.SHA256())
    curve = _CURVES[key.curve.name]
    # RFC 7518 section 3.4: r and s side by side at fixed length, not the ASN.1 that X.509 uses.
    r, s = decode_dss_signature(key.sign(data, ec.ECDSA(curve.hash)))
    return r.to_bytes(curve.size, "big") + s.to_bytes(curve.size, "big")


def signed(key: PrivateKey, header: Mapping[str, Any], payload: bytes) -> dict[str, str]:
    """Return the members of a flattened JWS (RFC 7515 section 7.2.2) of `payload`, `alg` added to `header`."""
    return _flattened({"alg": algorithm(key), **header}, payload, lambda data: _sign(key, data))


def sign(key: PrivateKey, header: Mapping[str, Any], payload: bytes) -> bytes:
    """Make a flattened JWS as it is sent; see `signed`."""
    return compact_json(signed(key, header, payload))


_MACS = {"HS256": hashlib.sha256, "HS384": hashlib.sha384, "HS512": hashlib.sha512}


def binding(jwk: Mapping[str, str], *, key_id: str, mac_key: bytes, alg: str, url: str) -> dict[str, str]:
    """Return what binds a new account to one that the CA knows (RFC 8555 section 7.3.4).

    Args:
        jwk: The new account's public key.
        key_id: What the CA calls the other account.
        mac_key: The secret that it gave for this.
        alg: `HS256`, `HS384` or `HS512` (RFC 7518 section 3.2).
        url: The CA's newAccount.

    """
    header = {"alg": alg, "kid": key_id, "url": url}
    return _flattened(header, compact_json(jwk), lambda data: hmac.digest(mac_key, data, _MACS[alg]))


def _flattened(header: Mapping[str, Any], payload: bytes, sign_with: Callable[[bytes], bytes]) -> dict[str, str]:
    protected, body = b64url(compact_json(header)), b64url(payload)
    signature = sign_with(f"{protected}.{body}".encode("ascii"))
    return {"protected": protected, "payload": body, "signature": b64url(signature)}


def key_authorization(token: str, key_thumbprint: str) -> str:
    """Return what proves that the account's holder controls a name (RFC 8555 section 8.1)."""
    return f"{token}.{key_thumbprint}"
