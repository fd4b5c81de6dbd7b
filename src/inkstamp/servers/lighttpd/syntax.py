"""The grammar of lighttpd's configuration: assignments, conditions with blocks, includes.

An assignment's words are its key, its operator and its value as written; a condition's are the variable, the operator
and what it is compared with, or `else` alone.
"""

import re

from inkstamp.errors import ServerTrouble
from inkstamp.servers.text import MOST_PIECES, Directive, Lines, Word, too_much

_TOKEN = re.compile(
    r"""(?:[ \t\r\n]++|\#[^\n]*+)++
    |(?P<text>"(?:[^"\\]++|\\.){0,200000}+")
    |(?P<condition>\$[A-Z_]+\s*\[\s*"[^"\n]*"\s*\])
    |(?P<operator>\+=|:=|=>|==|!=|=~|!~|=\^|=\$|=)
    |(?P<mark>[(){},+])
    |(?P<name>[A-Za-z0-9_][A-Za-z0-9_.-]*)
    """,
    re.DOTALL | re.VERBOSE,
)
_ASSIGNS = {"=", "+=", ":="}
_INCLUDES = {"include", "include_shell"}
_DEEPEST = 32


def plain(text: str) -> str:
    """Return what stands between the quotes of a string."""
    return re.sub(r'\\(["\\])', r"\1", text[1:-1])


def quote(value: str) -> str:
    """Write a string."""
    return '"' + value.replace("\\", "\\\\").replace('"', '\\"') + '"'


class _Parser:
    def __init__(self, text: str, file: str) -> None:
        self._text = text
        self._file = file
        self._tokens: list[tuple[str, str, int, int]] = []
        self._lines = Lines(text)
        at = 0
        while at < len(text):
            token = _TOKEN.match(text, at)
            if token is None:
                raise self._broken(f"“{text[at]}” was not expected", at)
            if token.lastgroup:
                self._tokens.append((token.lastgroup, token[0], at, token.end()))
                if len(self._tokens) > MOST_PIECES:
                    raise too_much(file, self._lines.number(at))
            at = token.end()
        self._tokens.append(("end", "", len(text), len(text)))
        self._at = 0

    def _broken(self, what: str, offset: int) -> ServerTrouble:
        line = self._text.count("\n", 0, offset) + 1
        return ServerTrouble(f"{what} in {self._file}", where=f"{self._file}, line {line}",
                             advice="fix the file; `lighttpd -tt` says more")  # fmt: skip

    def _take(self, *kinds: str) -> tuple[str, str, int, int]:
        token = self._tokens[self._at]
        if token[0] not in kinds:
            raise self._broken(f"“{token[1]}” was not expected", token[2])
        self._at += 1
        return token

    def statements(self, depth: int = 0) -> tuple[Directive, ...]:
        """Parse up to the closing brace of this level, or to the end of the file at level 0."""
        found: list[Directive] = []
        while True:
            kind, text, start, _ = self._tokens[self._at]
            if kind == "end" or text == "}":
                if (kind == "end") is bool(depth):
                    raise self._broken("a block is not closed" if depth else "“}” was not expected", start)
                return tuple(found)
            if depth > _DEEPEST:
                raise self._broken("blocks are nested too deep", start)
            found.append(self._condition(depth) if kind == "condition" or text == "else" else self._assignment())

    def _assignment(self) -> Directive:
        _, name, start, end = self._take("name")
        words = [Word(name, start, end)]
        if name not in _INCLUDES:
            _, operator, begin, end = self._take("operator")
            if operator not in _ASSIGNS:
                raise self._broken(f"“{operator}” was not expected", begin)
            words.append(Word(operator, begin, end))
        begin = self._tokens[self._at][2]
        end = self._value()
        words.append(Word(self._text[begin:end], begin, end))
        return Directive(tuple(words), None, self._file, self._line(start), start, end)

    def _value(self) -> int:
        """Go behind a value: terms joined by `+`, arrays in parentheses; returns where it ends."""
        while True:
            kind, text, start, end = self._take("text", "name", "mark")
            if kind == "mark":
                if text != "(":
                    raise self._broken(f"“{text}” was not expected", start)
                end = self._array()
            if self._tokens[self._at][1] != "+":
                return end
            self._at += 1

    def _array(self) -> int:
        depth = 1
        while depth:
            kind, text, start, end = self._tokens[self._at]
            if kind == "end":
                raise self._broken("an array is not closed with “)”", start)
            depth += {"(": 1, ")": -1}.get(text, 0)
            self._at += 1
        return end

    def _condition(self, depth: int) -> Directive:
        start = self._tokens[self._at][2]
        line = self._line(start)  # asked for before those inside: the text is gone through once
        words = []
        if self._tokens[self._at][1] == "else":
            words.append(Word("else", start, self._take("name")[3]))
            if self._tokens[self._at][1] == "if":
                self._at += 1
        if self._tokens[self._at][0] == "condition":
            _, text, begin, end = self._take("condition")
            _, operator, at, to = self._take("operator")
            _, value, first, last = self._take("text")
            words = [Word(re.sub(r"\s", "", text), begin, end), Word(operator, at, to), Word(plain(value), first, last)]
        inside = self._take("mark")[3]
        block = self.statements(depth + 1)
        end = self._take("mark")[3]
        return Directive(tuple(words), block, self._file, line, start, end, inside)

    def _line(self, offset: int) -> int:
        return self._lines.number(offset)


def parse(text: str, file: str) -> tuple[Directive, ...]:
    """Parse one file; ServerTrouble with file and line when it breaks the grammar."""
    return _Parser(text, file).statements()
