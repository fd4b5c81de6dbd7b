"""Who listens on which TCP ports, here and on another machine."""

import re
from collections.abc import Iterable

from msgspec import Struct

_ALL = frozenset({"*", "0.0.0.0", "::", ""})  # noqa: S104  compared, not bound
_SS_LINE = re.compile(r"^\S+\s+\d+\s+\d+\s+(\S+):(\d+)\s+\S+(?:\s+users:\(\(\"([^\"]*)\",pid=(\d+))?")


class ListeningProgram(Struct, frozen=True):
    """A program that listens."""

    address: str
    """IP address, or one of those that stand for all."""
    port: int
    program: str
    """Name of the program; empty when this user may not know."""
    pid: int = 0
    """0 when this user may not know."""

    def __str__(self) -> str:
        return f"{self.program} (process {self.pid})" if self.program else "another program"

    def is_in_the_way(self, address: str) -> bool:
        """Tell whether nobody else can listen at this port of `address`, which may stand for all."""
        mine, theirs = address.strip("[]"), self.address.strip("[]")
        if mine in _ALL or theirs in _ALL:
            # `::` alone may or may not take IPv4 as well, so it is in the way of IPv6 for certain, and of all of both.
            return theirs != "::" or mine in _ALL or ":" in mine
        return mine == theirs


def local_listeners(port: int) -> list[ListeningProgram]:
    """Return who listens on a TCP port of this machine, as far as this user may know."""
    import psutil  # noqa: PLC0415  loaded for this one question

    try:
        known = psutil.net_connections("tcp")
    except (psutil.Error, OSError):
        return []
    return [
        ListeningProgram(each.laddr.ip, port, _program(each.pid), each.pid or 0)
        for each in known
        if each.status == psutil.CONN_LISTEN and each.laddr and each.laddr.port == port
    ]


def _program(pid: int | None) -> str:
    import psutil  # noqa: PLC0415  as above

    try:
        return str(psutil.Process(pid).name()) if pid else ""
    except (psutil.Error, OSError):
        return ""


def read_listeners(text: str, port: int) -> list[ListeningProgram]:
    """Read what the program `ss -Hltnp` printed."""
    matches = (_SS_LINE.match(line) for line in text.splitlines())
    return [
        ListeningProgram(each[1].partition("%")[0].strip("[]"), port, each[3] or "", int(each[4] or 0))
        for each in matches
        if each is not None and int(each[2]) == port
    ]


def who_is_in_the_way(listeners: Iterable[ListeningProgram], addresses: Iterable[str]) -> ListeningProgram | None:
    """Return the first listener that keeps others from one of the addresses, one with a name rather than without."""
    wanted = tuple(addresses)
    found = [each for each in listeners if any(each.is_in_the_way(address) for address in wanted)]
    return next((each for each in found if each.program), next(iter(found), None))
