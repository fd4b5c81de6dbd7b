"""The grammar of nginx configuration files: text in, directives with positions out.

A file is a run of directives; a directive is words followed by `;` or by a block in braces. Words are bare, or
in single or double quotes; `#` begins a comment where a word could begin; a backslash takes the next character
as it is; `${` inside a bare word is a variable and no block.
"""

import re

from inkstamp.errors import ServerTrouble
from inkstamp.servers.text import Directive, Word

_BARE = re.compile(r"(?:\\.|\$\{[^}\s]*\}|\$(?!\{)|[^\s;{}\\$])+", re.DOTALL)
_SPACE = re.compile(r"(?:\s+|#[^\n]*)*")
_QUOTED = {
    '"': re.compile(r'"((?:\\.|[^"\\])*)"', re.DOTALL),
    "'": re.compile(r"'((?:\\.|[^'\\])*)'", re.DOTALL),
}
_DEEPEST = 64


class _Parser:
    def __init__(self, text: str, file: str) -> None:
        self._text = text
        self._file = file
        self._at = 0
        self._line = 1
        self._line_at = 0

    def _line_of(self, offset: int) -> int:
        self._line += self._text.count("\n", self._line_at, offset)
        self._line_at = offset
        return self._line

    def _broken(self, what: str, offset: int) -> ServerTrouble:
        line = self._text.count("\n", 0, offset) + 1
        return ServerTrouble(
            f"{what} in {self._file}", where=f"{self._file}, line {line}", advice="mend the file; `nginx -t` says more"
        )

    def _skip_space(self) -> None:
        match = _SPACE.match(self._text, self._at)
        if match:
            self._at = match.end()

    def _word(self) -> Word:
        start = self._at
        quote = self._text[start]
        if quote in _QUOTED:
            match = _QUOTED[quote].match(self._text, start)
            if not match:
                raise self._broken(f"a {quote} is not closed", start)
            value = match[1]
        else:
            match = _BARE.match(self._text, start)
            if not match:
                raise self._broken(f"“{quote}” was not expected", start)
            value = match[0]
        self._at = match.end()
        # nginx drops the backslash before quotes, backslash and itself; in a regular expression it must stay.
        return Word(re.sub(r"\\([\"'\\ ])", r"\1", value), start, self._at)

    def directives(self, depth: int = 0) -> tuple[Directive, ...]:
        """Parse up to the closing brace of this level, or to the end of the file at level 0."""
        if depth > _DEEPEST:
            raise self._broken("blocks are nested too deep", self._at)
        found: list[Directive] = []
        while True:
            self._skip_space()
            if self._at >= len(self._text):
                if depth:
                    raise self._broken("a block is not closed with “}”", len(self._text))
                return tuple(found)
            if self._text[self._at] == "}":
                if not depth:
                    raise self._broken("“}” was not expected", self._at)
                return tuple(found)
            found.append(self._directive(depth))

    def _directive(self, depth: int) -> Directive:
        start = self._at
        line = self._line_of(start)
        words: list[Word] = []
        while True:
            self._skip_space()
            mark = self._text[self._at : self._at + 1]
            if mark in ("", "}"):
                raise self._broken("a directive is not ended with “;”", start)
            if mark in (";", "{"):
                if not words:
                    raise self._broken(f"“{mark}” was not expected", self._at)
                break
            words.append(self._word())
        self._at += 1
        if mark == ";":
            return Directive(tuple(words), None, self._file, line, start, self._at)
        inside = self._at
        if words[0].value.endswith("_by_lua_block"):
            block: tuple[Directive, ...] = ()
            self._skip_foreign_block()
        else:
            block = self.directives(depth + 1)
        self._at += 1
        return Directive(tuple(words), block, self._file, line, start, self._at, inside)

    def _skip_foreign_block(self) -> None:
        """Go to the brace that closes a block of another language, which has a grammar of its own."""
        depth = 1
        start = self._at
        for match in re.compile(r"[{}]").finditer(self._text, self._at):
            depth += 1 if match[0] == "{" else -1
            if not depth:
                self._at = match.start()
                return
        raise self._broken("a block is not closed with “}”", start)


def parse(text: str, file: str) -> tuple[Directive, ...]:
    """Parse one configuration file; includes are left as directives.

    Raises:
        ServerTrouble: The text breaks the grammar; names file and line.

    """
    return _Parser(text, file).directives()
