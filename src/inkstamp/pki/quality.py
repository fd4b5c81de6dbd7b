"""What is good and bad about a certificate in itself: key, signature, transparency, demands on servers. Pure."""

from collections.abc import Sequence

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, ed448, ed25519, rsa

from inkstamp.findings import Finding, bad, note, ok, warn
from inkstamp.pki.armour import MALFORMED
from inkstamp.pki.certificates import key_kind, public_key_of, short_name

_LEAST_RSA = 2048
_ODD_RSA = 8
"""Moduli are whole bytes (Baseline Requirements section 6.1.5)."""
_CURVES = {"secp256r1", "secp384r1", "secp521r1"}
_BROKEN = (hashes.MD5, hashes.SHA1)
_WANTED_SCTS = 2
"""Browsers want two of different logs at least, more for longer lifetimes."""


def judge_keys(name: str, chain: Sequence[x509.Certificate], again: str) -> list[Finding]:
    """Judge keys and signatures of a chain as served, leaf first; what a root signs itself with does not matter.

    Args:
        name: What the findings are about.
        chain: As served.
        again: The command that gets another certificate.

    """
    found: list[Finding] = []
    for each in chain:
        trouble = _weak_key(each)
        if trouble:
            found.append(bad("key", name, f"the key of “{short_name(each.subject)}” is {trouble}", again))
        digest = _digest(each)
        if isinstance(digest, _BROKEN) and each.issuer != each.subject:
            found.append(bad("signature", name, f"“{short_name(each.subject)}” is signed with {digest.name}", again))
    if not any(each.topic == "key" for each in found):
        found.append(ok("key", name, f"{key_kind(chain[0])}, signed with {_algorithm(chain[0])}"))
    return found


def _weak_key(certificate: x509.Certificate) -> str:
    """Say why a key should not be used; empty for nothing."""
    key = public_key_of(certificate)
    if key is None:
        return "of a kind that no browser knows"
    if isinstance(key, rsa.RSAPublicKey):
        if key.key_size < _LEAST_RSA:
            return f"RSA with {key.key_size} bits, where {_LEAST_RSA} are the least"
        return f"RSA with {key.key_size} bits, which is not a multiple of 8" if key.key_size % _ODD_RSA else ""
    if isinstance(key, ec.EllipticCurvePublicKey):
        return "" if key.curve.name in _CURVES else f"on the curve {key.curve.name}, which browsers do not take"
    if isinstance(key, ed25519.Ed25519PublicKey | ed448.Ed448PublicKey):
        return "EdDSA, which browsers do not take"
    return "of a kind that browsers do not take"


def _digest(certificate: x509.Certificate) -> hashes.HashAlgorithm | None:
    try:
        return certificate.signature_hash_algorithm
    except MALFORMED:
        return None


def _algorithm(certificate: x509.Certificate) -> str:
    digest = _digest(certificate)
    return digest.name if digest is not None else "an algorithm without a digest of its own"


def demands_stapling(leaf: x509.Certificate) -> bool:
    """Tell whether a certificate wants its server to staple an OCSP answer (RFC 7633)."""
    try:
        features = leaf.extensions.get_extension_for_class(x509.TLSFeature).value
    except (x509.ExtensionNotFound, *MALFORMED):
        return False
    return x509.TLSFeatureType.status_request in features


def judge_transparency(name: str, leaf: x509.Certificate) -> Finding:
    """Count the timestamps of certificate transparency logs in `leaf` (RFC 6962 section 3.3)."""
    try:
        stamps = leaf.extensions.get_extension_for_class(x509.PrecertificateSignedCertificateTimestamps).value
        logs = {each.log_id: each.timestamp for each in stamps}
    except (x509.ExtensionNotFound, *MALFORMED):
        logs = {}
    if len(logs) >= _WANTED_SCTS:
        first = min(logs.values())  # it was logged before it was issued, and so in the sight of all
        return ok("transparency", name, f"has timestamps (SCTs) of {len(logs)} logs, the first of {first:%Y-%m-%d}")
    seen = f"has timestamps (SCTs) of {len(logs)} logs" if logs else "has no timestamp (SCT) of any log"
    return note("transparency", name, f"{seen}; browsers want two of a publicly trusted certificate")


def judge_stapling(name: str, leaf: x509.Certificate, *, stapled: bool) -> Finding | None:
    """Say what follows from whether an OCSP response is stapled; None where nothing does."""
    if demands_stapling(leaf) and not stapled:
        seen = "the certificate demands a stapled OCSP response (must-staple), and no OCSP response is stapled"
        return bad(
            "stapling", name, seen, "enable OCSP stapling in the server, or get a certificate without must-staple"
        )
    return ok("stapling", name, "an OCSP response is stapled") if stapled else None


def short_lived(leaf: x509.Certificate) -> bool:
    """Tell whether a certificate lives so briefly that it needs no revocation (Baseline Requirements section 4.9.9)."""
    return (leaf.not_valid_after_utc - leaf.not_valid_before_utc).days <= 7


def judge_serial(name: str, leaf: x509.Certificate) -> Finding | None:
    """Find a serial number that RFC 5280 section 4.1.2.2 does not allow; None for one that it does."""
    try:
        serial = leaf.serial_number
    except MALFORMED:
        serial = -1
    if serial > 0:
        return None
    return warn("serial", name, "its serial number is not positive, which some programs refuse", "get another one")
