"""Dynamic updates of a zone (RFC 2136), signed with TSIG (RFC 8945)."""

import re
from collections.abc import Sequence
from dataclasses import dataclass, field

import dns.exception
import dns.message
import dns.name
import dns.query
import dns.rcode
import dns.tsig
import dns.tsigkeyring
import dns.update

from inkstamp.deadline import wait_limit
from inkstamp.errors import CarrierTrouble, ConfigurationError
from inkstamp.printable import printable
from inkstamp.transport import connect

_SECONDS = 10.0
_CLAUSE = re.compile(r'\bkey\s++"?([^"\s{]{1,255}+)"?\s*+\{([^}]*+)\}')
_FIELD = re.compile(r'\b(algorithm|secret)\s++"?([^";\s]++)"?\s*+;')
_LONGEST_KEY = 65_536
ALGORITHMS = {
    "hmac-sha256": dns.tsig.HMAC_SHA256,
    "hmac-sha384": dns.tsig.HMAC_SHA384,
    "hmac-sha512": dns.tsig.HMAC_SHA512,
}
_ADVICE = {
    dns.rcode.REFUSED: "let the key update this name: the server's update policy is in the way; or this server is a "
    "secondary, and updates are for the primary",
    dns.rcode.NOTAUTH: "the server is not the primary of this zone: correct `address`; or it does not know the key",
    dns.rcode.NOTZONE: "the name is not inside of that zone",
    dns.rcode.SERVFAIL: "see the server's own log: a zone file that it may not write is the usual reason",
    dns.rcode.NOTIMP: "the server takes no updates",
}


@dataclass(frozen=True, slots=True)
class TsigKey:
    """A key shared with a nameserver."""

    name: str
    algorithm: dns.name.Name
    secret: str = field(repr=False)
    """Base64."""


def read_tsig(data: bytes, where: str) -> TsigKey:
    """Read a key clause as nameservers' configurations have it: `key "name" { algorithm …; secret "…"; };`.

    Raises:
        ConfigurationError: There is no such clause, or its algorithm is not one of `ALGORITHMS`.

    """
    text = data[:_LONGEST_KEY].decode("utf-8", "replace")
    clause = _CLAUSE.search(text)
    known = dict(_FIELD.findall(clause[2])) if clause else {}
    if clause is None or "secret" not in known or "algorithm" not in known:
        raise ConfigurationError(
            f"{where} holds no TSIG key",
            where=where,
            advice='write it like: key "name" { algorithm hmac-sha256; secret "…"; };',
        )
    algorithm = ALGORITHMS.get(known["algorithm"].lower())
    if algorithm is None:
        raise ConfigurationError(
            f"the algorithm “{known['algorithm']}” of the key in {where} is not known",
            where=where,
            advice=f"known: {', '.join(ALGORITHMS)}",
        )
    return TsigKey(clause[1], algorithm, known["secret"])


def send_update(
    zone: str,
    changes: Sequence[tuple[str, str, str]],
    server: str,
    port: int,
    key: TsigKey | None,
    *,
    ttl: int,
    add: bool,
) -> None:
    """Send one update of `zone` to its primary and wait for the answer.

    Args:
        zone: The apex.
        changes: Name, type and value (as in zone files) of each record.
        server: Address or host name of the primary, with a port behind a colon if it is another than `port`.
        port: Usually 53.
        key: None for an update that is not signed.
        ttl: Seconds, of what is added.
        add: Whether the values are added; otherwise just these values are removed.

    Raises:
        CarrierTrouble: The server refused, cannot be reached, or its answer cannot be believed.

    """
    host, port = _split(server, port)
    where = f"{host}:{port}, zone {zone}"
    names = ", ".join(dict.fromkeys(name for name, _, _ in changes))
    by_key = f" with the key “{key.name}”" if key is not None else ", which is not signed"
    try:
        update = _message(zone, changes, key, ttl=ttl, add=add)
        with connect(host, port, wait_limit(_SECONDS)) as stream:
            reply = dns.query.tcp(update, stream.getpeername()[0], timeout=wait_limit(_SECONDS), port=port, sock=stream)
    except (dns.tsig.PeerError, dns.tsig.BadSignature, dns.message.UnknownTSIGKey, dns.tsig.BadTime) as error:
        raise _untouched(
            f"the nameserver does not accept the key “{key.name if key else ''}”, or does not sign with it",
            where=where,
            said=f"{type(error).__name__}: {error}",
            advice="check name, algorithm and secret of the key on both sides, both clocks, and that this is the "
            f"primary of {zone}",
        ) from error
    except (dns.exception.DNSException, OSError, ValueError) as error:
        raise CarrierTrouble(
            f"the nameserver gave no proper answer to an update of {names}{by_key}",
            where=where,
            said=printable(str(error)) or type(error).__name__,
            advice="check `address` of the nameserver, and that it can be reached over TCP",
        ) from error
    if reply.rcode() != dns.rcode.NOERROR:
        code = reply.rcode()
        raise _untouched(
            f"the nameserver refused an update of {names}{by_key}",
            where=where,
            said=dns.rcode.to_text(code),
            advice=_ADVICE.get(code, "see the server's own log"),
        )


def _untouched(what: str, *, where: str, said: str, advice: str) -> CarrierTrouble:
    """Return the error for an update that was refused: as a whole, since a server takes all of one or nothing."""
    return CarrierTrouble(what, where=where, said=said, advice=advice, refused=True)


def _message(
    zone: str, changes: Sequence[tuple[str, str, str]], key: TsigKey | None, *, ttl: int, add: bool
) -> dns.update.UpdateMessage:
    update = dns.update.UpdateMessage(zone + ".")
    if key is not None:
        update.use_tsig(
            dns.tsigkeyring.from_text({key.name: key.secret}), dns.name.from_text(key.name), algorithm=key.algorithm
        )
    for name, kind, value in changes:
        if add:
            update.add(name + ".", ttl, kind, value)
        else:
            update.delete(name + ".", kind, value)
    return update


def _split(server: str, port: int) -> tuple[str, int]:
    """Split `host`, `host:port` or `[v6]:port`."""
    if server.startswith("["):
        host, _, rest = server[1:].partition("]")
        return host, int(rest[1:]) if rest[1:].isdigit() else port
    host, colon, rest = server.rpartition(":")
    if colon and ":" not in host and rest.isdigit():
        return host, int(rest)
    return server, port
