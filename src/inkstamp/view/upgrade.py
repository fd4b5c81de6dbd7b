"""Ask a mail server, in its own protocol, to go on with TLS (STARTTLS)."""

import socket
import time
from typing import Literal

Upgrade = Literal["", "smtp", "imap", "pop3"]
"""The protocol in which TLS is asked for; empty where TLS begins at once."""
UPGRADES: dict[str, Upgrade] = {"smtp": "smtp", "imap": "imap", "pop3": "pop3"}
"""By the scheme of a URL."""

_MOST_LINE = 4096
_MOST_LINES = 100


def ask_for_tls(stream: socket.socket, protocol: Upgrade, deadline: float) -> str:
    """Bring a fresh connection to where the TLS handshake begins; returns why it cannot be, empty when it can.

    SMTP by RFC 3207, IMAP and POP3 by RFC 2595.

    Args:
        stream: A connection on which nothing was sent yet.
        protocol: What the server speaks.
        deadline: By `time.monotonic`.

    """
    try:
        match protocol:
            case "smtp":
                return _smtp(_Lines(stream, deadline))
            case "imap":
                return _imap(_Lines(stream, deadline))
            case "pop3":
                return _pop3(_Lines(stream, deadline))
            case "":
                return ""
    except TimeoutError:
        return f"says nothing more while {protocol.upper()} is spoken with it"
    except EOFError:
        return f"does not speak {protocol.upper()}"


class _Lines:
    """The server's lines, bounded in length, number and time; read byte by byte, as TLS may follow any of them."""

    def __init__(self, stream: socket.socket, deadline: float) -> None:
        self._stream = stream
        self._deadline = deadline

    def send(self, line: str) -> None:
        self._stream.sendall(f"{line}\r\n".encode("ascii"))

    def next(self) -> str:
        line = bytearray()
        while not line.endswith(b"\n"):
            left = self._deadline - time.monotonic()
            if left <= 0:
                raise TimeoutError
            self._stream.settimeout(left)
            byte = self._stream.recv(1)
            if not byte or len(line) >= _MOST_LINE:
                raise EOFError
            line += byte
        return line.decode("utf-8", "replace").strip()

    def until(self, prefixes: tuple[str, ...]) -> str:
        """Return the next line that begins with one of them."""
        for _ in range(_MOST_LINES):
            line = self.next()
            if line.startswith(prefixes):
                return line
        raise EOFError

    def reply(self) -> str:
        """Return the last line of an SMTP reply (RFC 5321 section 4.2)."""
        for _ in range(_MOST_LINES):
            line = self.next()
            if not line[:3].isdigit():
                raise EOFError
            if line[3:4] != "-":
                return line
        raise EOFError


def _smtp(lines: _Lines) -> str:
    greeting = lines.reply()
    if not greeting.startswith("220"):
        return f"refuses connections: {greeting}"
    lines.send("EHLO inkstamp.invalid")
    lines.reply()
    lines.send("STARTTLS")
    answer = lines.reply()
    return "" if answer.startswith("220") else f"offers no TLS: {answer}"


def _imap(lines: _Lines) -> str:
    greeting = lines.until(("* ",))
    if not greeting.startswith("* OK"):
        return f"refuses connections: {greeting}"
    lines.send("a1 STARTTLS")
    answer = lines.until(("a1 ",))
    return "" if answer.startswith("a1 OK") else f"offers no TLS: {answer.removeprefix('a1 ')}"


def _pop3(lines: _Lines) -> str:
    greeting = lines.next()
    if not greeting.startswith("+OK"):
        return f"refuses connections: {greeting}"
    lines.send("STLS")
    answer = lines.next()
    return "" if answer.startswith("+OK") else f"offers no TLS: {answer}"
