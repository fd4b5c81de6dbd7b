"""An edition for elsewhere: PKCS#12, PKCS#7, PEM in one file or several, a ZIP with all of them."""

import io
import zipfile
from collections.abc import Sequence
from enum import StrEnum

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.serialization import pkcs7, pkcs12
from msgspec import Struct

from inkstamp.clock import stamp
from inkstamp.pki import keys
from inkstamp.pki.certificates import Facts, to_pem
from inkstamp.pki.keys import PrivateKey


class Form(StrEnum):
    """What an edition is written as."""

    PKCS12 = "pkcs12"
    """Leaf, issuers and key in one encrypted file (RFC 7292): Windows, Java, appliances."""
    PKCS7 = "pkcs7"
    """Leaf and issuers, without key (RFC 2315)."""
    SERVED = "served"
    """Leaf and issuers as PEM in the order that servers send them."""
    COMBINED = "combined"
    """Leaf, issuers and key as PEM in one file."""
    SEPARATE = "separate"
    """Leaf, issuers and key as PEM, a file each."""
    ZIP = "zip"
    """All of them with a README that says which is which."""


class Goods(Struct, frozen=True, kw_only=True):
    """What is packed."""

    base: str
    """Beginning of all file names."""
    leaf: x509.Certificate
    issuers: tuple[x509.Certificate, ...]
    key: PrivateKey | None
    """None to leave it out."""
    key_text: bytes = b""
    """The key as PEM, where it is written in another way than plain or by `passphrase`."""
    passphrase: bytes | None = None
    """Of the key, wherever it stands; None leaves it open."""
    friendly_name: str = ""
    legacy: bool = False
    """Whether PKCS#12 is encrypted as programs from before 2018 want it (3DES and SHA-1)."""
    key_first: bool = False
    number: int = 0
    """Of the edition; 0 where it is none."""


class Packed(Struct, frozen=True):
    """A file to write."""

    name: str
    data: bytes
    secret: bool
    """Whether the private key is in it: mode 0600."""


def pack(goods: Goods, form: Form, facts: Facts) -> list[Packed]:
    """Return the files of that form."""
    match form:
        case Form.PKCS12:
            return [Packed(f"{goods.base}.p12", as_pkcs12(goods), goods.key is not None)]
        case Form.PKCS7:
            return [Packed(f"{goods.base}.p7b", _pkcs7(goods), secret=False)]
        case Form.SERVED:
            return [Packed(f"{goods.base}.served.pem", served(goods), secret=False)]
        case Form.COMBINED:
            return [Packed(f"{goods.base}.combined.pem", combined(goods), goods.key is not None)]
        case Form.SEPARATE:
            return _separate(goods)
        case Form.ZIP:
            return [Packed(f"{goods.base}.zip", _zip(goods, facts), goods.key is not None)]


def _pem(*certificates: x509.Certificate) -> bytes:
    return b"".join(map(to_pem, certificates))


def served(goods: Goods) -> bytes:
    """Write leaf and issuers as PEM, in the order that servers send them."""
    return _pem(goods.leaf, *goods.issuers)


def combined(goods: Goods) -> bytes:
    """Write leaf, issuers and key, if there is one, as PEM."""
    key, chain = key_pem(goods), served(goods)
    return key + chain if goods.key_first else chain + key


def key_pem(goods: Goods) -> bytes:
    """Write the key as PEM; nothing where there is none."""
    if goods.key is None:
        return b""
    return goods.key_text or keys.to_pem(goods.key, goods.passphrase)


def contents_of(form: str, goods: Goods) -> bytes:
    """Return the PEM file of an edition: `leaf`, `issuers`, `served`, `key` or `combined`."""
    match form:
        case "leaf":
            return _pem(goods.leaf)
        case "issuers":
            return _pem(*goods.issuers)
        case "key":
            return key_pem(goods)
        case "combined":
            return combined(goods)
        case _:
            return served(goods)


def _separate(goods: Goods) -> list[Packed]:
    files = [
        Packed(f"{goods.base}.leaf.pem", _pem(goods.leaf), secret=False),
        Packed(f"{goods.base}.issuers.pem", _pem(*goods.issuers), secret=False),
    ]
    if goods.key is not None:
        files.append(Packed(f"{goods.base}.key.pem", key_pem(goods), secret=True))
    return files


def _pkcs7(goods: Goods) -> bytes:
    return pkcs7.serialize_certificates([goods.leaf, *goods.issuers], serialization.Encoding.PEM)


def as_pkcs12(goods: Goods) -> bytes:
    """Write PKCS#12, encrypted if there is a passphrase."""
    encryption: serialization.KeySerializationEncryption
    if not goods.passphrase:
        encryption = serialization.NoEncryption()
    elif goods.legacy:
        encryption = (
            serialization.PrivateFormat.PKCS12.encryption_builder()
            .kdf_rounds(50_000)
            .key_cert_algorithm(pkcs12.PBES.PBESv1SHA1And3KeyTripleDESCBC)
            .hmac_hash(hashes.SHA1())  # noqa: S303  what the programs that this is for can read
            .build(goods.passphrase)
        )
    else:
        encryption = (
            serialization.PrivateFormat.PKCS12.encryption_builder()
            .kdf_rounds(200_000)
            .key_cert_algorithm(pkcs12.PBES.PBESv2SHA256AndAES256CBC)
            .hmac_hash(hashes.SHA256())
            .build(goods.passphrase)
        )
    name = goods.friendly_name.encode("utf-8") or None
    return pkcs12.serialize_key_and_certificates(name, goods.key, goods.leaf, list(goods.issuers), encryption)


def _zip(goods: Goods, facts: Facts) -> bytes:
    files = [
        *_separate(goods),
        Packed(f"{goods.base}.served.pem", served(goods), secret=False),
        Packed(f"{goods.base}.p7b", _pkcs7(goods), secret=False),
    ]
    if goods.key is not None and goods.passphrase:
        files.append(Packed(f"{goods.base}.p12", as_pkcs12(goods), secret=True))
    files.insert(0, Packed("README.txt", _readme(goods, facts, files).encode("utf-8"), secret=False))
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for each in files:
            entry = zipfile.ZipInfo(each.name, facts.not_before.timetuple()[:6])
            entry.compress_type = zipfile.ZIP_DEFLATED
            entry.external_attr = (0o100600 if each.secret else 0o100644) << 16
            archive.writestr(entry, each.data)
    return out.getvalue()


_MEANING = {
    ".leaf.pem": "the certificate itself",
    ".issuers.pem": "the intermediate certificates, the nearest first",
    ".served.pem": "certificate and intermediates in one file, as most web servers want them",
    ".key.pem": "the private key; whoever has it can pose as these names",
    ".p7b": "certificate and intermediates as PKCS#7",
    ".p12": "certificate, intermediates and private key as PKCS#12",
}


def _readme(goods: Goods, facts: Facts, files: Sequence[Packed]) -> str:
    closed = "encrypted with the passphrase that you chose" if goods.passphrase else "NOT encrypted"
    lines = [
        f"Certificate for {', '.join(facts.names)}",
        f"issued by {facts.issuer}, valid until {stamp(facts.not_after)}",
        f"serial {facts.serial}",
        f"SHA-256 {facts.sha256}",
        "",
    ]
    for each in files:
        told = _MEANING[each.name.removeprefix(goods.base)]
        lines.append(f"{each.name:<{len(goods.base) + 14}}{told}{f' ({closed})' if each.secret else ''}")
    return "\n".join([*lines, ""])
