"""Free ports on loopback."""

import random
import socket

_BELOW_EPHEMERAL = range(16_000, 32_000)
"""Ports that no program is given by chance: a port out of the kernel's own range (from 32768 on Linux) may be taken by
anybody's outgoing connection between being found free and being listened on."""


def free_ports(count: int) -> list[int]:
    """Return ports that nothing uses at present on any address, for TCP nor for UDP; all different."""
    found: list[int] = []
    for port in random.SystemRandom().sample(_BELOW_EPHEMERAL, len(_BELOW_EPHEMERAL)):
        if len(found) == count:
            break
        if all(_is_free(kind, port) for kind in (socket.SOCK_STREAM, socket.SOCK_DGRAM)):
            found.append(port)
    return found


def _is_free(kind: socket.SocketKind, port: int) -> bool:
    with socket.socket(socket.AF_INET, kind) as probe:
        try:
            probe.bind(("", port))  # servers here listen on 127.0.0.2 and further, too
        except OSError:
            return False
    return True
