"""What a CA's portal hands out, in any form: certificates found in ZIP, PKCS#7, PEM, DER, PKCS#12 and pasted text.

All of it comes from strangers. Sizes, counts and depths are bounded, nothing is unpacked to disk, and a piece that
says it holds a certificate and does not is an error, never left out in silence.
"""

import io
import zipfile
import zlib
from collections.abc import Callable, Iterator
from contextlib import suppress

from cryptography import x509
from cryptography.hazmat.primitives.serialization import pkcs7, pkcs12
from msgspec import Struct, field

from inkstamp.errors import BundleTrouble
from inkstamp.pki import der
from inkstamp.pki.armour import Block, blocks, strangers_bytes
from inkstamp.pki.certificates import LABELS, complete, from_der

MOST_BYTES = 16_777_216
"""Of one file, and of all that a ZIP unpacks to."""
MOST_CERTIFICATES = 2000
_MOST_ENTRIES = 5000
_DEEPEST_ZIP = 3
_MOST_ITERATIONS = 5_000_000
"""Of a password-based scheme; ten times what careful programs use."""
_MOST_BLOCK = 262_144
"""Bytes of one certificate; public ones have about two thousand."""

Passphrase = Callable[[str], bytes | None]
"""Asked with the name of an encrypted file; None when there is no passphrase to be had."""


class FoundCertificate(Struct, frozen=True):
    """A certificate and where it was."""

    where: str
    """File, and the path inside an archive behind a colon."""
    certificate: x509.Certificate


class Haul(Struct):
    """All that was found so far; grows file by file and keeps the bounds over all of them."""

    found: list[FoundCertificate] = field(default_factory=list)
    keys: list[str] = field(default_factory=list)
    """Where private keys were; they are not read."""
    nothing: list[str] = field(default_factory=list)
    """Files without a certificate."""
    _unpacked: int = 0

    @property
    def certificates(self) -> tuple[x509.Certificate, ...]:
        """The certificates alone, in the order in which they were found."""
        return tuple(each.certificate for each in self.found)

    def add(self, where: str, certificate: x509.Certificate) -> None:
        """Take a certificate in; BundleTrouble when there are more than any CA hands out."""
        if len(self.found) >= MOST_CERTIFICATES:
            raise BundleTrouble(
                f"more than {MOST_CERTIFICATES} certificates",
                where=where,
                advice="give just the files that the CA sent for this order",
            )
        self.found.append(FoundCertificate(where, certificate))

    def unpacked(self, count: int, where: str) -> None:
        """Count bytes that came out of an archive; BundleTrouble when they are too many."""
        self._unpacked += count
        if self._unpacked > MOST_BYTES:
            raise BundleTrouble(
                f"the archive unpacks to more than {MOST_BYTES // 1_048_576} MiB",
                where=where,
                advice="no CA sends that much; unpack it elsewhere and give the certificates alone",
            )


def open_into(haul: Haul, data: bytes, where: str, passphrase: Passphrase, *, _depth: int = 0) -> None:
    """Take all certificates in `data` into `haul`, whatever form it has.

    Args:
        haul: What was found so far.
        data: A whole file, `MOST_BYTES` at most.
        where: Its name, for messages.
        passphrase: Asked when a PKCS#12 file needs it.

    Raises:
        BundleTrouble: It is malformed, too large, too many, encrypted, or would write outside of its folder.

    """
    before = len(haul.found) + len(haul.keys)
    if data.startswith((b"PK\x03\x04", b"PK\x05\x06")):
        for name, content in _unzip(haul, data, where, _depth):
            open_into(haul, content, f"{where}: {name}", passphrase, _depth=_depth + 1)
        return
    if der.is_der(data):
        _take_der(haul, data, where, passphrase)
    else:
        for block in blocks(data):
            _take_block(haul, block, where, passphrase)
    if len(haul.found) + len(haul.keys) == before:
        haul.nothing.append(where)


def _take_block(haul: Haul, block: Block, where: str, passphrase: Passphrase) -> None:
    if block.label.endswith("PRIVATE KEY"):
        haul.keys.append(where)
    elif block.label in {*LABELS, "PKCS7", "CMS", "PKCS12", ""}:
        if not block.der:
            raise _malformed(where, f"what follows BEGIN {block.label} is not base64")
        _take_der(haul, block.der, where, passphrase)


def _take_der(haul: Haul, data: bytes, where: str, passphrase: Passphrase) -> None:
    """Take in one DER object; a request or another thing that holds no certificate is passed over."""
    if der.is_pkcs7(data):
        for certificate in _pkcs7(data, where):
            haul.add(where, certificate)
    elif der.is_pkcs12(data):
        for certificate in _pkcs12(haul, data, where, passphrase):
            haul.add(where, certificate)
    elif der.holds_key(data):
        haul.keys.append(where)
    elif len(data) > _MOST_BLOCK:
        raise _malformed(where, f"one certificate of {len(data)} bytes")
    elif not _is_other(data):
        haul.add(where, _certificate(data, where))


