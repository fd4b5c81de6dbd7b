"""Private keys encrypted with a passphrase that takes memory to guess: PKCS#8 with scrypt, as OpenSSL reads it."""

import base64
import os
import textwrap

from cryptography import x509
from cryptography.exceptions import InvalidTag
from cryptography.hazmat import asn1
from cryptography.hazmat.primitives import padding, serialization
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.kdf.scrypt import Scrypt

from inkstamp.pki.keys import PrivateKey

_PBES2 = x509.ObjectIdentifier("1.2.840.113549.1.5.13")
_SCRYPT = x509.ObjectIdentifier("1.3.6.1.4.1.11591.4.11")
_AES256_CBC = x509.ObjectIdentifier("2.16.840.1.101.3.4.1.42")
_COST, _BLOCK, _PARALLEL = 16_384, 8, 1
"""16 MiB and some 50 ms a guess: the most that OpenSSL reads without being told to take more memory."""
_BYTES = 16
"""Of a salt, an initialization vector and a block of AES."""
_NONCE = 12


@asn1.sequence
class _ScryptParameters:
    """RFC 7914 section 7."""

    salt: bytes
    cost: int
    block: int
    parallel: int


@asn1.sequence
class _Derivation:
    algorithm: x509.ObjectIdentifier
    parameters: _ScryptParameters


@asn1.sequence
class _EncryptionScheme:
    algorithm: x509.ObjectIdentifier
    vector: bytes


@asn1.sequence
class _Pbes2Parameters:
    """RFC 8018 appendix A.4."""

    derivation: _Derivation
    scheme: _EncryptionScheme


@asn1.sequence
class _Pbes2:
    algorithm: x509.ObjectIdentifier
    parameters: _Pbes2Parameters


@asn1.sequence
class _EncryptedPrivateKeyInfo:
    """RFC 5958 section 3."""

    algorithm: _Pbes2
    data: bytes


def encrypted_pem(key: PrivateKey, passphrase: bytes) -> bytes:
    """Write a key as encrypted PKCS#8 PEM (RFC 5958): PBES2 (RFC 8018) with scrypt (RFC 7914) and AES-256-CBC.

    Two calls give different bytes: salt and vector are random.
    """
    salt, vector = os.urandom(_BYTES), os.urandom(_BYTES)
    plain = key.private_bytes(
        serialization.Encoding.DER, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    padder = padding.PKCS7(8 * _BYTES).padder()
    encryptor = Cipher(algorithms.AES(_derive(passphrase, salt)), modes.CBC(vector)).encryptor()
    data = encryptor.update(padder.update(plain) + padder.finalize()) + encryptor.finalize()
    derivation = _Derivation(
        algorithm=_SCRYPT,
        parameters=_ScryptParameters(salt=salt, cost=_COST, block=_BLOCK, parallel=_PARALLEL),
    )
    scheme = _EncryptionScheme(algorithm=_AES256_CBC, vector=vector)
    parameters = _Pbes2Parameters(derivation=derivation, scheme=scheme)
    info = _EncryptedPrivateKeyInfo(algorithm=_Pbes2(algorithm=_PBES2, parameters=parameters), data=data)
    return _armoured(asn1.encode_der(info))


def _armoured(der: bytes) -> bytes:
    """Write DER as PEM (RFC 7468 section 11)."""
    lines = textwrap.wrap(base64.b64encode(der).decode("ascii"), 64)
    label = "ENCRYPTED PRIVATE KEY"
    return "\n".join([f"-----BEGIN {label}-----", *lines, f"-----END {label}-----", ""]).encode("ascii")


def seal(data: bytes, passphrase: bytes) -> bytes:
    """Encrypt any bytes with a passphrase (scrypt, AES-256-GCM): a salt, a nonce, the ciphertext with its tag."""
    salt, nonce = os.urandom(_BYTES), os.urandom(_NONCE)
    return salt + nonce + AESGCM(_derive(passphrase, salt)).encrypt(nonce, data, None)


def unseal(data: bytes, passphrase: bytes) -> bytes | None:
    """Return what `seal` encrypted; None where that was done with another passphrase, or it is damaged."""
    salt, nonce, sealed = data[:_BYTES], data[_BYTES : _BYTES + _NONCE], data[_BYTES + _NONCE :]
    try:
        return AESGCM(_derive(passphrase, salt)).decrypt(nonce, sealed, None)
    except (InvalidTag, ValueError):
        return None


def _derive(passphrase: bytes, salt: bytes) -> bytes:
    return Scrypt(salt=salt, length=32, n=_COST, r=_BLOCK, p=_PARALLEL).derive(passphrase)
