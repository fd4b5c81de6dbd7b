r"""The grammar of Apache httpd configuration files: text in, directives with positions out.

A line is a directive: its name, then words that are bare or in quotes. A backslash at the end of a line goes on in
the next one, `#` at the beginning makes it a comment. `<Name words>` opens a section that `</Name>` closes.
"""

import re
from typing import NamedTuple

from inkstamp.errors import ServerTrouble
from inkstamp.servers.text import LONGEST_LINE, Directive, Lines, Tally, Word

_LINE = re.compile(r"(?:[^\\\n]++|\\\r?\n|\\)*+")
_WORD = re.compile(r"""[ \t]*+(?:"((?:[^"\\]++|\\.)*+)"|'((?:[^'\\]++|\\.)*+)'|([^ \t]++))""", re.DOTALL)
_BLANK = " \t\r\v\f"
_ESCAPED = re.compile(r"\\([\\\"'])")
_GOES_ON = re.compile(r"\\\r?\n")
_DEEPEST = 64


class _Line(NamedTuple):
    start: int
    """Offset of the first character that is no white space."""
    end: int
    """Offset of the line's end."""
    text: str
    """From `start` to `end`; what joins continued lines is blanks, so that offsets stay true."""


class _Parser:
    def __init__(self, text: str, file: str) -> None:
        self._text = text
        self._file = file
        self._tally = Tally()
        self._numbers = Lines(text)
        self._lines = self._split()
        self._at = 0

    def _split(self) -> list[_Line]:
        lines, at, number = [], 0, 0
        while at < len(self._text):
            match = _LINE.match(self._text, at)
            end = match.end() if match else at
            number += 1
            self._tally.take(self._file, number)
            if end - at > LONGEST_LINE:
                raise self.broken(f"a line of {end - at} characters is there", at)
            raw = self._text[at:end]
            if "\\" in raw:
                raw = _GOES_ON.sub(lambda found: " " * len(found[0]), raw)
            start = at + len(raw) - len(raw.lstrip(_BLANK))
            stripped = raw.strip(_BLANK)
            if stripped and not stripped.startswith("#"):
                lines.append(_Line(start, start + len(stripped), stripped))
            at = end + 1
        return lines

    def broken(self, what: str, offset: int) -> ServerTrouble:
        line = self._text.count("\n", 0, offset) + 1
        return ServerTrouble(
            f"{what} in {self._file}",
            where=f"{self._file}, line {line}",
            advice="fix the file; `apache2ctl -t` says more",
        )

    def directives(self, opened: _Line | None, depth: int = 0) -> tuple[tuple[Directive, ...], _Line | None]:
        """Parse up to the line that closes the section `opened`, which is returned too, or to the end of the file."""
        if depth > _DEEPEST and opened is not None:
            raise self.broken("sections are nested too deep", opened.start)
        found: list[Directive] = []
        while self._at < len(self._lines):
            line = self._lines[self._at]
            self._at += 1
            if line.text.startswith("</"):
                if opened is None:
                    raise self.broken(f"“{line.text}” closes nothing", line.start)
                return tuple(found), line
            found.append(self._section(line, depth) if line.text.startswith("<") else self._plain(line))
        if opened is not None:
            raise self.broken(f"“{opened.text}” is not closed", opened.start)
        return tuple(found), None

    def _plain(self, line: _Line) -> Directive:
        words = self._words(line.start, line.text)
        return Directive(words, None, self._file, self._numbers.number(line.start), line.start, line.end)

    def _section(self, line: _Line, depth: int) -> Directive:
        if not line.text.endswith(">"):
            raise self.broken(f"“{line.text}” lacks its “>”", line.start)
        words = self._words(line.start + 1, line.text[1:-1])
        if not words:
            raise self.broken("a section has no name", line.start)
        number = self._numbers.number(line.start)
        inside, closing = self.directives(line, depth + 1)
        wanted = f"</{words[0].value}>".lower()
        if closing is None or closing.text.lower().replace(" ", "") != wanted:
            raise self.broken(f"“{line.text}” is closed by “{closing.text if closing else ''}”", line.start)
        return Directive(words, inside, self._file, number, line.start, closing.end, line.end)

    def _words(self, start: int, text: str) -> tuple[Word, ...]:
        words, at = [], 0
        while match := _WORD.match(text, at):
            double, single, bare = match.groups()
            value = bare if bare is not None else _ESCAPED.sub(r"\1", double if single is None else single)
            self._tally.take(self._file, 0)
            begin = match.end() - len(match[0].lstrip(_BLANK))
            words.append(Word(value, start + begin, start + match.end()))
            at = match.end()
        return tuple(words)


def parse(text: str, file: str) -> tuple[Directive, ...]:
    """Parse one configuration file; includes, conditions and variables are left as they stand.

    Raises:
        ServerTrouble: The text breaks the grammar; names file and line.

    """
    return _Parser(text, file).directives(None)[0]
