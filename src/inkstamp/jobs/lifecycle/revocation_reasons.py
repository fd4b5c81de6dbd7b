"""Reasons for a revocation: importing them loads nothing else, so that a parser can list them."""

from enum import StrEnum


class RevocationReason(StrEnum):
    """Why a certificate is revoked, in the words of RFC 5280 section 5.3.1, as far as subscribers may give them."""

    UNSPECIFIED = "unspecified"
    KEY_COMPROMISE = "key-compromise"
    AFFILIATION_CHANGED = "affiliation-changed"
    SUPERSEDED = "superseded"
    CESSATION_OF_OPERATION = "cessation-of-operation"
    PRIVILEGE_WITHDRAWN = "privilege-withdrawn"


CODES = {
    RevocationReason.UNSPECIFIED: 0,
    RevocationReason.KEY_COMPROMISE: 1,
    RevocationReason.AFFILIATION_CHANGED: 3,
    RevocationReason.SUPERSEDED: 4,
    RevocationReason.CESSATION_OF_OPERATION: 5,
    RevocationReason.PRIVILEGE_WITHDRAWN: 9,
}
MEANINGS = {
    RevocationReason.UNSPECIFIED: "no reason is given",
    RevocationReason.KEY_COMPROMISE: "the private key may be known to others",
    RevocationReason.AFFILIATION_CHANGED: "the organisation named in it has changed",
    RevocationReason.SUPERSEDED: "another certificate has replaced it",
    RevocationReason.CESSATION_OF_OPERATION: "the names are no longer used",
    RevocationReason.PRIVILEGE_WITHDRAWN: "the CA was given wrong information",
}
