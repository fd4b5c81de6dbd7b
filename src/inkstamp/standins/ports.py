"""Free ports on loopback."""

import socket


def free_ports(count: int, address: str = "127.0.0.1") -> list[int]:
    """Return ports that nothing uses at present, for TCP nor for UDP; all different."""
    kept: list[socket.socket] = []
    try:
        ports: list[int] = []
        while len(ports) < count:
            tcp = socket.socket(socket.AF_INET, socket.SOCK_STREAM)
            kept.append(tcp)
            tcp.bind((address, 0))
            port = tcp.getsockname()[1]
            udp = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
            kept.append(udp)
            try:
                udp.bind((address, port))
            except OSError:
                continue
            ports.append(port)
        return ports
    finally:
        for each in kept:
            each.close()
