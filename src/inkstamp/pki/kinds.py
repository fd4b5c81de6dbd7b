"""The kinds of key that are made; apart from the code that makes them, which takes time to load."""

from enum import StrEnum


class KeyKind(StrEnum):
    """Key algorithm and size, as the configuration writes it."""

    ECDSA_P256 = "ecdsa-p256"
    ECDSA_P384 = "ecdsa-p384"
    RSA_2048 = "rsa-2048"
    RSA_3072 = "rsa-3072"
    RSA_4096 = "rsa-4096"