def _malformed(where: str, said: str) -> BundleTrouble:
    return BundleTrouble(
        "a certificate is malformed",
        where=where,
        said=said,
        advice="download or copy it again, whole; if the CA sent it like this, ask for another format",
    )


def _certificate(data: bytes, where: str) -> x509.Certificate:
    try:
        return from_der(data)
    except ValueError as error:
        raise _malformed(where, str(error)) from error


def _complete(certificates: list[x509.Certificate], where: str) -> list[x509.Certificate]:
    try:
        return [complete(each) for each in certificates]
    except ValueError as error:
        raise _malformed(where, str(error)) from error


def _is_other(data: bytes) -> bool:
    """Tell whether it is a request or a CRL, which lie beside certificates sometimes and do no harm."""
    for load in (x509.load_der_x509_csr, x509.load_der_x509_crl):
        with suppress(ValueError), strangers_bytes():
            load(data)
            return True
    return False


def _pkcs7(data: bytes, where: str) -> list[x509.Certificate]:
    try:
        with strangers_bytes():
            held = pkcs7.load_der_pkcs7_certificates(data)
    except ValueError as error:
        raise BundleTrouble(
            "the PKCS#7 file is malformed or holds no certificate",
            where=where,
            said=str(error),
            advice="download it again; most portals offer PEM too",
        ) from error
    return _complete(held, where)


def _pkcs12(haul: Haul, data: bytes, where: str, passphrase: Passphrase) -> list[x509.Certificate]:
    if der.most_iterations(data) > _MOST_ITERATIONS:
        raise BundleTrouble(
            "the PKCS#12 file asks for an absurd amount of work to be opened",
            where=where,
            advice="get a new one, or the certificate as PEM",
        )
    opened = _open_pkcs12(data, None)
    if opened is None:
        known = passphrase(where)
        opened = _open_pkcs12(data, known) if known is not None else None
        if opened is None:
            raise BundleTrouble(
                "the PKCS#12 file is malformed, or its passphrase is another one"
                if known is not None
                else "the PKCS#12 file needs its passphrase",
                where=where,
                advice="give the right passphrase in a file of mode 0600 with --passphrase-file",
            )
    if opened.key is not None:
        haul.keys.append(where)
    held = [opened.cert, *opened.additional_certs]
    return _complete([each.certificate for each in held if each is not None], where)


def _open_pkcs12(data: bytes, passphrase: bytes | None) -> pkcs12.PKCS12KeyAndCertificates | None:
    try:
        with strangers_bytes():
            return pkcs12.load_pkcs12(data, passphrase)
    except ValueError:
        return None


def _unzip(haul: Haul, data: bytes, where: str, depth: int) -> Iterator[tuple[str, bytes]]:
    """Give name and content of each file of an archive."""
    if depth >= _DEEPEST_ZIP:
        raise BundleTrouble("archives within archives within archives", where=where, advice="unpack it yourself")
    # Counted before the directory is read: a million entries would fill the memory.
    if data.count(b"PK\x01\x02") > _MOST_ENTRIES:
        raise BundleTrouble(f"the archive has more than {_MOST_ENTRIES} entries", where=where, advice="unpack it")
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            entries = archive.infolist()
            for each in entries:
                _refuse_entry(each, where)
            for each in entries:
                if not each.is_dir():
                    with archive.open(each) as source:
                        content = source.read(MOST_BYTES + 1)
                    haul.unpacked(len(content), where)
                    yield each.filename, content
    except (zipfile.BadZipFile, zlib.error, EOFError, OSError, ValueError, RuntimeError, IndexError) as error:
        raise BundleTrouble(
            "the ZIP file is malformed", where=where, said=str(error), advice="download it again"
        ) from error


def _refuse_entry(entry: zipfile.ZipInfo, where: str) -> None:
    """Refuse an entry that is encrypted, packed in an unusual way, or named to land elsewhere."""
    parts = entry.filename.replace("\\", "/").split("/")
    if ".." in parts or parts[0] == "" or parts[0].endswith(":"):
        raise BundleTrouble(
            "the archive has an entry that would be written outside of its folder",
            where=where,
            said=entry.filename,
            advice="do not trust this archive; get a new one from the CA itself",
        )
    if entry.flag_bits & 0x1:
        raise BundleTrouble("the archive is encrypted", where=where, said=entry.filename, advice="unpack it first")
    if entry.compress_type not in {zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED}:
        raise BundleTrouble(
            "the archive is packed in an unusual way", where=where, said=entry.filename, advice="unpack it first"
        )
