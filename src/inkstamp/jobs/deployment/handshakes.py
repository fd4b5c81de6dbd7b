"""See by handshakes that a server serves what was installed on it."""

from typing import TYPE_CHECKING

from cryptography import x509

from inkstamp.clock import stamp
from inkstamp.deadline import poll
from inkstamp.errors import ServerTrouble
from inkstamp.findings import Finding, note, ok
from inkstamp.pki.certificates import key_kind
from inkstamp.servers.interface import Endpoint, ServerKind
from inkstamp.view.handshake import Served, shake_hands

if TYPE_CHECKING:
    from inkstamp.clock import Clock

LOOK_SECONDS = 15.0
"""A reload takes effect within moments; a server that still serves the old certificate after this did not reload."""
_LOOK_PAUSE = 0.05


def see_served(
    clock: "Clock",
    server: ServerKind,
    number: int,
    wanted: tuple[x509.Certificate, ...],
    name: str,
    *,
    deadline: float,
) -> Finding:
    """Shake hands with every endpoint of `name` until each serves an edition, but not for ever.

    Args:
        clock: What tells the time and waits.
        server: Where it was installed.
        number: The edition's, for what is told.
        wanted: Its leaf with the intermediates.
        name: What is asked for.
        deadline: When to give up, by the monotonic clock; each endpoint is looked at once in any case.

    Raises:
        ServerTrouble: One does not serve it, or there is none.

    """
    endpoints = server.tls_endpoints(name)
    if endpoints is None:
        seen = f"edition {number} is on {server.name}; not checked whether it is served"
        return note(
            "installed",
            name,
            seen,
            f'name the address where it serves TLS: look = ["host:port"] under [server.{server.name}]',
        )
    if not endpoints:
        raise ServerTrouble(f"server “{server.name}” has no address that serves {name} with TLS", where=server.name)
    asked = name.replace("*", "any", 1)  # what a visitor of a wildcard asks for
    for each in endpoints:
        for _ in poll(clock, pause=_LOOK_PAUSE, seconds=deadline - clock.monotonic()):
            served = served_as(each, asked, wanted[0])
            if set(wanted) <= set(served.chain) and served.chain[0] == wanted[0]:
                break
        else:
            raise _not_taken(server, name, each, served, wanted)
    places = ", ".join(map(str, endpoints))
    return ok("installed", name, f"{server.name} serves edition {number} at {places}")


def served_as(endpoint: Endpoint, name: str, wanted: x509.Certificate) -> Served:
    """Shake hands; where a certificate with another sort of key comes back, ask for one with the wanted sort."""
    served = shake_hands(endpoint.address, endpoint.port, name, upgrade=endpoint.upgrade)
    algorithm = key_kind(wanted).partition("-")[0]
    if not served.chain or key_kind(served.chain[0]).startswith(f"{algorithm}-"):
        return served
    again = shake_hands(endpoint.address, endpoint.port, name, upgrade=endpoint.upgrade, algorithm=algorithm)
    return again if again.chain else served


def _not_taken(
    server: ServerKind, name: str, endpoint: Endpoint, served: Served, wanted: tuple[x509.Certificate, ...]
) -> ServerTrouble:
    if served.chain and served.chain[0] == wanted[0]:
        return ServerTrouble(
            f"server “{server.name}” serves the new certificate for {name} without its intermediates",
            where=str(endpoint),
            said=f"{len(served.chain)} of {len(wanted)} certificates",
            advice="configure a file with the intermediates as well",
        )
    return ServerTrouble(
        f"server “{server.name}” still serves another certificate for {name} after the reload",
        where=str(endpoint),
        said=_seen(served),
        advice="check the server's error log; it may still run with its old configuration",
    )


def _seen(served: Served) -> str:
    if not served.chain:
        return served.trouble
    leaf = served.chain[0]
    return f"it serves serial {leaf.serial_number:x}, valid until {stamp(leaf.not_valid_after_utc)}"
