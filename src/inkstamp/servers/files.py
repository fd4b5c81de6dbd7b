"""Any web server: nothing is known of it but where its files lie."""

from inkstamp.reach.interface import Host
from inkstamp.servers.interface import Obstacle, Place, Site

_DOMAIN = "{domain}"


class FilesServer:
    """One server of kind `files`, as configured under `[server.NAME]`."""

    def __init__(self, name: str, host: Host, *, root: str) -> None:
        self.name = name
        self.host = host
        self._root = root

    def sites(self) -> list[Site]:
        """There is no configuration to read."""
        return []

    def places(self, name: str, parts: tuple[str, ...]) -> tuple[Place, ...]:
        return (Place(self._root.replace(_DOMAIN, name), parts),)

    def obstacles(self, name: str, parts: tuple[str, ...]) -> tuple[Obstacle, ...]:  # noqa: ARG002  nothing is known
        return ()

    def answers_at(self, name: str, address: str) -> bool:  # noqa: ARG002  other kinds ask
        return self.host.has_address(address)

    def forget(self) -> None:
        """There is nothing to read anew."""
