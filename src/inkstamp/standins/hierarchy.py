"""The simulated CAs' keys and certificates: roots, intermediates, some of them cross-signed, and leaves."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from types import MappingProxyType

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.x509.oid import AuthorityInformationAccessOID, ExtendedKeyUsageOID, NameOID

from inkstamp.files import write_bytes
from inkstamp.pki import keys
from inkstamp.pki.certificates import to_pem
from inkstamp.pki.keys import PrivateKey
from inkstamp.pki.kinds import KeyKind

PublicKey = ec.EllipticCurvePublicKey | rsa.RSAPublicKey
_YEAR = timedelta(days=365)


@dataclass(frozen=True, slots=True)
class Issuer:
    """A certificate that signs others, with its key."""

    certificate: x509.Certificate
    key: PrivateKey


def _named(common_name: str, organisation: str = "") -> x509.Name:
    attributes = [x509.NameAttribute(NameOID.ORGANIZATION_NAME, organisation)] if organisation else []
    return x509.Name([*attributes, x509.NameAttribute(NameOID.COMMON_NAME, common_name)])


def _sign(
    subject: x509.Name,
    ours: PublicKey,
    issuer: x509.Name,
    signer: PrivateKey,
    *,
    not_before: datetime,
    lifetime: timedelta,
    names: Sequence[str] = (),
    depth: int | None = None,
    issuer_url: str = "",
    status: Mapping[str, str] = MappingProxyType({}),
    policy: str = "",
) -> x509.Certificate:
    """Make a certificate: a CA's where `depth` is given, a server's where `names` are."""
    builder = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(issuer)
        .public_key(ours)
        .serial_number(x509.random_serial_number())
        .not_valid_before(not_before)
        .not_valid_after(not_before + lifetime)
        .add_extension(x509.BasicConstraints(ca=depth is not None, path_length=depth), critical=True)
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(ours), critical=False)
        .add_extension(x509.AuthorityKeyIdentifier.from_issuer_public_key(signer.public_key()), critical=False)
        .add_extension(_usage(ca=depth is not None), critical=True)
    )
    if names:
        builder = builder.add_extension(x509.SubjectAlternativeName([x509.DNSName(n) for n in names]), critical=False)
        builder = builder.add_extension(x509.ExtendedKeyUsage([ExtendedKeyUsageOID.SERVER_AUTH]), critical=False)
    if policy:
        information = x509.PolicyInformation(x509.ObjectIdentifier(policy), None)
        builder = builder.add_extension(x509.CertificatePolicies([information]), critical=False)
    ways = (
        (AuthorityInformationAccessOID.CA_ISSUERS, issuer_url),
        (AuthorityInformationAccessOID.OCSP, status.get("ocsp")),
    )
    access = [x509.AccessDescription(way, x509.UniformResourceIdentifier(url)) for way, url in ways if url]
    if access:
        builder = builder.add_extension(x509.AuthorityInformationAccess(access), critical=False)
    if "crl" in status:
        place = x509.DistributionPoint([x509.UniformResourceIdentifier(status["crl"])], None, None, None)
        builder = builder.add_extension(x509.CRLDistributionPoints([place]), critical=False)
    return builder.sign(signer, hashes.SHA256())


def _usage(*, ca: bool) -> x509.KeyUsage:
    return x509.KeyUsage(
        digital_signature=True,
        content_commitment=False,
        key_encipherment=False,
        data_encipherment=False,
        key_agreement=False,
        key_cert_sign=ca,
        crl_sign=ca,
        encipher_only=False,
        decipher_only=False,
    )


def self_signed(name: str, lifetime: timedelta, *, age: timedelta = timedelta(hours=1)) -> tuple[bytes, bytes]:
    """Make a self-signed server certificate for `name`; returns certificate and key as PEM."""
    key = keys.make(KeyKind.ECDSA_P256)
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
    certificate = _sign(
        subject,
        key.public_key(),
        subject,
        key,
        not_before=datetime.now(UTC) - age,
        lifetime=lifetime,
        names=[name],
        depth=0,
    )
    return to_pem(certificate), keys.to_pem(key)


class Keyring:
    """Keys and CA certificates below a folder, so that a restarted world is the same one."""

    def __init__(self, folder: Path, organisation: str) -> None:
        folder.mkdir(parents=True, exist_ok=True)
        self._folder = folder
        self._organisation = organisation

    def key(self, label: str) -> PrivateKey:
        """Return the key of that label, made when it is first asked for."""
        file = self._folder / f"{label}.key"
        if not file.exists():
            write_bytes(file, keys.to_pem(keys.make(KeyKind.ECDSA_P256)), mode=0o600)
        return keys.from_pem(file.read_bytes(), str(file))

    def certificate(self, label: str, subject: str, key: PrivateKey, issuer: Issuer | None, depth: int) -> Issuer:
        """Return a CA's certificate, made when it is first asked for; self-signed without an issuer."""
        file = self._folder / f"{label}.pem"
        if not file.exists():
            began = datetime.now(UTC) - _YEAR
            named = _named(subject, self._organisation)
            by, signer = (issuer.certificate.subject, issuer.key) if issuer else (named, key)
            made = _sign(named, key.public_key(), by, signer, not_before=began, lifetime=10 * _YEAR, depth=depth)
            write_bytes(file, to_pem(made))
        return Issuer(x509.load_pem_x509_certificate(file.read_bytes()), key)

    def root(self, name: str) -> Issuer:
        """Return the root of that name."""
        label = name.lower().replace(" ", "-")
        return self.certificate(label, name, self.key(label), None, 3)

    def leaf(
        self,
        public_key: PublicKey,
        names: Sequence[str],
        issuer: Issuer,
        *,
        age: timedelta = timedelta(hours=1),
        lifetime: timedelta = timedelta(days=90),
        issuer_url: str = "",
        began: datetime | None = None,
        status: Mapping[str, str] | None = None,
        policy: str = "",
    ) -> x509.Certificate:
        """Issue a server certificate that began `age` ago, or just then; `status` is where to ask for its own."""
        return _sign(
            _named(names[0]),
            public_key,
            issuer.certificate.subject,
            issuer.key,
            not_before=began or datetime.now(UTC) - age,
            lifetime=lifetime,
            names=names,
            issuer_url=issuer_url,
            status=status or {},
            policy=policy,
        )


