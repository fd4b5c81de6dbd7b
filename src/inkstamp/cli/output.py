"""How results, findings and errors look: plain words first, colour only where a person looks on."""

import os
import shutil
import sys
import textwrap
from collections.abc import Iterable, Sequence
from typing import Any, TextIO

from inkstamp.errors import InkStampError, UsageError
from inkstamp.printable import escaped_json, printable
from inkstamp.severity import Severity

TYPE_CHECKING = False
if TYPE_CHECKING:
    from inkstamp.findings import Finding

JSON_FORMAT = 2
_WIDEST_TEXT, _WIDEST_TABLE = 110, 200
_MOST_GOOD = 10
"""Findings that are good, of which nobody has to read more."""
_SECOND = "\ue000"
"""The second column of a wide character, while lines are broken; `clean` leaves none of the private use area."""
_TREE = "└─"
"""Drawn before a certificate of a chain."""
_COLOURS = {Severity.OK: "32", Severity.NOTE: "36", Severity.WARN: "35", Severity.BAD: "31"}


def width_of(text: str) -> int:
    """Return how many columns a terminal takes for a text: two for a wide character (UAX #11), none for a combining."""
    return len(text) if text.isascii() else sum(map(_columns, text))


def _columns(char: str) -> int:
    import unicodedata

    if unicodedata.east_asian_width(char) in "WF":
        return 2
    return 0 if unicodedata.category(char) in ("Mn", "Me", "Cf") else 1


def width() -> int:
    """Return the columns to write in: the terminal's, between 60 and 110; 80 where there is no terminal."""
    return min(_terminal_width(), _WIDEST_TEXT)


def _terminal_width() -> int:
    return max(60, min(shutil.get_terminal_size((80, 24)).columns, _WIDEST_TABLE))


def coloured(stream: TextIO) -> bool:
    """Tell whether colour helps there: on a terminal, unless NO_COLOR is set."""
    term = os.environ.get("TERM", "")
    shows = term != "dumb" and bool(term or os.environ.get("COLORTERM"))
    return stream.isatty() and shows and not os.environ.get("NO_COLOR") and not is_plain()


def redraws(stream: TextIO) -> bool:
    """Tell whether a line can be drawn over there: on a terminal that moves its cursor, and not with `--plain`."""
    return stream.isatty() and os.environ.get("TERM") != "dumb" and not is_plain()


def is_plain() -> bool:
    """Tell whether output is for a screen reader or a log: no drawing characters, no line that changes (`--plain`)."""
    return bool(os.environ.get("INKSTAMP_PLAIN"))


def paint(text: str, severity: Severity, stream: TextIO) -> str:
    """Colour `text` by severity where the stream shows colour."""
    return f"\033[{_COLOURS[severity]}m{text}\033[0m" if coloured(stream) else text


def clean(text: str) -> str:
    """Replace what could steer a terminal: much of what is shown was written by strangers."""
    return printable(text)


def wrapped(text: str, first: str, rest: str) -> str:
    """Wrap each line of `text` to the width, with `first` before the first line and `rest` before the others."""
    lines: list[str] = []
    for line in clean(text.replace("\t", " ").replace("\r\n", "\n")).split("\n"):
        lead = first if not lines else rest
        lines += _wrap(line, lead, rest) or [lead.rstrip()]
    return "\n".join(lines)


def _wrap(line: str, first: str, rest: str) -> list[str]:
    # What takes two columns is counted twice while lines are broken, which is only done at spaces.
    counted = line if line.isascii() else "".join(char + _SECOND * (_columns(char) - 1) for char in line)
    lines = textwrap.wrap(
        counted, width(), initial_indent=first, subsequent_indent=rest, break_long_words=False, break_on_hyphens=False
    )
    return [each.replace(_SECOND, "") for each in lines]


def branch(depth: int) -> str:
    """Return what stands before a certificate of a chain, the leaf having depth 0."""
    mark = "issued by: " if is_plain() else f"{_TREE} "
    return "   " * depth + (mark if depth else "")


def field(name: str, value: str) -> str:
    """Write a named value, its further lines below the first."""
    return wrapped(value, f"  {name:<12}", " " * 14)


def finding(each: "Finding", stream: TextIO, *, below: str = "") -> str:
    """Write a finding: severity in words, subject (unless it stands `below` it), what was seen, what to do."""
    mark = f"  {each.severity:<6}"
    about = "" if each.subject == below else f"{each.subject}: "
    text = wrapped(about + each.seen, mark, " " * len(mark))
    if each.remedy:
        text += "\n" + wrapped(each.remedy, " " * len(mark) + "fix: ", " " * (len(mark) + 5))
    return text.replace(mark, paint(mark, each.severity, stream), 1)


def findings(many: "Iterable[Finding]", stream: TextIO | None = None, *, below: str = "") -> None:
    """Print findings, one below the other; `below` is the subject that the heading names already."""
    stream = stream or sys.stdout
    for each in many:
        print(finding(each, stream, below=below), file=stream)


