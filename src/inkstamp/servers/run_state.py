"""Whether servers run, as their ports tell; and how one that an install stopped is started again."""

import socket
from collections.abc import Iterable
from contextlib import suppress
from datetime import datetime

from inkstamp.bulkhead import apart
from inkstamp.clock import Clock
from inkstamp.deadline import poll
from inkstamp.errors import InkStampError
from inkstamp.servers.common import endpoints
from inkstamp.servers.interface import Endpoint, FileCarrier, ServerKind, Startable

_MOST_PLACES = 4
_CONNECT_SECONDS = 1.0
_COMES_BACK = 3.0
"""Seconds in which a server that was reloaded or restarted answers again by itself."""
_STARTS = 15.0
"""Seconds in which one that was started does."""
_PAUSE = 0.1


def is_up(server: FileCarrier) -> bool | None:
    """Tell whether anything answers where a server listens by its configuration; None where no place is known."""
    try:
        with apart():
            places = _places(server)
    except InkStampError:
        return None
    return any(_answers(each) for each in places) if places else None


def up_of(servers: Iterable[FileCarrier]) -> list[str]:
    """Return the names of those servers that answer."""
    return [each.name for each in servers if is_up(each)]


def _places(server: FileCarrier) -> list[Endpoint]:
    found = endpoints([each for site in server.sites() for each in site.listens], server.host, plain=True)
    if not found and isinstance(server, ServerKind):
        found = server.tls_endpoints("") or []
    return found[:_MOST_PLACES]


def _answers(place: Endpoint) -> bool:
    try:
        with socket.create_connection((place.address, place.port), timeout=_CONNECT_SECONDS):
            return True
    except OSError:
        return False


def start_again(server: FileCarrier, clock: Clock, since: datetime) -> str:
    """See that a server that was up before answers again, and start it if it does not.

    Args:
        server: The server; its configuration is back as it was, and it was told to take it.
        clock: The time.
        since: When it was up the last time, as far as is known; aware, UTC.

    Returns:
        What is to be told of that, as part of a sentence; empty when it never stopped.

    """
    name = server.name
    if _comes_up(clock, server, _COMES_BACK):
        return ""
    said = ""
    if isinstance(server, Startable):
        with suppress(InkStampError), apart():
            ran = server.start()
            said = ran.output.strip().splitlines()[-1] if ran.status and ran.output.strip() else ""
        if _comes_up(clock, server, _STARTS):
            seconds = (clock.now() - since).total_seconds()
            down = f"it was down for up to {seconds:.0f} s"
            return f"server “{name}” was stopped by the reload and was started again; {down}"
    return (
        f"SERVER “{name}” IS DOWN: the reload stopped it, and it cannot be started again{f' ({said})' if said else ''}"
    )


def _comes_up(clock: Clock, server: FileCarrier, seconds: float) -> bool:
    return any(is_up(server) for _ in poll(clock, pause=_PAUSE, seconds=seconds))
