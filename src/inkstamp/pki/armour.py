"""Text around binary: PEM as people really send it (RFC 7468, and what editors and mail programs make of it)."""

import base64
import binascii
import codecs
import re
from dataclasses import dataclass

from cryptography import x509
from cryptography.exceptions import UnsupportedAlgorithm

MALFORMED = (
    ValueError,
    TypeError,
    UnsupportedAlgorithm,
    x509.InvalidVersion,
    x509.DuplicateExtension,
    x509.UnsupportedGeneralNameType,
)
"""What the library raises for requests and certificates that are not right (TypeError: odd values in a name)."""

_BEGIN, _END, _DASHES = b"-----BEGIN ", b"-----END ", b"-----"
_LABEL = re.compile(rb"[A-Z0-9][A-Z0-9 #-]{0,60}")
_NOT_BASE64 = re.compile(rb"[^A-Za-z0-9+/=]")
_BARE = re.compile(rb"\s*MI[A-Za-z0-9+/\s]+={0,2}\s*")


@dataclass(frozen=True, slots=True)
class Block:
    """One PEM block."""

    label: str
    """What the BEGIN line says, as in `CERTIFICATE`."""
    der: bytes
    """Empty when what stands between the lines is not base64."""


def as_text(data: bytes) -> bytes:
    """Return `data` in one byte a character where an editor saved UTF-16, and without a byte order mark."""
    for mark, codec in ((codecs.BOM_UTF16_LE, "utf-16-le"), (codecs.BOM_UTF16_BE, "utf-16-be")):
        # Without a mark, a pair that begins at an odd place belongs to the other byte order.
        if data.startswith(mark) or data.find(_BEGIN.decode().encode(codec)) % 2 == 0:
            return data.removeprefix(mark).decode(codec, "replace").encode("ascii", "replace")
    return data.removeprefix(codecs.BOM_UTF8)


def blocks(data: bytes) -> list[Block]:
    """Return all PEM blocks of `data` in their order, whatever stands between them.

    Windows line ends, a byte order mark, UTF-16, indentation and the `>` of a quoted mail do no harm. Text that
    is nothing but base64 of a DER sequence counts as one block with an empty label.
    """
    text = as_text(data)
    found: list[Block] = []
    at = text.find(_BEGIN)
    while at >= 0:
        label_ends = text.find(_DASHES, at + len(_BEGIN))
        end = text.find(_END, at + len(_BEGIN))
        if label_ends < 0 or end < 0:
            break
        label = text[at + len(_BEGIN) : label_ends]
        again = text.find(_BEGIN, at + len(_BEGIN))
        if 0 <= again < end:  # a block that was cut off; the next one may be whole
            at = again
            continue
        if label_ends < end and _LABEL.fullmatch(label):
            found.append(Block(label.decode("ascii"), _base64(text[label_ends + len(_DASHES) : end])))
        at = text.find(_BEGIN, end)
    if not found and _BARE.fullmatch(text):
        der = _base64(text)
        if der:
            found.append(Block("", der))
    return found


def _base64(text: bytes) -> bytes:
    """Decode the inside of a block, RFC 1421 headers (`Proc-Type: …`) left out; empty when it is not base64."""
    lines = [line for line in text.splitlines() if b":" not in line]
    try:
        return base64.b64decode(_NOT_BASE64.sub(b"", b"".join(lines)), validate=True)
    except binascii.Error:
        return b""
