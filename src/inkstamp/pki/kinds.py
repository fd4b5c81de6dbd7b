"""The kinds of key that are made and of certificate, and fields of a subject; apart from the code for them, which takes
time to load.
"""

from enum import StrEnum
from typing import Literal


class KeyKind(StrEnum):
    """Key algorithm and size, as the configuration writes it."""

    ECDSA_P256 = "ecdsa-p256"
    ECDSA_P384 = "ecdsa-p384"
    RSA_2048 = "rsa-2048"
    RSA_3072 = "rsa-3072"
    RSA_4096 = "rsa-4096"


ValidationLevel = Literal["DV", "IV", "OV", "EV"]
"""What the CA vets: control of the domain names, and beside it an individual or an organisation, or an organisation by
the EV Guidelines (CA/Browser Forum Baseline Requirements section 7.1.6.1)."""

SUBJECT_WORDS = {
    "common_name": "common name",
    "organisation": "organisation",
    "unit": "unit",
    "locality": "locality",
    "state": "state",
    "country": "country",
    "email": "e-mail",
}
"""What a person calls each field of a request's subject (RFC 5280 section 4.1.2.6)."""
