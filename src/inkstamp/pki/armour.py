"""Text around binary: PEM as people really send it (RFC 7468, and what editors and mail programs make of it)."""

import base64
import binascii
import codecs
import re
from collections.abc import Iterator
from contextlib import contextmanager

from cryptography import x509
from cryptography.exceptions import UnsupportedAlgorithm
from msgspec import Struct

from inkstamp.errors import InkStampError

MALFORMED = (
    ValueError,
    TypeError,
    LookupError,
    ArithmeticError,
    AttributeError,
    UnsupportedAlgorithm,
    x509.InvalidVersion,
    x509.DuplicateExtension,
    x509.UnsupportedGeneralNameType,
)
"""What the library raises for requests and certificates that are not right (TypeError: odd values in a name)."""

_BEGIN = b"-----BEGIN "
_LONGEST_LINE = 128
"""Bytes of what may stand behind END on its line."""
_MARK = re.compile(rb"-----(?:BEGIN ([A-Z0-9][A-Z0-9 #]{0,60}(?:-[A-Z0-9 #]{1,60}){0,3})-----|END )")
"""Where a block begins, with its label, or ends; each is found in bounded time, so that all of a text is."""
_BASE64 = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/="
_NOT_BASE64 = bytes(set(range(256)) - set(_BASE64))


class Block(Struct, frozen=True):
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
    is nothing but base64 of a DER sequence counts as one block with an empty label. The text is gone through once.
    """
    text = as_text(data)
    found: list[Block] = []
    begun: tuple[bytes, int] | None = None
    for mark in _MARK.finditer(text):
        if mark[1] is not None:
            begun = mark[1], mark.end()  # a block that was cut off before it is passed over: this one may be whole
        elif begun is not None:
            label, inside = begun
            found.append(Block(label.decode("ascii"), _base64(text[inside : mark.start()])))
            begun = None
    if not found and text.lstrip()[:2] == b"MI" and not text.strip().translate(None, _BASE64 + b" \t\r\n\f\v"):
        der = _base64(text)
        if der:
            found.append(Block("", der))
    return found


def certificates_in(data: bytes) -> bytes:
    """Return the PEM certificates of a file as they stand there, each with its lines, and nothing of what is beside
    them.
    """
    found: list[bytes] = []
    begun, behind = -1, 0
    for mark in _MARK.finditer(data):
        if mark[1] is not None:
            is_one = mark[1].endswith(b"CERTIFICATE")
            begun = max(data.rfind(b"\n", behind, mark.start()) + 1, behind) if is_one else -1
        elif begun >= 0:
            ends = data.find(b"\n", mark.end(), mark.end() + _LONGEST_LINE)
            behind = ends + 1 if ends >= 0 else min(mark.end() + _LONGEST_LINE, len(data))
            found.append(data[begun:behind])
            begun = -1
    return b"".join(found)


def _base64(text: bytes) -> bytes:
    """Decode the inside of a block, RFC 1421 headers (`Proc-Type: …`) left out; empty when it is not base64."""
    if b":" in text:
        text = b"\n".join(line for line in text.splitlines() if b":" not in line)
    try:
        return base64.b64decode(text.translate(None, _NOT_BASE64), validate=True)
    except binascii.Error:
        return b""


@contextmanager
def strangers_bytes() -> Iterator[None]:
    """Turn whatever a library raises while it reads a stranger's bytes into ValueError.

    The library for X.509 reads lazily and raises many things for what is odd, from KeyError to the panics of the
    language that it is written in, which are no Exception. What is read inside must be all that is used afterwards.
    """
    try:
        yield
    except (ValueError, InkStampError, KeyboardInterrupt, SystemExit, GeneratorExit):
        raise
    except BaseException as error:
        raise ValueError(f"{type(error).__name__}: {error}") from error
