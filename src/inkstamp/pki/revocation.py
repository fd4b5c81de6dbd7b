"""Whether a certificate is revoked: OCSP (RFC 6960) and CRLs (RFC 5280 section 5), as bytes in and an answer out."""

import base64
from datetime import datetime, timedelta

from cryptography import x509
from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, padding, rsa
from cryptography.hazmat.primitives.serialization import Encoding
from cryptography.x509 import ocsp
from cryptography.x509.oid import AuthorityInformationAccessOID, ExtendedKeyUsageOID
from msgspec import Struct

from inkstamp.pki.aia import access_urls, is_web
from inkstamp.pki.armour import MALFORMED, strangers_bytes

_SKEW = timedelta(minutes=5)
_MOST_URLS = 4


class Status(Struct, frozen=True):
    """What a CA says of a certificate."""

    revoked: datetime | None
    """When it was revoked; aware, UTC; None for one that is good."""
    reason: str
    """Why, as RFC 5280 section 5.3.1 names it; empty when none is given."""
    until: datetime | None
    """When the CA will have newer word; aware, UTC; None when it does not say."""


def ocsp_urls(leaf: x509.Certificate, issuer: x509.Certificate) -> tuple[str, ...]:
    """Return where to ask for the status of `leaf`, each with the request in it (RFC 6960 appendix A.1)."""
    # RFC 5019 section 2.1.1 wants SHA-1 here, where it only names the issuer.
    try:
        with strangers_bytes():
            request = ocsp.OCSPRequestBuilder().add_certificate(leaf, issuer, hashes.SHA1()).build()  # noqa: S303
    except ValueError:
        return ()
    text = base64.b64encode(request.public_bytes(Encoding.DER)).decode()
    quoted = text.replace("+", "%2B").replace("/", "%2F").replace("=", "%3D")
    return tuple(f"{url.rstrip('/')}/{quoted}" for url in access_urls(leaf, AuthorityInformationAccessOID.OCSP))


def crl_urls(leaf: x509.Certificate) -> tuple[str, ...]:
    """Return where the CRL that would list `leaf` can be had (RFC 5280 section 4.2.1.13)."""
    try:
        points = leaf.extensions.get_extension_for_class(x509.CRLDistributionPoints).value
    except (x509.ExtensionNotFound, *MALFORMED):
        return ()
    names = [name for point in points if not point.reasons for name in point.full_name or ()]
    urls = [str(name.value) for name in names if isinstance(name, x509.UniformResourceIdentifier)]
    return tuple(url for url in urls if is_web(url))[:_MOST_URLS]


def read_ocsp(data: bytes, leaf: x509.Certificate, issuer: x509.Certificate, now: datetime) -> Status:
    """Read an OCSP response about `leaf`.

    Raises:
        ValueError: It is none, is about another certificate, is not signed by the CA or for it, or is out of date.

    """
    with strangers_bytes():
        answer = ocsp.load_der_ocsp_response(data)
        if answer.response_status is not ocsp.OCSPResponseStatus.SUCCESSFUL:
            raise ValueError(f"the responder says {answer.response_status.name.lower().replace('_', ' ')}")
        if answer.serial_number != leaf.serial_number:
            raise ValueError("it is about another certificate")
        signer = _responder(answer, issuer, now)
        algorithm = answer.signature_hash_algorithm
        _verify(signer, answer.signature, answer.tbs_response_bytes, algorithm)
        _in_time(answer.this_update_utc, answer.next_update_utc, now)
        if answer.certificate_status is ocsp.OCSPCertStatus.GOOD:
            return Status(None, "", answer.next_update_utc)
        if answer.certificate_status is ocsp.OCSPCertStatus.UNKNOWN:
            raise ValueError("the responder does not know the certificate")
        why = answer.revocation_reason.value if answer.revocation_reason else ""
        return Status(answer.revocation_time_utc, why, answer.next_update_utc)


def _responder(answer: ocsp.OCSPResponse, issuer: x509.Certificate, now: datetime) -> x509.Certificate:
    """Return the certificate that may sign: the issuer's, or one that it gave for this (RFC 6960 section 4.2.2.2)."""
    for each in answer.certificates:
        if each == issuer:
            continue
        if not _signs_ocsp(each):
            raise ValueError("its signer may not sign such answers")
        try:
            each.verify_directly_issued_by(issuer)
        except InvalidSignature as error:
            raise ValueError("its signer's certificate is not of this CA") from error
        if not each.not_valid_before_utc <= now <= each.not_valid_after_utc:
            raise ValueError("its signer's certificate is not valid now")
        return each
    return issuer


def _signs_ocsp(certificate: x509.Certificate) -> bool:
    """Tell whether its CA made a certificate for this; one that says no purpose at all was not (section 4.2.2.2)."""
    try:
        usages = certificate.extensions.get_extension_for_class(x509.ExtendedKeyUsage).value
    except x509.ExtensionNotFound:
        return False
    return ExtendedKeyUsageOID.OCSP_SIGNING in usages


def open_crl(data: bytes, issuer: x509.Certificate, now: datetime) -> x509.CertificateRevocationList:
    """Read a CRL, DER or PEM.

    Raises:
        ValueError: It is none, is not signed by `issuer`, or is out of date.

    """
    with strangers_bytes():
        pem = data.lstrip().startswith(b"-----")
        crl = x509.load_pem_x509_crl(data) if pem else x509.load_der_x509_crl(data)
        if crl.issuer != issuer.subject:
            raise ValueError("it is of another CA")
        _verify(issuer, crl.signature, crl.tbs_certlist_bytes, crl.signature_hash_algorithm)
        _in_time(crl.last_update_utc, crl.next_update_utc, now)
        return crl


def look_up(crl: x509.CertificateRevocationList, leaf: x509.Certificate) -> Status:
    """Look `leaf` up in a CRL of its issuer; ValueError when its entry cannot be read."""
    with strangers_bytes():
        entry = crl.get_revoked_certificate_by_serial_number(leaf.serial_number)
        if entry is None:
            return Status(None, "", crl.next_update_utc)
        try:
            why = entry.extensions.get_extension_for_class(x509.CRLReason).value.reason.value
        except (x509.ExtensionNotFound, *MALFORMED):
            why = ""
        return Status(entry.revocation_date_utc, why, crl.next_update_utc)


def _verify(signer: x509.Certificate, signature: bytes, signed: bytes, algorithm: hashes.HashAlgorithm | None) -> None:
    key = signer.public_key()
    try:
        if isinstance(key, rsa.RSAPublicKey) and algorithm is not None:
            key.verify(signature, signed, padding.PKCS1v15(), algorithm)
        elif isinstance(key, ec.EllipticCurvePublicKey) and algorithm is not None:
            key.verify(signature, signed, ec.ECDSA(algorithm))
        else:
            raise ValueError("its signature is of a kind that CAs do not use")
    except InvalidSignature as error:
        raise ValueError("its signature is wrong") from error


def _in_time(begin: datetime, end: datetime | None, now: datetime) -> None:
    if begin > now + _SKEW or (end is not None and end < now - _SKEW):
        raise ValueError(f"it is out of date: from {begin:%Y-%m-%d %H:%M} on, until {end or begin:%Y-%m-%d %H:%M}")
