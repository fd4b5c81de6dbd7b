"""What is exchanged with Windows servers, written down for somebody who has none."""

import json
from collections.abc import Sequence
from pathlib import Path

from inkstamp.errors import UsageError
from inkstamp.files import write_bytes
from inkstamp.jobs.inventory.context import PlacementContext
from inkstamp.reach.windows.host import WindowsHost


def write_exchange(context: PlacementContext, file: Path) -> Sequence[str]:
    """Ask each Windows server for all that is read, and write request and answer into a file as JSON, for its owner.

    Returns:
        The servers that were asked.

    Raises:
        UsageError: None is configured.
        ReachTrouble: One is unreachable.
        FileTrouble: The file cannot be written.

    """
    hosts = {name: context.servers.get(name).host for name in context.configuration.current_or_empty().server}
    windows = {name: host for name, host in hosts.items() if isinstance(host, WindowsHost)}
    if not windows:
        raise UsageError("no Windows server is configured", advice="add one: inkstamp server add NAME kind=iis reach=…")
    found = [host.exchange() for host in windows.values()]
    write_bytes(file, json.dumps(found, indent=1, ensure_ascii=False).encode("utf-8"), mode=0o600)
    return tuple(windows)
