"""Text by strangers, made harmless: what servers, CAs, certificates, DNS and file names say may be shown and recorded.

What could steer a terminal, begin a line of a log that is not ours, or turn the order of the letters around (Unicode's
bidirectional controls) is replaced by a dot in the middle of the line.
"""

_DOT = "·"


def printable(text: str) -> str:
    """Return `text` with a dot for every character that does not print; its line ends stay.

    Controls, bidirectional overrides and isolates, separators other than a blank, unassigned code points and lone
    surrogates do not print (`str.isprintable`).
    """
    if text.isprintable() or text.replace("\n", "").isprintable():
        return text
    text = text.replace("\r\n", "\n").replace("\t", " ")
    return "".join(char if char == "\n" or char.isprintable() else _DOT for char in text)


def one_line(text: str, most: int = 0) -> str:
    """Return `text` as one printable line, with blanks for its line ends; no longer than `most` where that is given."""
    line = printable(text)
    if "\n" in line:
        line = " ".join(line.split("\n"))
    return line if not most or len(line) <= most else line[: most - 1] + "…"


def shown_bytes(data: bytes, most: int = 300) -> str:
    """Return the beginning of bytes that should be text, as printable text."""
    return printable(data[:most].decode("utf-8", "replace"))


def escaped_json(text: str) -> str:
    """Return a JSON text in which every character that does not print is escaped (RFC 8259 section 7).

    Line ends and blanks between its parts stay: within a string they are escaped already.
    """
    if text.isascii() and "\x7f" not in text:
        return text
    return "".join(char if char == "\n" or char.isprintable() else _escaped(char) for char in text)


def _escaped(char: str) -> str:
    number = ord(char)
    if number < 0x10000:
        return f"\\u{number:04x}"
    number -= 0x10000
    return f"\\u{0xD800 + (number >> 10):04x}\\u{0xDC00 + (number & 0x3FF):04x}"
