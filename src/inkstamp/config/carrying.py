"""Which of the carriers that a certificate names carries which kind of proof."""

from inkstamp.config.model import Certificate, Configuration, Server
from inkstamp.config.server_kinds import KINDS
from inkstamp.config.words import ACME_METHODS, BY_HAND, LISTENER, RECORD_METHODS, Method
from inkstamp.pki.names import as_address

_CARRIED_BY: dict[str, str] = {
    "http-01": "files",
    "file": "files",
    **dict.fromkeys(RECORD_METHODS, "records"),
    "cname": "records",
    "txt": "records",
    "tls-alpn-01": "handshakes",
}
_LONG_LIVED = {"file"}
"""Proofs that stand for days: nothing that ends with the run can carry them."""


def carries(config: Configuration, carrier: str, method: Method) -> bool:
    """Tell whether a carrier can put up the proofs of a method; a person (`by-hand`) makes files and records."""
    what = _CARRIED_BY.get(method, "")
    if carrier == BY_HAND:
        return method != "tls-alpn-01"
    if carrier == LISTENER:
        return what in {"files", "handshakes"} and method not in _LONG_LIVED
    if what == "files":
        server = config.server.get(carrier)
        by_itself = server is not None and method == "http-01" and KINDS[server.kind].answers_challenges
        return server is not None and (by_itself or shows_files(server))
    return what == "records" and (carrier in config.nameserver or carrier in config.program)


def takes_certificates(server: Server) -> bool:
    """Tell whether certificates are installed on a server of this sort."""
    return server.kind != "files" or bool(server.files)


def is_away(config: Configuration, name: str) -> bool:
    """Tell whether what a certificate is installed on is a server on another machine."""
    return name in config.server and bool(config.server[name].reach)


def key_server(entry: Certificate) -> str:
    """Return the Windows server that has a certificate's key, and makes its CSRs; empty where there is none."""
    return entry.install[0] if entry.key_elsewhere and entry.install else ""


def shows_files(server: Server) -> bool:
    """Tell whether a server of this sort answers a path with a file."""
    return KINDS[server.kind].answers_from_files or bool(server.root)


def file_servers(config: Configuration, entry: Certificate) -> tuple[str, ...]:
    """Return the servers that carry the certificate's files; all of them must, since any may be asked."""
    return tuple(each for each in entry.carriers if each in config.server)


def record_carrier(config: Configuration, entry: Certificate) -> str:
    """Return what puts the certificate's records into DNS: a nameserver, a program, or `by-hand`."""
    known = {**config.nameserver, **config.program}
    return next((each for each in entry.carriers if each in known), BY_HAND)


def can_prove(method: Method, identifier: str) -> bool:
    """Tell whether CAs take a method for a wildcard, a name or an address.

    Wildcards by records alone (RFC 8555 section 8.4 and Baseline Requirements section 3.2.2.4), addresses not by it
    (RFC 8738 section 7).
    """
    if identifier.startswith("*."):
        return method not in {"http-01", "tls-alpn-01", "file"}
    return method not in RECORD_METHODS or not as_address(identifier)


def methods_for(entry: Certificate, identifier: str) -> tuple[Method, ...]:
    """Return the configured methods that can prove an identifier to an ACME CA, in their order."""
    return tuple(each for each in entry.methods if can_prove(each, identifier))


def other_ways(config: Configuration, entry: Certificate) -> dict[Method, str]:
    """Return the ways that the certificate is not configured for and that something configured could carry.

    By method, what would carry it; `by-hand` for records when there is nothing else.
    """
    found: dict[Method, str] = {}
    for method in ACME_METHODS[:2]:
        if method in entry.methods or not all(can_prove(method, name) for name in entry.names):
            continue
        known = [*config.server, *config.nameserver, *config.program, BY_HAND]
        carrier = next((each for each in known if carries(config, each, method)), "")
        if carrier:
            found[method] = carrier
    return found


def is_portal(config: Configuration, entry: Certificate) -> bool:
    """Tell whether a certificate comes from a CA's web portal."""
    return not config.authority[entry.authority].is_acme