def findings_in_short(many: "Sequence[Finding]") -> None:
    """Print findings; of very many that are good, the first ones and how many more there are."""
    good = [each for each in many if each.severity is Severity.OK]
    left = {id(each) for each in good[_MOST_GOOD:]}
    findings(each for each in many if id(each) not in left)
    if left:
        from inkstamp.findings import ok

        findings([ok("more", "", f"and {len(left)} more, as good: --json lists them")], below="")


def all_good(many: "Iterable[Finding]", *, below: str) -> None:
    """Print what is good as one paragraph: it has to be told, and nobody has to read it line by line."""
    told = [each.seen if each.subject == below else f"{each.subject} {each.seen}" for each in many]
    if told:
        mark = f"  {Severity.OK:<6}"
        text = wrapped("; ".join(told), mark, " " * len(mark))
        print(text.replace(mark, paint(mark, Severity.OK, sys.stdout), 1))


def differences(many: Sequence[str]) -> None:
    """Print unified diffs, set apart by blank lines."""
    for each in many:
        print()
        print(clean(each.rstrip("\n").replace("\t", "    ")))
    if many:
        print()


def error(trouble: InkStampError, about: str = "inkstamp") -> None:
    """Print an error on stderr: what, the findings behind it, where, what the other side said, what to do."""
    stream = sys.stderr
    text = wrapped(trouble.what, f"{about}: ", "  ")
    print(text.replace(about, paint(about, Severity.BAD, stream), 1), file=stream)
    findings((each for each in trouble.findings if each.severity is not Severity.OK), stream)
    for name, text in (("at", trouble.where), ("said", trouble.said), ("fix", trouble.advice)):
        if text:
            print(wrapped(text, f"  {name:<7}", " " * 9), file=stream)


def ask(told: str, word: str, *, yes: bool) -> None:
    """Have a person type a word before what cannot be taken back; UsageError when it is another one.

    Args:
        told: What is about to be done.
        word: What has to be typed.
        yes: Whether that was agreed to on the command line.

    """
    if yes:
        return
    if not sys.stdin.isatty():
        raise UsageError(f"cannot ask for confirmation without a terminal: {told}", advice="add --yes to confirm")
    print(wrapped(told, "", ""), file=sys.stderr)
    print(f"Type {word} to continue: ", end="", file=sys.stderr, flush=True)
    if sys.stdin.readline().strip() != word:
        raise UsageError("nothing was done", advice=f"type {word} to continue")


def as_json(command: str, **content: Any) -> None:
    """Print one JSON document."""
    sys.stdout.write(json_text({"format": JSON_FORMAT, "command": command, **content}, indent=2) + "\n")


def json_text(document: object, *, indent: int = 0) -> str:
    """Write JSON (RFC 8259) in which nothing stands that a terminal would not print: it is escaped."""
    import msgspec

    try:
        data = msgspec.json.encode(document)
        return escaped_json((msgspec.json.format(data, indent=indent) if indent else data).decode())
    except UnicodeEncodeError:  # a path with a byte that is no UTF-8, kept as a lone surrogate
        import json

        return escaped_json(json.dumps(msgspec.to_builtins(document), indent=indent or None, ensure_ascii=False))


def error_data(trouble: InkStampError) -> dict[str, Any]:
    """Return an error as JSON shows it."""
    return {
        "kind": trouble.class_name,
        "what": trouble.what,
        "where": trouble.where,
        "said": trouble.said,
        "advice": trouble.advice,
        "findings": trouble.findings,
        "exit_status": trouble.exit_status,
    }


def json_error(command: str, trouble: InkStampError) -> None:
    """Print an error as the JSON document of a command that failed."""
    as_json(command, error=error_data(trouble))


def first_of(names: Sequence[str]) -> str:
    """Return the first of some names, and how many more there are; empty for none."""
    return "".join(names[:1]) + (f" +{len(names) - 1}" if len(names) > 1 else "")


def table(headings: Sequence[str], rows: Sequence[Sequence[str]]) -> None:
    """Print rows below headings, each column as wide as its longest cell; on a terminal the last is cut at the width.

    With `--plain` each row is a line of headings and cells; a column without a heading is drawn, and left out there.
    Written line by line, since there may be ten thousand of them.
    """
    rows = [[clean(cell) for cell in row] for row in rows]
    if is_plain():
        for row in rows:
            told = [
                f"{name}: {cell}" for name, cell in zip(headings, row, strict=True) if name and cell not in ("", "-")
            ]
            print(wrapped("; ".join(told), "", "  "))
        return
    widths = [max(map(width_of, column)) for column in zip(headings, *rows, strict=True)]
    if sys.stdout.isatty() or "COLUMNS" in os.environ:
        room = max(_terminal_width() - sum(widths[:-1]) - 2 * len(widths[:-1]), 12)
        widths[-1] = min(widths[-1], room)
    for row in (headings, ["-" * wide for wide in widths], *rows):
        cells = [cell + " " * (wide - width_of(cell)) for cell, wide in zip(row[:-1], widths[:-1], strict=True)]
        print("  ".join([*cells, cut(row[-1], widths[-1])]).rstrip())


def cut(text: str, columns: int) -> str:
    """Return a text that fits into so many columns; an ellipsis stands for what does not."""
    if width_of(text) <= columns:
        return text
    while text and width_of(text) >= columns:
        text = text[:-1]
    return f"{text}…"
