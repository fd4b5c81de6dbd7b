"""Certificate signing requests (PKCS#10, RFC 2986): made, read, and judged as a CA would."""

import hashlib
import ipaddress
from collections.abc import Sequence

from cryptography import x509
from cryptography.exceptions import InvalidSignature, UnsupportedAlgorithm
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec, padding, rsa
from cryptography.x509.oid import NameOID
from msgspec import Struct

from inkstamp.errors import NameTrouble, RequestUnreadable
from inkstamp.findings import Finding, bad, ok, warn
from inkstamp.pki.armour import MALFORMED, blocks, strangers_bytes
from inkstamp.pki.certifiable import examine_names
from inkstamp.pki.keys import PrivateKey, PublicKey, describe, examine_key
from inkstamp.pki.kinds import SUBJECT_WORDS
from inkstamp.pki.names import as_address, normalise
from inkstamp.pki.subject import LIMITS, Subject, examine_subject

_LABELS = {"CERTIFICATE REQUEST", "NEW CERTIFICATE REQUEST", ""}
"""RFC 7468 section 7; the second one is what older programs write."""
_OIDS = {
    "common_name": NameOID.COMMON_NAME,
    "organisation": NameOID.ORGANIZATION_NAME,
    "unit": NameOID.ORGANIZATIONAL_UNIT_NAME,
    "locality": NameOID.LOCALITY_NAME,
    "state": NameOID.STATE_OR_PROVINCE_NAME,
    "country": NameOID.COUNTRY_NAME,
    "email": NameOID.EMAIL_ADDRESS,
}
_FIELDS = {oid: name for name, oid in _OIDS.items()}
_ORDER = ("country", "state", "locality", "organisation", "unit", "common_name", "email")
"""From the widest to the narrowest, as distinguished names are written (X.520)."""


class Wanted(Struct, frozen=True, kw_only=True):
    """What a request asks for."""

    subject: Subject
    names: tuple[str, ...]
    """Normalised DNS names."""
    addresses: tuple[str, ...] = ()
    """IP addresses."""


class RequestFacts(Struct, frozen=True, kw_only=True):
    """What is worth showing of a request."""

    subject: tuple[tuple[str, str], ...]
    """Field and value, in the request's order; a field's OID where it has no usual name."""
    names: tuple[str, ...]
    """DNS names, as written."""
    addresses: tuple[str, ...]
    others: tuple[str, ...]
    """Alternative names of other kinds, with their kind."""
    key: str
    """As in `ecdsa-p256`."""
    signature: str
    """Digest that the signature was made with, as in `sha256`."""
    md5: str
    sha1: str
    sha256: str
    """Digests of the DER, lower-case hexadecimal; portals name proofs by them."""
    findings: tuple[Finding, ...]


def for_names(names: Sequence[str], subject: Subject | None = None) -> Wanted:
    """Say what to ask for when only names and addresses, and perhaps an organisation, are known.

    The first DNS name that is short enough is also the common name: some devices still show it, and RFC 8555
    section 7.4 wants it among the order's names. A request whose names are all too long has none.
    """
    addresses = tuple(name for name in names if as_address(name))
    hosts = tuple(name for name in names if name not in addresses)
    common = next((name for name in hosts if len(name) <= LIMITS["common_name"]), "")
    known = dict((subject or Subject()).given()) | {"common_name": common}
    return Wanted(subject=Subject(**known), names=hosts, addresses=addresses)


def with_common_name(wanted: Wanted, common_name: str) -> Wanted:
    """Take another common name than the first of the names; in A-labels, as the names are, where it is a name."""
    try:
        common_name = normalise(common_name)
    except NameTrouble:
        common_name = common_name.strip()
    known = dict(wanted.subject.given()) | {"common_name": common_name}
    return Wanted(subject=Subject(**known), names=wanted.names, addresses=wanted.addresses)


