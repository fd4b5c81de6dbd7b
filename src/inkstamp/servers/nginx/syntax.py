"""The grammar of nginx configuration files: text in, directives with positions out.

A file is a run of directives; a directive is words followed by `;` or by a block in braces. Words are bare, or
in single or double quotes; `#` begins a comment where a word could begin; a backslash takes the next character
as it is; `${` inside a bare word is a variable and no block.
"""

import re

from inkstamp.errors import ServerTrouble
from inkstamp.servers.text import MOST_PIECES, Directive, Lines, Word, too_much

_NOTHING = re.compile(r"(?:[ \t\r\n]++|\#[^\n]*+)*+")
"""White space and comments."""
_TOKEN = re.compile(
    r"""(?:[ \t\r\n]++|\#[^\n]*+)*+(?:
     ([;{}])                                                         # 1
    |"((?:[^"\\]++|\\.){0,200000}+)"                                  # 2
    |'((?:[^'\\]++|\\.){0,200000}+)'                                  # 3
    |(?!["'])((?:[^\s;{}\\$]++|\\.|\$\{[^}\s]*+\}|\$(?!\{)){1,200000}+))  # 4
    """,
    re.DOTALL | re.VERBOSE,
)
"""The end of a directive, a word in quotes of either kind, a bare word, each with what is nothing before it. What has
matched is never given up again (possessive), so that a text is gone through once, whatever it holds."""
_ESCAPED = re.compile(r"\\([\"'\\trn])")
_MEANT = {"t": "\t", "r": "\r", "n": "\n"}
_BRACE = re.compile(r"[{}]")
_QUOTED = (2, 3)
_DEEPEST = 64
_NOT_ENDED = "a directive is not ended with “;”"


def _plain(value: str) -> str:
    """Take the backslash from before these characters alone, as nginx does: in a regular expression it must stay."""
    return _ESCAPED.sub(lambda found: _MEANT.get(found[1], found[1]), value)


class _Parser:
    def __init__(self, text: str, file: str) -> None:
        self._text = text
        self._file = file
        self._at = 0
        self._lines = Lines(text)
        self._left = MOST_PIECES

    def _broken(self, what: str, offset: int) -> ServerTrouble:
        line = self._text.count("\n", 0, offset) + 1
        return ServerTrouble(
            f"{what} in {self._file}", where=f"{self._file}, line {line}", advice="fix the file; `nginx -t` says more"
        )

    def directives(self, depth: int = 0) -> tuple[Directive, ...]:
        """Parse up to the closing brace of this level, or to the end of the file at level 0."""
        if depth > _DEEPEST:
            raise self._broken("blocks are nested too deep", self._at)
        found: list[Directive] = []
        words: list[Word] = []
        match, text = _TOKEN.match, self._text
        while True:
            token = match(text, self._at)
            if token is None:
                self._end(words, depth)
                return tuple(found)
            kind = token.lastindex or 1
            start, self._at = token.start(kind) - (kind in _QUOTED), token.end()
            self._left -= 1
            if self._left < 0:
                raise too_much(self._file, self._lines.number(start))
            if kind > 1:
                value = token[kind]
                words.append(Word(_plain(value) if "\\" in value else value, start, self._at))
                continue
            if token[1] == "}":
                if words:
                    raise self._broken(_NOT_ENDED, words[0].start)
                if not depth:
                    raise self._broken("“}” was not expected", start)
                return tuple(found)
            if not words:
                raise self._broken(f"“{token[1]}” was not expected", start)
            found.append(self._directive(tuple(words), token[1], depth))
            words = []

    def _end(self, words: list[Word], depth: int) -> None:
        """Raise ServerTrouble unless the file may end here."""
        at = _NOTHING.match(self._text, self._at).end()  # type: ignore[union-attr]  # it matches the empty text, too
        if at < len(self._text):
            mark = self._text[at]
            raise self._broken(f"a {mark} is not closed" if mark in "\"'" else f"“{mark}” was not expected", at)
        if words:
            raise self._broken(_NOT_ENDED, words[0].start)
        if depth:
            raise self._broken("a block is not closed with “}”", at)

    def _directive(self, words: tuple[Word, ...], mark: str, depth: int) -> Directive:
        """Return the directive that these words begin and `mark` ends, with its block."""
        start = words[0].start
        line = self._lines.number(start)
        if mark == ";":
            return Directive(words, None, self._file, line, start, self._at)
        inside = self._at
        block: tuple[Directive, ...] = ()
        if words[0].value.endswith("_by_lua_block"):
            self._skip_foreign_block()
        else:
            block = self.directives(depth + 1)
        return Directive(words, block, self._file, line, start, self._at, inside)

    def _skip_foreign_block(self) -> None:
        """Go to the brace that closes a block of another language, which has a grammar of its own."""
        depth = 1
        start = self._at
        for match in _BRACE.finditer(self._text, self._at):
            depth += 1 if match[0] == "{" else -1
            if not depth:
                self._at = match.end()
                return
        raise self._broken("a block is not closed with “}”", start)


def parse(text: str, file: str) -> tuple[Directive, ...]:
    """Parse one configuration file; includes are left as directives.

    Raises:
        ServerTrouble: The text breaks the grammar; names file and line.

    """
    return _Parser(text, file).directives()
