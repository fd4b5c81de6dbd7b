"""Questions of several types for one name to a DNS resolver, in one go over UDP (RFC 1035 section 4.2.1).

The short way, for the answers that nearly all questions get. Whatever else comes (nothing, a failure, an answer that is
cut off or cannot be read) is left to the DNS library's resolver, which knows what to do about it.
"""

import secrets
import socket
import struct
import time
from collections.abc import Sequence
from contextlib import suppress

import dns.exception
import dns.flags
import dns.message
import dns.name
import dns.rcode
import dns.rdataclass
import dns.rdatatype
from msgspec import Struct

from inkstamp.pki.names import as_address

_HEADER = struct.Struct("!6H")
"""Identifier, flags, and how many questions, answers, authority and additional records (RFC 1035 section 4.1.1)."""
_MOST = 65_535
_MOST_DATAGRAMS = 32
"""Datagrams that are looked at: who answers each question twice is not to be listened to without end."""
_RCODE = 0x000F


class ResolverReply(Struct, frozen=True):
    """A resolver's answer to one question: that the name does not exist, or its records of that type."""

    exists: bool
    records: tuple[object, ...]
    """The library's record data, aliases followed as far as the answer does; empty when there are none."""
    secure: bool
    """The AD flag (RFC 4035 section 3.2.3)."""


def exchange(
    place: tuple[str, int], name: str, kinds: Sequence[dns.rdatatype.RdataType], flags: int, seconds: float
) -> dict[dns.rdatatype.RdataType, ResolverReply]:
    """Ask the resolver at `place` for the records of each type; returns the answers that can be taken as they are.

    The source port is another one each time and the socket is connected, so that what others send does not arrive
    (RFC 5452 section 9.2); what arrives counts by its identifier and the question that it repeats.

    Args:
        place: Address and port of the resolver.
        name: What is asked about, without a dot at the end.
        kinds: The types.
        flags: Of the header, as RD.
        seconds: For all answers together.

    Raises:
        ConnectionRefusedError: Nobody listens there (ICMP port unreachable).

    """
    if not as_address(place[0].partition("%")[0]):
        return {}
    found: dict[dns.rdatatype.RdataType, ResolverReply] = {}
    family = socket.AF_INET6 if ":" in place[0] else socket.AF_INET
    nobody = None
    with suppress(dns.exception.DNSException, OSError, ValueError, struct.error):  # no socket, no way there, too late
        wire = dns.name.from_text(name + ".").to_wire() or b""
        with socket.socket(family, socket.SOCK_DGRAM) as stream:
            stream.connect(place)
            waiting = {}
            for kind in kinds:
                number = secrets.randbits(16)
                asked = wire + struct.pack("!2H", kind, dns.rdataclass.IN)
                stream.send(_HEADER.pack(number, flags, 1, 0, 0, 0) + asked)
                waiting[asked] = (kind, number)
            try:
                _take(stream, waiting, found, seconds)
            except ConnectionRefusedError as error:
                nobody = error
    if nobody is not None and not found:
        raise nobody
    return found


def _take(
    stream: socket.socket,
    waiting: dict[bytes, tuple[dns.rdatatype.RdataType, int]],
    found: dict[dns.rdatatype.RdataType, ResolverReply],
    seconds: float,
) -> None:
    """Take answers as they come, until each question has one or time is over (TimeoutError)."""
    end = time.monotonic() + seconds
    size = len(next(iter(waiting), b""))
    for _ in range(_MOST_DATAGRAMS):
        stream.settimeout(max(end - time.monotonic(), 0.001))
        data = stream.recv(_MOST)
        asked = data[_HEADER.size : _HEADER.size + size]
        kind, number = waiting.get(asked, (None, -1))
        if kind is None or len(data) < _HEADER.size or _HEADER.unpack_from(data)[0] != number:
            continue
        del waiting[asked]
        reply = _read(data)
        if reply is not None:
            found[kind] = reply
        if not waiting:
            return


def _read(data: bytes) -> ResolverReply | None:
    """Read an answer to our question; None where it is not to be taken as it is."""
    number, flags, questions, answers, _, _ = _HEADER.unpack_from(data)
    failed = flags & _RCODE not in {dns.rcode.NOERROR, dns.rcode.NXDOMAIN}
    if failed or questions != 1 or not flags & dns.flags.QR or flags & dns.flags.TC or flags & 0x7800:
        return None
    secure = bool(flags & dns.flags.AD)
    if flags & _RCODE == dns.rcode.NXDOMAIN or not answers:
        return ResolverReply(flags & _RCODE == dns.rcode.NOERROR, (), secure)
    # Of the rest of a message nothing is wanted, and reading it takes as long as all before it.
    data = _HEADER.pack(number, flags, questions, answers, 0, 0) + data[_HEADER.size :]
    message = dns.message.from_wire(data, ignore_trailing=True)
    if not isinstance(message, dns.message.QueryMessage):
        return None
    return ResolverReply(True, tuple(message.resolve_chaining().answer or ()), secure)
