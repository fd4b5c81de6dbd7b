"""Dovecot's configuration as settings and sections with positions: one a line, `name = value` or `name … {`."""

from msgspec import Struct

from inkstamp.errors import ServerTrouble
from inkstamp.servers.text import Directive, Tally, Word, lines_of

_DEEPEST, _LONGEST_LINE = 64, 65_536
_BLANK = " \t\r"


class _Open(Struct):
    """A section whose end is still to come."""

    words: tuple[Word, ...]
    line: int
    start: int
    block_start: int
    inside: list[Directive]


def parse(text: str, file: str) -> list[Directive]:
    """Read a file's settings (two words, name and value) and sections (with a block).

    Raises:
        ServerTrouble: A brace has no partner; names the line.

    """
    top: list[Directive] = []
    waiting: list[_Open] = []
    tally = Tally()
    for number, begin, line in lines_of(text, file, _LONGEST_LINE):
        start, bare = _without_remark(line, begin)
        here = waiting[-1].inside if waiting else top
        if not bare:
            continue
        tally.take(file, number, 4)
        if bare == "}":
            if not waiting:
                raise ServerTrouble("a } closes nothing", where=f"{file}, line {number}", advice="correct that line")
            section = waiting.pop()
            outer = waiting[-1].inside if waiting else top
            outer.append(Directive(section.words, tuple(section.inside), file, section.line, section.start, start + 1,
                                   section.block_start))  # fmt: skip
        elif bare.endswith("{") and "=" not in bare:
            if not bare[:-1].strip(_BLANK):
                raise ServerTrouble("a { has no name", where=f"{file}, line {number}", advice="correct that line")
            if len(waiting) >= _DEEPEST:
                raise ServerTrouble("sections are nested too deep", where=f"{file}, line {number}")
            end = start + len(bare)
            waiting.append(_Open(_split(bare[:-1], start), number, start, end, []))
        else:
            here.append(Directive(_setting(bare, start), None, file, number, start, start + len(bare)))
    if waiting:
        raise ServerTrouble("a { is not closed", where=f"{file}, line {waiting[-1].line}", advice="close it")
    return top


def _without_remark(line: str, begin: int) -> tuple[int, str]:
    """Return where a line's text begins, and the text without a remark."""
    bare = line.strip(_BLANK)
    if bare.startswith("#"):
        return begin, ""
    cut = bare.find(" #")
    if cut >= 0 and bare.count('"', 0, cut) % 2 == 0:
        bare = bare[:cut].rstrip(_BLANK)
    return begin + len(line) - len(line.lstrip(_BLANK)), bare


def _setting(bare: str, start: int) -> tuple[Word, ...]:
    name, equals, value = bare.partition("=")
    if not equals:
        return _split(bare, start)
    left = len(name) + 1 + len(value) - len(value.lstrip())
    shown = value.strip()
    if len(shown) > 1 and shown[0] == shown[-1] and shown[0] in "\"'":
        shown = shown[1:-1]
    return (Word(name.strip(), start, start + len(name.rstrip())), Word(shown, start + left, start + len(bare)))


def _split(bare: str, start: int) -> tuple[Word, ...]:
    words, at = [], 0
    for each in bare.split():
        at = bare.index(each, at)
        words.append(Word(each.strip('"'), start + at, start + at + len(each)))
        at += len(each)
    return tuple(words)
