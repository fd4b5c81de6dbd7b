"""HAProxy's configuration as lines of words with positions (its manual, section 2.2, “Quoting and escaping”)."""

import re
from collections.abc import Iterator

from inkstamp.errors import ServerTrouble
from inkstamp.servers.text import Directive, Tally, Word, lines_of

_LONGEST_LINE = 65_536
_PLAIN = re.compile(r"""[^ \t#"'\\]+""")
_IN_SINGLE, _IN_DOUBLE = re.compile(r"[^']+"), re.compile(r'[^"\\]+')
_ESCAPES = {"n": "\n", "t": "\t", "r": "\r"}


def parse(text: str, file: str) -> list[Directive]:
    """Read all lines that hold a word.

    Raises:
        ServerTrouble: A quote is not closed; names the line.

    """
    found = []
    tally = Tally()
    for number, start, line in lines_of(text, file, _LONGEST_LINE):
        words = tuple(_words(line.rstrip("\r"), start, file, number))
        if words:
            tally.take(file, number, len(words) + 2)
            found.append(Directive(words, None, file, number, words[0].start, words[-1].end))
    return found


def _words(line: str, offset: int, file: str, number: int) -> Iterator[Word]:
    at = 0
    while at < len(line):
        if line[at] in " \t":
            at += 1
            continue
        if line[at] == "#":
            return
        value, end = _word(line, at, f"{file}, line {number}")
        yield Word(value, offset + at, offset + end)
        at = end


def _word(line: str, at: int, where: str) -> tuple[str, int]:
    """Return the word that begins at `at`, and where it ends. Variables stay as they are written."""
    value, quote = "", ""
    while at < len(line):
        run = {"'": _IN_SINGLE, '"': _IN_DOUBLE}.get(quote, _PLAIN).match(line, at)
        if run is not None:
            value += run[0]
            at = run.end()
            continue
        letter = line[at]
        if letter == "\\" and quote != "'" and at + 1 < len(line):
            escaped, at = _escape(line, at, quoted=bool(quote))
            value += escaped
            continue
        if quote and letter == quote:
            quote = ""
        elif quote or letter == "\\":
            value += letter
        elif letter in "\"'":
            quote = letter
        else:
            break
        at += 1
    if quote:
        raise ServerTrouble(f"a {quote} is not closed", where=where, advice="correct that line")
    return value, at


def _escape(line: str, at: int, *, quoted: bool) -> tuple[str, int]:
    """Return what the backslash at `at` stands for, and where the rest begins."""
    letter = line[at + 1]
    if letter == "x" and not quoted and at + 4 <= len(line):
        digits = line[at + 2 : at + 4]
        if all(each in "0123456789abcdefABCDEF" for each in digits):
            return chr(int(digits, 16)), at + 4
    if quoted and letter not in '"\\$':
        return "\\", at + 1
    return (_ESCAPES.get(letter, letter) if not quoted else letter), at + 2


def quote(value: str) -> str:
    """Write a value so that HAProxy reads it back the same."""
    if not set(value) & set(" \t#\"'\\$"):
        return value
    return "'" + value.replace("'", "'\\''") + "'"
