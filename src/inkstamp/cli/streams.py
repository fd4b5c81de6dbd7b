"""What is written to a terminal, a file or the journal: our own words, and strangers' made harmless.

Much of what commands tell was written by somebody else: names in certificates, answers of servers and CAs, paths. All
of it goes through `printable` where it is made into a sentence; this is the last gate, which nothing passes by.
"""

import re
import sys
from typing import Any, TextIO

from inkstamp.printable import printable

_OURS = re.compile(r"(\x1b\[(?:0|3[1256])m)")
"""The colours that `output.paint` writes."""
_OVER = "\r\x1b[K"
"""To the beginning of the line, and erase it (ECMA-48, CR and EL)."""
_PRIORITY = re.compile(r"(^|\n)(<[0-7]>)")
"""What the journal takes for a line's priority (sd-daemon(3))."""


class HarmlessStream:
    """A text stream that writes nothing which could steer a terminal, or pass for a line of the journal."""

    def __init__(self, stream: TextIO) -> None:
        self._stream = stream

    def write(self, text: str) -> int:
        """Write text, cleaned."""
        self._stream.write(_PRIORITY.sub(r"\1·\2", _clean(text)))
        return len(text)

    def write_entry(self, priority: str, text: str) -> None:
        """Write lines of a log, each with a priority of ours in front."""
        self._stream.write("".join(f"{priority}{line}\n" for line in _clean(text).split("\n")))

    def draw(self, line: str) -> None:
        """Write a line over the one that the cursor stands on, which stays there: on terminals alone."""
        self._stream.write(f"{_OVER}{_clean(line)}")
        self._stream.flush()

    def __getattr__(self, name: str) -> Any:
        """Leave all else to the stream itself."""
        return getattr(self._stream, name)


def draw(line: str) -> None:
    """Write a line over the one that the cursor of stderr stands on; an empty one takes it away."""
    if isinstance(sys.stderr, HarmlessStream):
        sys.stderr.draw(line)
    else:  # nobody's but a test's
        HarmlessStream(sys.stderr).draw(line)


def _clean(text: str) -> str:
    if "\x1b" not in text:
        return printable(text)
    return "".join(part if number % 2 else printable(part) for number, part in enumerate(_OURS.split(text)))


def guard_output() -> None:
    """Have all that this process writes from now on cleaned; where a terminal cannot show a letter, it is escaped."""
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        if stream is not None and not isinstance(stream, HarmlessStream):
            if hasattr(stream, "reconfigure"):
                stream.reconfigure(errors="backslashreplace")
            setattr(sys, name, HarmlessStream(stream))
