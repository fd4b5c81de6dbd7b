"""What a certificate says that its CA has vetted before it issued."""

from cryptography import x509

from inkstamp.pki.kinds import ValidationLevel

LEVELS: dict[str, ValidationLevel] = {
    "2.23.140.1.2.1": "DV",
    "2.23.140.1.2.2": "OV",
    "2.23.140.1.2.3": "IV",
    "2.23.140.1.1": "EV",
}
"""By the policy identifiers that the CA/Browser Forum reserved (Baseline Requirements section 7.1.6.1)."""


def validation_level(certificate: x509.Certificate) -> ValidationLevel | None:
    """Return what the CA vetted by its own word; None where the certificate has none of the reserved policies."""
    try:
        policies = certificate.extensions.get_extension_for_class(x509.CertificatePolicies).value
    except x509.ExtensionNotFound:
        return None
    found = [LEVELS[each.policy_identifier.dotted_string] for each in policies
             if each.policy_identifier.dotted_string in LEVELS]  # fmt: skip
    return max(found, key=list(LEVELS.values()).index, default=None)
