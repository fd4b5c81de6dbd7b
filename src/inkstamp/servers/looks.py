"""Where a server is looked at that says so in the configuration alone."""

from urllib.parse import urlsplit

from inkstamp.servers.interface import Endpoint
from inkstamp.view.upgrade import Upgrade

_UPGRADES: dict[str, Upgrade] = {"smtp": "smtp", "imap": "imap", "pop3": "pop3"}


def read_look(text: str) -> Endpoint:
    """Read a `look` that the configuration has checked."""
    parts = urlsplit(text if "://" in text else f"tls://{text}")
    return Endpoint(parts.hostname or "", parts.port or 0, _UPGRADES.get(parts.scheme, ""))