class Hierarchy(Keyring):
    """The certificates of Quayside, the simulated ACME CA."""

    def __init__(self, folder: Path) -> None:
        super().__init__(folder, "Quayside (simulated)")
        self.roots_file = folder / "quayside-roots.pem"
        self.api_root_file = folder / "quayside-api-root.pem"
        self.api_file = folder / "quayside-api.pem"
        newer, older = self.root("Quayside Harbour Root"), self.root("Quayside Old Harbour Root")
        self.issuer = self._intermediate(newer, "a-by-harbour")
        self.cross = self._intermediate(older, "a-by-old-harbour")
        api = self.root("Quayside API Root")
        if not self.api_file.exists():
            write_bytes(self.roots_file, to_pem(newer.certificate) + to_pem(older.certificate))
            write_bytes(self.api_root_file, to_pem(api.certificate))
            key = keys.make(KeyKind.ECDSA_P256)
            leaf = self.leaf(key.public_key(), ["acme.quayside.test", "localhost"], api, lifetime=_YEAR)
            write_bytes(self.api_file, to_pem(leaf) + keys.to_pem(key), mode=0o600)

    def _intermediate(self, root: Issuer, label: str) -> Issuer:
        return self.certificate(label, "Quayside Intermediate A", self.key("intermediate-a"), root, 0)

    def issue(
        self,
        public_key: PublicKey,
        names: Sequence[str],
        began: datetime,
        lifetime: timedelta,
        status: Mapping[str, str],
    ) -> x509.Certificate:
        """Issue a server certificate; `status` is where to ask whether it is revoked, by `ocsp` and `crl`."""
        return self.leaf(public_key, names, self.issuer, began=began, lifetime=lifetime, status=status)

    def chain(self, leaf: x509.Certificate, *, alternate: bool) -> bytes:
        """Return leaf and intermediate as PEM; the alternate leads to the other root."""
        return to_pem(leaf) + to_pem((self.cross if alternate else self.issuer).certificate)


class PortalHierarchy(Keyring):
    """The certificates of Fogbell, the simulated CA with a portal: two intermediates, and a root that is cross-signed.

    Its root is young; devices that know only the one before it need the cross-certificate in between.
    """

    def __init__(self, folder: Path) -> None:
        super().__init__(folder, "Fogbell (simulated)")
        self.top = self.root("Fogbell Root 2")
        self.old = self.root("Fogbell Root 1")
        self.cross = self.certificate("root-2-by-1", "Fogbell Root 2", self.top.key, self.old, 2)
        self.upper = self.certificate("upper", "Fogbell Upper CA", self.key("upper"), self.top, 1)
        self.lower = self.certificate("lower", "Fogbell Server CA 7", self.key("lower"), self.upper, 0)
        self.roots_file = folder / "fogbell-roots.pem"
        if not self.roots_file.exists():
            write_bytes(self.roots_file, to_pem(self.top.certificate) + to_pem(self.old.certificate))