def make(key: PrivateKey, wanted: Wanted) -> bytes:
    """Make a request signed with `key`; returned as DER. What `examine` calls bad must have been refused before."""
    given = dict(wanted.subject.given())
    attributes = [x509.NameAttribute(_OIDS[name], given[name]) for name in _ORDER if name in given]
    alternatives: list[x509.GeneralName] = [x509.DNSName(name) for name in wanted.names]
    alternatives += [x509.IPAddress(ipaddress.ip_address(each)) for each in wanted.addresses]
    builder = x509.CertificateSigningRequestBuilder().subject_name(x509.Name(attributes))
    if alternatives:
        builder = builder.add_extension(x509.SubjectAlternativeName(alternatives), critical=False)
    strong = isinstance(key, ec.EllipticCurvePrivateKey) and key.curve.key_size > 256
    request = builder.sign(key, hashes.SHA384() if strong else hashes.SHA256())
    return request.public_bytes(serialization.Encoding.DER)


def to_pem(der: bytes) -> bytes:
    """Write a request as the block that portals take (RFC 7468 section 7)."""
    return x509.load_der_x509_csr(der).public_bytes(serialization.Encoding.PEM)


def examine(wanted: Wanted, *, private: bool) -> list[Finding]:
    """Find what a CA would refuse or ask about in what is wanted; `private` as in `examine_names`."""
    return [
        *examine_subject(wanted.subject),
        *examine_names(wanted.subject.common_name, wanted.names, wanted.addresses, private=private),
    ]


def read(data: bytes, where: str) -> bytes:
    """Find the one request in `data` (DER, or PEM with any text around it) and return its DER.

    Raises:
        RequestUnreadable: There is none, there are several different ones, or it is malformed.

    """
    if data[:1] == b"\x30":
        found = {data}
    else:
        known = blocks(data)
        found = {block.der for block in known if block.label in _LABELS}
        if not found and known:
            held = ", ".join(sorted({block.label for block in known}))
            raise RequestUnreadable(
                f"{where} holds no CSR", where=where, said=f"it holds: {held}", advice="name the file with the CSR"
            )
    if len(found) != 1:
        raise RequestUnreadable(
            f"{where} holds {len(found) or 'no'} CSR{'s'[: len(found) > 1]}",
            where=where,
            advice="give one: from the line BEGIN CERTIFICATE REQUEST to the line END CERTIFICATE REQUEST",
        )
    (der,) = found
    _load(der, where)
    return der


def _load(der: bytes, where: str) -> x509.CertificateSigningRequest:
    try:
        with strangers_bytes():
            return x509.load_der_x509_csr(der)
    except ValueError as error:
        raise RequestUnreadable(
            f"the CSR in {where} is malformed",
            where=where,
            said=str(error),
            advice="copy it again, whole: from the first dash of BEGIN to the last one of END",
        ) from error


def public_key(der: bytes, where: str) -> PublicKey:
    """Return the key that a request is for; RequestUnreadable when it is malformed, or no ECDSA or RSA key."""
    request = _load(der, where)
    try:
        with strangers_bytes():
            key = request.public_key()
    except MALFORMED as error:
        raise RequestUnreadable(
            f"the key of the CSR in {where} cannot be read", where=where, said=str(error), advice="make a new one"
        ) from error
    if not isinstance(key, ec.EllipticCurvePublicKey | rsa.RSAPublicKey):
        raise RequestUnreadable(
            f"the CSR in {where} is for a key of an algorithm that CAs do not accept",
            where=where, said=describe(key), advice="make one for an ECDSA or RSA key",
        )  # fmt: skip
    return key


def names_of(known: RequestFacts) -> tuple[str, ...]:
    """Return the names that a request asks for, normalised: the alternative names, and the common name that is one.

    RFC 8555 section 7.4 has CAs count both. What cannot be normalised is among the findings, and left out.
    """
    common = next((value for field, value in known.subject if field == "common_name"), "")
    found = []
    for each in (*known.names, *known.addresses, common):
        address = as_address(each)
        try:
            found.append(address or normalise(each))
        except NameTrouble:
            continue
    return tuple(dict.fromkeys(found))


