"""A look at DER without reading it: only what must be known before a library is let at a stranger's file."""

_SEQUENCE, _INTEGER, _OCTETS, _PIECES = 0x30, 0x02, 0x04, 0x24
_LONG = (b"\x30\x80", b"\x30\x82", b"\x30\x83", b"\x30\x84")
"""How sequences of more than 255 bytes begin, and those that tell no length."""
_UNTOLD = 1 << 62
_DEEPEST = 40
_MOST = 200_000

SIGNED_DATA = bytes.fromhex("06092a864886f70d010702")
"""The object identifier of PKCS#7 signed data (RFC 2315 section 14), with its tag."""


def is_der(data: bytes) -> bool:
    """Tell whether a file's bytes are meant as DER (or BER): a long sequence, or a short one that fits exactly."""
    if data[:2] in _LONG:
        return True
    head = _header(data, 0, len(data))
    return head is not None and head[0] == _SEQUENCE and head[2] == len(data)


def is_pkcs7(data: bytes) -> bool:
    """Tell whether a sequence says of itself that it is PKCS#7 signed data."""
    return SIGNED_DATA in data[:24]


def is_pkcs12(data: bytes) -> bool:
    """Tell whether a sequence begins as PKCS#12 does: with version 3 (RFC 7292 section 4)."""
    head = _header(data, 0, len(data))
    return head is not None and data[head[1] : head[1] + 3] == b"\x02\x01\x03"


def holds_key(data: bytes) -> bool:
    """Tell whether a sequence begins as private keys do: with a small version number (RFC 5958, 8017, 5915)."""
    head = _header(data, 0, len(data))
    return head is not None and data[head[1] : head[1] + 2] == b"\x02\x01" and not is_pkcs12(data)


def most_iterations(data: bytes) -> int:
    """Return the largest iteration count of a password-based scheme in `data`.

    All of them stand in a sequence behind the salt: PBES1 (RFC 8018 appendix A.3), PBKDF2 (appendix A.2) and the
    MAC of PKCS#12 (RFC 7292 section 4). A forged one would keep the library busy for years. Where octets come in
    pieces (BER), nothing can be told, and the answer is larger than any allowed.
    """
    largest = 0
    waiting = [(0, len(data), 0, False)]
    count = 0
    while waiting:
        at, limit, depth, inside_octets = waiting.pop()
        before = 0
        while at < limit:
            head = _header(data, at, limit)
            count += 1
            if count > _MOST or depth > _DEEPEST or (head is not None and head[0] == _PIECES):
                return _UNTOLD
            if head is None or head[2] > limit:
                if inside_octets:
                    break  # a salt or a ciphertext, no DER
                return _UNTOLD
            tag, start, end = head
            if tag == _INTEGER and before == _OCTETS:
                largest = max(largest, int.from_bytes(data[start:end], "big"))
            if tag & 0x20 or (tag == _OCTETS and _holds_sequence(data, start, end)):
                waiting.append((start, end, depth + 1, inside_octets or tag == _OCTETS))
            before, at = tag, end
    return largest


def _holds_sequence(data: bytes, start: int, end: int) -> bool:
    """Tell whether octets may be an encoding themselves; those of salts and ciphertexts say nothing, and seldom do."""
    head = _header(data, start, end)
    return head is not None and head[0] == _SEQUENCE and head[2] <= end


def _header(data: bytes, at: int, limit: int) -> tuple[int, int, int] | None:
    """Return tag, start and end of the element at `at`; None when it has no proper header."""
    if at + 2 > limit:
        return None
    tag, length, start = data[at], data[at + 1], at + 2
    if length & 0x80:
        count = length & 0x7F
        if not 0 < count <= 4 or start + count > limit:
            return None
        length = int.from_bytes(data[start : start + count], "big")
        start += count
    return tag, start, start + length
