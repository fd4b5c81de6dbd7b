"""What a TLS server accepts: versions, key exchange, old ciphers, HTTP/2, session resumption."""

import contextlib
import ssl
import time
from functools import lru_cache

from msgspec import Struct
from msgspec.structs import replace
from OpenSSL import SSL

from inkstamp.deadline import time_left
from inkstamp.pki.names import as_address
from inkstamp.transport import connect
from inkstamp.view.handshake import client_of, finish
from inkstamp.view.point import careless_context
from inkstamp.view.upgrade import Upgrade, ask_for_tls

VERSIONS = (
    ("TLS 1.0", SSL.TLS1_VERSION),
    ("TLS 1.1", SSL.TLS1_1_VERSION),
    ("TLS 1.2", SSL.TLS1_2_VERSION),
    ("TLS 1.3", SSL.TLS1_3_VERSION),
)
_PATIENCE, _WHOLE = 5.0, 20.0
"""Seconds: to connect, and for all handshakes together."""
_ANY = b"ALL:@SECLEVEL=0"
_STATIC = b"kRSA:!NULL:!3DES:@SECLEVEL=0"
_OLD = b"3DES:RC4:NULL:EXPORT:DES:@SECLEVEL=0"
_WEAK = b"kRSA:" + _OLD
"""Both together: most servers refuse them all."""
_HTTP = ("h2", "http/1.1")
GROUPS = (("X25519", "X25519"), ("P-256", "prime256v1"), ("P-384", "secp384r1"))
"""What they are called, and what OpenSSL calls them."""
_SEEN_AS = {"x25519": "X25519", "secp256r1": "P-256", "secp384r1": "P-384"}
"""OpenSSL's names for the groups of finished handshakes."""
_TICKET_SECONDS = 0.25
"""How long a TLS 1.3 server may take to send its tickets, which come behind the handshake."""


class Readiness(Struct, frozen=True, kw_only=True):
    """What one address takes."""

    versions: tuple[str, ...]
    """Of TLS, the oldest first."""
    static: bool
    """Whether it accepts key exchange without forward secrecy, where a client offers nothing else."""
    old: bool
    """Whether it takes ciphers that are broken or nearly so, as far as this machine's OpenSSL still knows any."""
    alpn: str
    """What it chooses of HTTP/2 and HTTP/1.1 (RFC 7301); empty for nothing."""
    groups: tuple[str, ...]
    """Of those tried one by one, the groups in which it agrees on keys (RFC 8446 section 4.2.7)."""
    resumes: bool | None
    """Whether it takes up a session that was begun before; None where that was not tried."""


def group_name(group: str) -> str:
    """Return the usual name of a group that OpenSSL names after a handshake."""
    return _SEEN_AS.get(group, group)


def try_versions(
    address: str, port: int, name: str, *, upgrade: Upgrade = "", protocol: str = "", group: str = ""
) -> Readiness:
    """Find out what a server takes, with as few handshakes as tell it; one that fails is an answer.

    `protocol` and `group` are those of a handshake before, as in `TLSv1.3` and `x25519`, which are not tried again;
    empty for none. A server that lets some handshakes hang is left alone after a while: what was not tried counts as
    not taken.
    """
    tried = _Attempts(address, port, name, upgrade, time.monotonic() + time_left(_WHOLE))
    taken = tried.versions(protocol.replace("TLSv", "TLS "))
    before = SSL.TLS1_2_VERSION if "TLS 1.2" in taken else None
    weak = before is not None and tried.accepts(before, _WEAK)
    newest = "TLS 1.3" in taken
    sessions = tried.try_groups(group_name(group)) if newest else _Sessions((), None, None)
    if sessions.resumes is None and (newest or before is not None):
        sessions = tried.begin_session(sessions, newest=newest) or sessions
    return Readiness(
        versions=taken,
        static=weak and tried.accepts(before, _STATIC),
        old=weak and tried.accepts(before, _OLD),
        alpn=tried.alpn() if sessions.alpn is None and not upgrade else sessions.alpn or "",
        groups=sessions.groups,
        resumes=sessions.resumes,
    )


@lru_cache(maxsize=32)  # making one takes as long as a third of a handshake
def _context(lowest: int | None, highest: int | None, ciphers: bytes, alpn: tuple[str, ...]) -> SSL.Context | None:
    """Return what offers just that; None where this machine's OpenSSL has none of the ciphers."""
    context = SSL.Context(SSL.TLS_CLIENT_METHOD)
    context.set_verify(SSL.VERIFY_NONE)
    try:
        context.set_cipher_list(ciphers)
    except SSL.Error:
        return None
    if lowest is not None:
        context.set_min_proto_version(lowest)
    if highest is not None:
        context.set_max_proto_version(highest)
    if alpn:
        context.set_alpn_protos([each.encode() for each in alpn])
    return context


@lru_cache(maxsize=16)
def _session_context(curve: str, alpn: tuple[str, ...], *, newest: bool) -> ssl.SSLContext | None:
    """Return what agrees on keys in that group alone, if one is named, by TLS 1.3 where `newest`, else 1.2.

    None where this machine's OpenSSL does not know the group. Before TLS 1.3 a group that is not offered also forbids
    certificates on that curve: nothing would be learnt.
    """
    context = careless_context()
    if newest:
        context.minimum_version = ssl.TLSVersion.TLSv1_3
    else:
        context.maximum_version = ssl.TLSVersion.TLSv1_2
    try:
        if curve:
            context.set_ecdh_curve(curve)
    except (ValueError, ssl.SSLError):
        return None
    if alpn:
        context.set_alpn_protocols(alpn)
    return context