def facts(der: bytes, where: str, *, private: bool) -> RequestFacts:
    """Gather what is shown of the request `der`, with findings; RequestUnreadable when a part is malformed."""
    request = _load(der, where)
    try:
        with strangers_bytes():
            subject = tuple((_field(each.oid), str(each.value)) for each in request.subject)
            dns, addresses, others = _alternatives(request)
            findings = _judge(request, subject, dns, addresses, private=private)
            key = _key(request)
    except ValueError as error:
        raise RequestUnreadable(
            f"a part of the CSR in {where} is malformed", where=where, said=str(error), advice="make a new one"
        ) from error
    digest = _digest(request)
    return RequestFacts(
        subject=subject,
        names=dns,
        addresses=addresses,
        others=others,
        key=key,
        signature=digest,
        md5=hashlib.md5(der, usedforsecurity=False).hexdigest(),
        sha1=hashlib.sha1(der, usedforsecurity=False).hexdigest(),
        sha256=hashlib.sha256(der).hexdigest(),
        findings=tuple(findings),
    )


def _field(oid: x509.ObjectIdentifier) -> str:
    return _FIELDS.get(oid) or oid.dotted_string


def _key(request: x509.CertificateSigningRequest) -> str:
    try:
        return describe(request.public_key())
    except MALFORMED:
        return "unknown"


def _digest(request: x509.CertificateSigningRequest) -> str:
    try:
        algorithm = request.signature_hash_algorithm
    except UnsupportedAlgorithm:
        return request.signature_algorithm_oid.dotted_string
    return algorithm.name if algorithm is not None else "built in"


def _alternatives(
    request: x509.CertificateSigningRequest,
) -> tuple[tuple[str, ...], tuple[str, ...], tuple[str, ...]]:
    try:
        names = request.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    except x509.ExtensionNotFound:
        return (), (), ()
    others = []
    for each in names:
        if not isinstance(each, x509.DNSName | x509.IPAddress):
            value = each.value
            text = value.rfc4514_string() if isinstance(value, x509.Name) else str(value)
            others.append(f"{type(each).__name__} {text}")
    addresses = tuple(str(each) for each in names.get_values_for_type(x509.IPAddress))
    return tuple(names.get_values_for_type(x509.DNSName)), addresses, tuple(others)


def _judge(
    request: x509.CertificateSigningRequest,
    subject: Sequence[tuple[str, str]],
    dns: Sequence[str],
    addresses: Sequence[str],
    *,
    private: bool,
) -> list[Finding]:
    findings = [_signature(request)]
    try:
        findings += examine_key(request.public_key(), owner="the key")
    except MALFORMED as error:
        findings.append(bad("key", "the key", f"is of a kind that cannot be read ({error})", "use ECDSA or RSA"))
    if _digest(request) in {"md5", "sha1"}:
        findings.append(warn("signature", "the CSR", f"is signed with {_digest(request)}", "make a new one"))
    known = {}
    for name, value in subject:
        if name in known:
            findings.append(warn("subject", SUBJECT_WORDS[name], "is there twice", "CAs take one"))
        if name in SUBJECT_WORDS:
            known[name] = value
    names = []
    for each in dns:
        try:
            names.append(normalise(each))
        except NameTrouble as error:
            findings.append(bad("names", each, error.what, error.advice))
    wanted = Wanted(subject=Subject(**known), names=tuple(names), addresses=tuple(addresses))
    return findings + examine(wanted, private=private)


def _signature(request: x509.CertificateSigningRequest) -> Finding:
    if _is_signed(request):
        return ok("signature", "the CSR", "is signed with the key that it holds")
    return bad("signature", "the CSR", "has a signature that is not right", "it was changed after it was made")


def _is_signed(request: x509.CertificateSigningRequest) -> bool:
    try:
        if request.is_signature_valid:
            return True
        # The library calls signatures with MD5 invalid without looking; a person wants to know which it is.
        key, digest = request.public_key(), request.signature_hash_algorithm
        if isinstance(key, rsa.RSAPublicKey) and isinstance(digest, hashes.MD5):
            key.verify(request.signature, request.tbs_certrequest_bytes, padding.PKCS1v15(), digest)
            return True
    except (InvalidSignature, *MALFORMED):
        return False
    return False
