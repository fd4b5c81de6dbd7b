"""Free ports on loopback."""

import os
import random
import socket

_BELOW_EPHEMERAL = range(16_000, 32_000)
"""Ports that no program is given by chance: a port out of the kernel's own range (from 32768 on Linux) may be taken by
anybody's outgoing connection between being found free and being listened on."""


_SLICES = 8
_handed_out: set[int] = set()
"""What was found already in this process: whoever asked may not listen there yet."""


def free_ports(count: int) -> list[int]:
    """Return ports that nothing uses at present on any address, for TCP nor for UDP; all different.

    None is returned twice, and processes that were started one after the other look in different places.
    """
    mine = [each for each in _BELOW_EPHEMERAL if each % _SLICES == os.getpid() % _SLICES]
    if len(mine) - len(_handed_out) < len(mine) // 4:
        _handed_out.clear()
    found: list[int] = []
    for port in random.SystemRandom().sample(mine, len(mine)):
        if len(found) == count:
            break
        if port not in _handed_out and all(_is_free(kind, port) for kind in (socket.SOCK_STREAM, socket.SOCK_DGRAM)):
            found.append(port)
    _handed_out.update(found)
    return found


def _is_free(kind: socket.SocketKind, port: int) -> bool:
    with socket.socket(socket.AF_INET, kind) as probe:
        try:
            probe.bind(("", port))  # servers here listen on 127.0.0.2 and further, too
        except OSError:
            return False
    return True
