"""Where in a TOML text a key stands; parsers do not tell, and an error must."""

import re

_HEADER = re.compile(r"\s*+\[\s*+([^\[\]]++)\]\s*+(#.*)?$")
_KEY = re.compile(
    r"""\s*+((?:[A-Za-z0-9_-]++|"[^"]*+"|'[^']*+')(?:\s*+\.\s*+(?:[A-Za-z0-9_-]++|"[^"]*+"|'[^']*+'))*+)\s*+="""
)
_BARE = re.compile(r"[A-Za-z0-9_-]+")
_PART = re.compile(r"""[A-Za-z0-9_-]+|"[^"]*"|'[^']*'""")


def _parts(dotted: str) -> tuple[str, ...]:
    return tuple(part.strip("\"'") for part in _PART.findall(dotted))


def line_of(text: str, path: tuple[str, ...]) -> int:
    """Return the line (from 1) of the table or key that `path` leads to, or of its nearest table.

    A line inside a multi-line string that looks like a key can mislead it; it serves messages only.
    """
    best_line, best_depth = 1, 0
    table: tuple[str, ...] = ()
    for number, line in enumerate(text.split("\n"), start=1):
        header = _HEADER.match(line)
        if header:
            table = here = _parts(header.group(1))
        else:
            key = _KEY.match(line)
            if not key:
                continue
            here = table + _parts(key.group(1))
        shared = 0
        while shared < min(len(here), len(path)) and here[shared] == path[shared]:
            shared += 1
        # Only an ancestor or the thing itself counts: a sibling shares a prefix too, and is not it.
        if shared > best_depth and shared == len(here):
            best_line, best_depth = number, shared
    return best_line


def entries_of(text: str, table: str) -> list[str]:
    """Return the names of a table's entries by their headers alone: for completion, which cannot wait for a parser."""
    found = re.findall(
        rf"""^[ \t]*\[[ \t]*{table}[ \t]*\.[ \t]*([A-Za-z0-9_-]+|"[^"\n]*"|'[^'\n]*')""", text, re.MULTILINE
    )
    return list(dict.fromkeys(each.strip("\"'") for each in found))


def with_header(text: str, table: str, old: str, new: str) -> str:
    """Return a TOML text with the headers of one entry, and of tables below it, by another name."""
    lines = text.split("\n")
    for number, line in enumerate(lines):
        header = _HEADER.match(line)
        parts = _parts(header.group(1)) if header else ()
        if header and parts[:2] == (table, old):
            named = ".".join([table, *(each if _BARE.fullmatch(each) else f'"{each}"' for each in (new, *parts[2:]))])
            lines[number] = line[: header.start(1)] + named + line[header.end(1) :]
    return "\n".join(lines)
