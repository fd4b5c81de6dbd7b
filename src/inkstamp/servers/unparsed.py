"""Servers of which no configuration is read: where they are looked at is said in ours alone."""

from collections.abc import Sequence
from urllib.parse import urlsplit

from inkstamp.reach.interface import Host
from inkstamp.servers.interface import Endpoint, Obstacle, Site
from inkstamp.view.upgrade import UPGRADES


class UnreadServer:
    """What those have in common."""

    points_at: frozenset[str] = frozenset()
    has_hosts = False

    def __init__(self, name: str, host: Host, look: Sequence[str]) -> None:
        self.name = name
        self.host = host
        self._look = look

    def sites(self) -> list[Site]:
        """There is no configuration to read."""
        return []

    def obstacles(self, name: str, parts: tuple[str, ...]) -> tuple[Obstacle, ...]:  # noqa: ARG002  nothing is known
        return ()

    def forget(self) -> None:
        """There is nothing to read anew."""

    def tls_endpoints(self, name: str) -> list[Endpoint] | None:  # noqa: ARG002  it looks the same for each
        return [read_look(each) for each in self._look] or None


def read_look(text: str) -> Endpoint:
    """Read a `look` that the configuration has checked."""
    parts = urlsplit(text if "://" in text else f"tls://{text}")
    return Endpoint(parts.hostname or "", parts.port or 0, UPGRADES.get(parts.scheme, ""))
