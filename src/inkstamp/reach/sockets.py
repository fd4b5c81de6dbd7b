"""A question to a socket in the file system."""

import socket
import time

from inkstamp.deadline import time_left
from inkstamp.errors import ServerTrouble

_MOST = 8_388_608


def ask_socket(path: str, data: bytes, seconds: float, told: str) -> bytes:
    """Connect to `path`, send `data`, and return what comes back until the other side closes.

    Args:
        path: The socket.
        data: What is sent; the writing side stays open, since some servers hang up when it is closed.
        seconds: For all of it.
        told: How the place is called in a message.

    Raises:
        ServerTrouble: Nobody answers there, or it takes too long, or too much comes back.

    """
    deadline = time.monotonic() + time_left(seconds)
    received = bytearray()
    try:
        with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as stream:
            stream.settimeout(max(deadline - time.monotonic(), 0.001))
            stream.connect(path)
            stream.sendall(data)
            while True:
                stream.settimeout(max(deadline - time.monotonic(), 0.001))
                chunk = stream.recv(65536)
                received += chunk
                if not chunk:
                    return bytes(received)
                if len(received) > _MOST:
                    raise ServerTrouble(f"{told} answers without end", where=told)
    except TimeoutError as error:
        raise ServerTrouble(f"{told} gave no whole answer within {seconds:.0f} s", where=told) from error
    except (OSError, ValueError) as error:  # ValueError: a path with a zero byte
        raise ServerTrouble(
            f"nobody answers at the socket {told}",
            where=told,
            said=getattr(error, "strerror", None) or str(error),
            advice="check that the server is running, and that this user may write to its socket",
        ) from error
