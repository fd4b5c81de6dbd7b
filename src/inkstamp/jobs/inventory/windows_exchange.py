"""What is exchanged with Windows servers, written down for somebody who has none."""

import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from msgspec import Struct

from inkstamp.bulkhead import attempt, side_by_side
from inkstamp.errors import InkStampError, UsageError
from inkstamp.files import write_bytes
from inkstamp.findings import Finding, bad
from inkstamp.jobs.inventory.context import PlacementContext
from inkstamp.jobs.inventory.placement import SERVERS_AT_ONCE
from inkstamp.jobs.inventory.survey import unreadable
from inkstamp.printable import one_line
from inkstamp.reach.windows.host import WindowsHost

_LONGEST_COMPLAINT = 300


class WrittenExchange(Struct, frozen=True):
    """Whom a file tells of."""

    servers: tuple[str, ...]
    """Those that answered."""
    findings: tuple[Finding, ...]
    """Why others did not; what they said is in the file too."""


def write_exchange(context: PlacementContext, file: Path) -> WrittenExchange:
    """Ask each Windows server for all that is read, and write request and answer into a file as JSON, for its owner.

    Raises:
        UsageError: None is configured.
        ReachTrouble: Nothing came back from any; the error is that of the first.
        FileTrouble: The file cannot be written.

    """
    hosts = {name: context.servers.get(name).host for name in context.configuration.current_or_empty().server}
    windows = {name: host for name, host in hosts.items() if isinstance(host, WindowsHost)}
    if not windows:
        raise UsageError("no Windows server is configured", advice="add one: inkstamp server add NAME kind=iis reach=…")
    outcomes = side_by_side(lambda host: attempt(host.exchange), tuple(windows.values()), SERVERS_AT_ONCE)
    exchanged = [each for each in outcomes if not isinstance(each, InkStampError)]
    errors = [each for each in outcomes if isinstance(each, InkStampError)]
    if not exchanged:
        raise errors[0]
    write_bytes(file, json.dumps(exchanged, indent=1, ensure_ascii=False).encode("utf-8"), mode=0o600)
    told = {name: _why_unanswered(name, each) for name, each in zip(windows, outcomes, strict=True)}
    return WrittenExchange(
        tuple(name for name, finding in told.items() if finding is None),
        tuple(finding for finding in told.values() if finding is not None),
    )


def _why_unanswered(server: str, outcome: Mapping[str, Any] | InkStampError) -> Finding | None:
    if isinstance(outcome, InkStampError):
        return unreadable(server, outcome)
    if outcome["status"] == 0:
        return None
    said = one_line(outcome["complaint"].strip(), _LONGEST_COMPLAINT)
    return bad("server", server, f"exit status {outcome['status']}: {said or 'nothing was said'}")
