"""Configuration text of any server: directives with positions, and edits that leave every other byte as it is."""

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from inkstamp.servers.interface import FileChange


@dataclass(frozen=True, slots=True)
class Word:
    """One word, without its quotes, and where it stands with them."""

    value: str
    start: int
    end: int


@dataclass(frozen=True, slots=True)
class Directive:
    """A directive of one file."""

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


@dataclass(frozen=True, slots=True)
class Splice:
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


def indent_at(text: str, offset: int) -> str:
    """Return the white space that lines beside the one at `offset` begin with."""
    line_start = text.rfind("\n", 0, offset) + 1
    before = text[line_start:offset]
    return before if not before.strip() else re.match(r"\s*", before)[0] + "    "  # type: ignore[index]
