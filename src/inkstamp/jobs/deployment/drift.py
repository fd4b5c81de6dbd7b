"""Look whether servers still serve what was installed on them."""

from collections.abc import Sequence
from typing import TYPE_CHECKING

from cryptography.hazmat.primitives import hashes
from msgspec import Struct

from inkstamp.errors import InkStampError
from inkstamp.jobs.deployment.context import DeploymentContext
from inkstamp.jobs.deployment.handshakes import served_as
from inkstamp.jobs.deployment.plan import names_on
from inkstamp.jobs.status.editions import served_beside
from inkstamp.ledger.records import EditionRecord
from inkstamp.servers.interface import Endpoint

if TYPE_CHECKING:
    from cryptography import x509


class Places(Struct, frozen=True):
    """Where an edition should be served, as far as the servers' configurations say."""

    leaf: "x509.Certificate | None"
    """None when its files cannot be read, and nothing can be compared."""
    endpoints: Sequence[tuple[str, str, Endpoint]]
    """Server, name, address."""
    lost: str = ""
    """What a configuration says already: a name without TLS; empty for nothing."""


def places_of(context: DeploymentContext, edition: EditionRecord) -> Places:
    """Read from the servers' configurations where an edition should be served.

    One after the other: servers of one machine share a connection. One that is unreachable, or cannot be read, is
    left out: to install there again would not help.
    """
    entry = context.certificates.entry(edition.certificate)
    found: list[tuple[str, str, Endpoint]] = []
    try:
        leaf = context.shelf.chain(edition)[0]
    except InkStampError:
        return Places(None, ())
    lacking = {each for each in entry.names if not each.startswith("*.")}
    for name in entry.install:
        try:
            server = context.servers.installable(name)
            mine = names_on(context, name, entry)
            lacking -= set(mine)
            for each in mine:
                endpoints = server.tls_endpoints(each)
                if endpoints == []:
                    return Places(leaf, (), f"{name} serves {each} without TLS")
                found += [(name, each, endpoint) for endpoint in endpoints or ()]
        except InkStampError as error:
            lacking = set()  # it may have them
            context.progress.step(edition.certificate, f"cannot be checked on {name}: {error.what}")
    if lacking and entry.install:
        where = f"{', '.join(entry.install)} {'has' if len(entry.install) == 1 else 'have'}"
        return Places(leaf, (), f"{where} no site for {', '.join(sorted(lacking))} any more")
    return Places(leaf, tuple(found))


def look_at(context: DeploymentContext, edition: EditionRecord, places: Places) -> str:
    """Say where something else than `edition` is served in its place; empty when it is served everywhere.

    A server that does not answer has lost nothing.
    """
    if places.lost or places.leaf is None:
        return places.lost
    for server, name, endpoint in places.endpoints:
        served = served_as(endpoint, name.replace("*", "any", 1), places.leaf)
        digest = served.chain[0].fingerprint(hashes.SHA256()).hex() if served.chain else edition.sha256
        if digest != edition.sha256 and digest not in served_beside(context, name, edition):
            return f"{server} serves another certificate for {name} at {endpoint}"
    return ""
