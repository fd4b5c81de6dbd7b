"""Configuration text of any server: directives with positions, and edits that leave every other byte as it is."""

import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple

import msgspec
from msgspec import Struct

from inkstamp.errors import FileTrouble, ServerTrouble
from inkstamp.servers.interface import FileChange

_MOST_FILES = 20_000
_MOST_TEXT = 67_108_864
"""Characters of all files of a configuration together."""
MOST_PIECES = 400_000
"""Lines, words or marks of one file, and directives of a whole configuration with all that it includes; a server with
ten thousand sites has half of that."""
LONGEST_LINE = 1_048_576
"""Characters."""
MOST_VALUE = 65_536
"""Characters of one value with its variables filled in."""


class Word(NamedTuple):
    """One word, without its quotes, and where it stands with them."""

    value: str
    start: int
    end: int


class Directive(msgspec.Struct, frozen=True, gc=False):
    """A directive of one file; there may be hundreds of thousands of them."""

    words: tuple[Word, ...]
    """The directive's name first."""
    block: tuple["Directive", ...] | None
    """What stands between its braces; None when it ends with a semicolon."""
    file: str
    line: int
    """From 1, of the name."""
    start: int
    """Offset of the name."""
    end: int
    """Offset behind the `;` or the `}`."""
    block_start: int = 0
    """Offset behind the `{`."""

    @property
    def name(self) -> str:
        """The first word."""
        return self.words[0].value

    @property
    def arguments(self) -> tuple[str, ...]:
        """The words after the name."""
        return tuple(word.value for word in self.words[1:])

    def find(self, name: str) -> Iterator["Directive"]:
        """Yield the directives of that name directly inside this one's block."""
        return (child for child in self.block or () if child.name == name)


class Texts(dict[str, str]):
    """Text of each file of a configuration by path; bytes that are no UTF-8 are kept as surrogates."""

    held = 0
    """Characters of all of them together."""


def read_once(
    texts: Texts, path: str, wanted_by: Directive | None, read_file: Callable[[str], bytes], product: str
) -> str:
    """Return the text of a configuration file; it is read when `texts` does not have it yet.

    Args:
        texts: What was read.
        path: The file.
        wanted_by: The directive that names it; None for the main file.
        read_file: Reads one.
        product: The server's name, for a message.

    Raises:
        ServerTrouble: It cannot be read, or there are too many.

    """
    if path not in texts:
        if len(texts) >= _MOST_FILES:
            raise ServerTrouble(f"more than {_MOST_FILES} files are included", where=path)
        try:
            text = read_file(path).decode("utf-8", "surrogateescape")
        except FileTrouble as error:
            raise ServerTrouble(
                f"cannot read {product}'s configuration {path}",
                where=f"{wanted_by.file}, line {wanted_by.line}" if wanted_by else path,
                said=error.said,
                advice="check the path, and that this user may read it",
            ) from error
        texts.held += len(text)
        if texts.held > _MOST_TEXT:
            raise ServerTrouble(
                f"{product}'s configuration has more than {_MOST_TEXT // 1_048_576} MiB", where=path,
                advice="see which of its files is that large, and what it is for",
            )  # fmt: skip
        texts[path] = text
    return texts[path]


class Tally:
    """Counts what a configuration holds, so that no file of anybody's makes it endless."""

    __slots__ = ("left",)

    def __init__(self) -> None:
        self.left = MOST_PIECES

    def take(self, file: str, line: int, count: int = 1) -> None:
        """Count; ServerTrouble when there is more than any server has."""
        self.left -= count
        if self.left < 0:
            raise too_much(file, line)


def too_much(file: str, line: int) -> ServerTrouble:
    """Return the error for a configuration with more in it than is read."""
    return ServerTrouble(
        f"the configuration has more than {MOST_PIECES} lines or words", where=f"{file}, line {line}",
        advice="see what that file is for, and what includes it again and again",
    )  # fmt: skip


class Lines:
    """Numbers of lines by offset; asked for in rising order, the text is gone through once."""

    def __init__(self, text: str) -> None:
        self._text = text
        self._line, self._at = 1, 0

    def number(self, offset: int) -> int:
        """Return the number of the line that an offset is in, from 1."""
        if offset < self._at:
            self._line, self._at = 1, 0
        self._line += self._text.count("\n", self._at, offset)
        self._at = offset
        return self._line


def lines_of(text: str, file: str, longest: int = LONGEST_LINE) -> Iterator[tuple[int, int, str]]:
    """Yield number, offset and text of each line, without its end: a line feed alone ends one, as servers have it.

    Raises:
        ServerTrouble: There are more lines, or longer ones, than any configuration has.

    """
    at, number, end = 0, 0, len(text)
    while at <= end:
        number += 1
        ends = text.find("\n", at)
        ends = end if ends < 0 else ends
        if number > MOST_PIECES:
            raise too_much(file, number)
        if ends - at > longest:
            raise ServerTrouble(
                f"a line of {file} has {ends - at} characters", where=f"{file}, line {number}", advice="see what it is"
            )
        yield number, at, text[at:ends]
        at = ends + 1


class Splice(Struct, frozen=True):
    """Put `text` in the place of the characters from `start` to `end` of `file`."""

    file: str
    start: int
    end: int
    text: str


def apply(text: str, splices: Sequence[Splice]) -> str:
    """Return `text` with all splices made; they must not overlap."""
    for splice in sorted(splices, key=lambda each: each.start, reverse=True):
        text = text[: splice.start] + splice.text + text[splice.end :]
    return text


def changes(texts: Mapping[str, str], splices: Iterable[Splice]) -> list[FileChange]:
    """Return the files of `texts` (bytes that are no UTF-8 kept as surrogates) before and after the splices."""
    by_file: dict[str, dict[Splice, None]] = {}
    for splice in splices:
        by_file.setdefault(splice.file, {})[splice] = None
    return [
        FileChange(
            path,
            texts[path].encode("utf-8", "surrogateescape"),
            apply(texts[path], list(mine)).encode("utf-8", "surrogateescape"),
        )
        for path, mine in by_file.items()
    ]


def append_lines(texts: Mapping[str, str], file: str, lines: Sequence[str]) -> Splice:
    """Return what puts lines at the end of a file of `texts`, whose last line may lack its end."""
    text = texts[file]
    gap = "" if not text or text.endswith("\n") else "\n"
    return Splice(file, len(text), len(text), gap + "".join(f"{line}\n" for line in lines))


def indent_at(text: str, offset: int) -> str:
    """Return the white space that lines beside the one at `offset` begin with."""
    line_start = text.rfind("\n", 0, offset) + 1
    before = text[line_start:offset]
    return before if not before.strip() else re.match(r"\s*", before)[0] + "    "  # type: ignore[index]