class _Handshake(Struct, frozen=True):
    """What one handshake showed."""

    session: ssl.SSLSession | None
    alpn: str
    resumed: bool


class _Sessions(Struct, frozen=True):
    """What sessions with single groups showed."""

    groups: tuple[str, ...]
    alpn: str | None
    """What the server chose; None where no handshake offered anything."""
    resumes: bool | None
    """None where no session was begun."""


class _Attempts(Struct, frozen=True):
    """Handshakes with one address."""

    address: str
    port: int
    name: str
    upgrade: Upgrade
    end: float
    """By `time.monotonic`: when to try no more."""

    def versions(self, seen: str) -> tuple[str, ...]:
        """Return the versions that are accepted, `seen` among them; the deprecated ones are offered together first."""
        taken = {told for told, version in VERSIONS[2:] if told == seen or self.accepts(version, _ANY)}
        (older, lowest), (newer, highest) = VERSIONS[:2]
        if not taken:  # a server that old may not choose among versions as it should
            taken |= {told for told, version in VERSIONS[:2] if told == seen or self.accepts(version, _ANY)}
        elif (chosen := self.attempt(lowest, highest, _ANY)) is not None:
            is_newer = chosen.get_protocol_version() == highest
            taken |= {newer, older} if is_newer and self.accepts(lowest, _ANY) else {newer if is_newer else older}
        return tuple(told for told, _ in VERSIONS if told in taken)

    def accepts(self, version: int | None, ciphers: bytes) -> bool:
        """Tell whether a handshake succeeds with that version alone and these ciphers."""
        return self.attempt(version, version, ciphers) is not None

    def alpn(self) -> str:
        """Return what the server chooses of HTTP/2 and HTTP/1.1; empty for nothing."""
        offered = self.attempt(None, None, _ANY, _HTTP)
        return offered.get_alpn_proto_negotiated().decode("ascii", "replace") if offered is not None else ""

    def attempt(
        self, lowest: int | None, highest: int | None, ciphers: bytes, alpn: tuple[str, ...] = ()
    ) -> SSL.Connection | None:
        """Shake hands with what is offered; None where that fails."""
        if time.monotonic() > self.end:
            return None
        context = _context(lowest, highest, ciphers, alpn)
        return _shake(context, (self.address, self.port), self.name, self.upgrade) if context is not None else None

    # By the standard library: pyOpenSSL can neither choose groups nor tell resumption.

    def try_groups(self, known: str) -> _Sessions:
        """Find the groups that are accepted where nothing else is offered, `known` among them.

        The first session also shows what the server chooses by ALPN, and is resumed.
        """
        found = _Sessions((), None, None)
        for told, curve in GROUPS:
            grown = self.begin_session(found, newest=True, curve=curve) if told != known else found
            if grown is not None:
                found = replace(grown, groups=(*found.groups, told))
        return found

    def begin_session(self, found: _Sessions, *, newest: bool, curve: str = "") -> _Sessions | None:
        """Begin a session; returns `found` with what it shows in addition, None if the handshake fails.

        Where ALPN is offered and the handshake fails, it is tried without: a server may refuse what it does not know.
        """
        for offered in (_HTTP, ()) if found.alpn is None and not self.upgrade else ((),):
            context = _session_context(curve, offered, newest=newest)
            begun = self._begin(context, keep=found.resumes is None, tickets=newest) if context is not None else None
            if context is None or begun is None:
                continue
            resumes = found.resumes
            if resumes is None:
                again = self._begin(context, begun.session)
                resumes = again is not None and again.resumed
            return replace(found, alpn=found.alpn or begun.alpn, resumes=resumes)
        return None

    def _begin(
        self,
        context: ssl.SSLContext,
        session: ssl.SSLSession | None = None,
        *,
        keep: bool = False,
        tickets: bool = False,
    ) -> _Handshake | None:
        """Shake hands; None where that fails. With `keep`, the session is returned, after its `tickets` are there."""
        left = self.end - time.monotonic()
        if left <= 0:
            return None
        patience = min(_PATIENCE, left)
        named = None if not self.name or as_address(self.name) else self.name
        try:
            with connect(self.address, self.port, patience) as plain:
                if ask_for_tls(plain, self.upgrade, time.monotonic() + patience):
                    return None
                plain.settimeout(patience)
                with context.wrap_socket(plain, server_hostname=named, session=session) as begun:
                    if keep and tickets:
                        with contextlib.suppress(OSError):  # nothing is sent but tickets, and they are read on the way
                            begun.settimeout(_TICKET_SECONDS)
                            begun.recv(1)
                    return _Handshake(
                        begun.session if keep else None,  # which is copied, at the cost of half a handshake
                        begun.selected_alpn_protocol() or "",
                        begun.session_reused is True,
                    )
        except OSError:  # a handshake that fails is an answer
            return None


def _shake(context: SSL.Context, at: tuple[str, int], name: str, upgrade: Upgrade) -> SSL.Connection | None:
    try:
        with connect(*at, _PATIENCE) as stream:
            if ask_for_tls(stream, upgrade, time.monotonic() + _PATIENCE):
                return None
            connection = client_of(context, stream, name)
            return None if finish(connection, stream) else connection
    except OSError:
        return None
