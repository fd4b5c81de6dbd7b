"""The standing answer of an HAProxy: rules of its own at the head of the sections that answer plain HTTP.

The rules of a section are met in their order, and the older `redirect` lines after them (its manual, “http-request”).
A configuration does not say which names are sites, so that they are listed.
"""

import re
from collections.abc import Callable, Iterator, Sequence

from inkstamp.errors import ServerTrouble
from inkstamp.servers.haproxy.reading import SECTIONS, Bind, Reading
from inkstamp.servers.haproxy.syntax import parse
from inkstamp.servers.interface import StandingAnswer
from inkstamp.servers.standing_answer import CHALLENGES, REMARK, TOKEN, in_place_of
from inkstamp.servers.text import Directive, Splice, indent_at

_TOKEN_ACL, _NAME_ACL = "inkstamp_token", "inkstamp_name"
_ANSWERS = re.compile(r"%\[path,field\(4,/\)\]\.([A-Za-z0-9_-]+)")
_MOST_NAMES, _LONGEST = 40, 1200
"""Of one line: HAProxy takes 64 words and 2048 characters."""


def standing_lines(thumbprint: str, names: Sequence[str]) -> list[str]:
    """Return the rules that answer challenges of names, of any name where none is given."""
    known = f" {_NAME_ACL}" if names else ""
    return [
        f"acl {_TOKEN_ACL} path_reg ^{CHALLENGES}{TOKEN}$",
        *(f"acl {_NAME_ACL} hdr(host),field(1,:) -i -- {' '.join(each)}" for each in _lines_of(names)),
        f'http-request return status 200 content-type text/plain lf-string "%[path,field(4,/)].{thumbprint}" '
        f"if METH_GET {_TOKEN_ACL}{known}",
    ]


def _lines_of(names: Sequence[str]) -> Iterator[list[str]]:
    line: list[str] = []
    for name in names:
        if line and (len(line) >= _MOST_NAMES or len(" ".join([*line, name])) > _LONGEST):
            yield line
            line = []
        line.append(name)
    if line:
        yield line


def plan_standing(reading: Reading, binds: Sequence[Bind], lines: Sequence[str]) -> Iterator[Splice]:
    """Put rules behind the last `bind` of each section of these, or into the place of those that are there."""
    text = reading.texts[reading.main_file]
    end_of_line = "\r\n" if "\r\n" in text else "\n"
    for section in _sections(reading, binds):
        present = _present(section)
        last = [each for each in section if each.name == "bind"][-1]
        indent = indent_at(text, last.start)
        if not present:
            place = text.find("\n", last.end)
            place = (place - 1 if text[place - 1] == "\r" else place) if place >= 0 else len(text)
            made = "".join(f"{end_of_line}{indent}{line}" for line in (REMARK, *lines))
            yield Splice(last.file, place, place, made)
            continue
        made = f"{end_of_line}{indent}".join(lines)
        yield from in_place_of(present, text, made)


def _sections(reading: Reading, binds: Sequence[Bind]) -> Iterator[list[Directive]]:
    """Yield the lines of each section that has one of some binds."""
    wanted = {bind.line.start for bind in binds}
    section: list[Directive] = []
    for each in parse(reading.texts[reading.main_file], reading.main_file):
        if each.name in SECTIONS:
            if wanted & {line.start for line in section}:
                yield section
            section = []
        section.append(each)
    if wanted & {line.start for line in section}:
        yield section


def _present(section: Sequence[Directive]) -> list[Directive]:
    """Return the lines of a standing answer."""
    return [
        each for each in section
        if (each.name == "acl" and each.arguments[:1] in {(_TOKEN_ACL,), (_NAME_ACL,)}) or _answer(each)
    ]  # fmt: skip


def _answer(line: Directive) -> str:
    """Return the thumbprint that a rule answers with; empty where it is none."""
    if line.name != "http-request" or _TOKEN_ACL not in line.arguments:
        return ""
    found = next((match for word in line.arguments if (match := _ANSWERS.fullmatch(word))), None)
    return found[1] if found else ""


def thumbprints(reading: Reading, binds: Sequence[Bind], name: str) -> frozenset[str]:
    """Return the account keys for which challenges of a name are answered; none where a section has no answer."""
    found = [_thumbprint(section, name) for section in _sections(reading, binds)]
    return frozenset(found) if all(found) else frozenset()


def answered_names(reading: Reading, binds: Sequence[Bind]) -> Callable[[str], str]:
    """Return what tells for a name the account key that all sections answer for; empty for none, or several."""
    sections = list(_sections(reading, binds))

    def answered(name: str) -> str:
        found = {_thumbprint(section, name) for section in sections}
        return found.pop() if len(found) == 1 else ""

    return answered


def _thumbprint(section: Sequence[Directive], name: str) -> str:
    rule = next((each for each in section if _answer(each)), None)
    if rule is None:
        return ""
    return _answer(rule) if _NAME_ACL not in rule.arguments or name in _names(section) else ""


def _names(section: Sequence[Directive]) -> list[str]:
    own = [each for each in section if each.name == "acl" and each.arguments[:1] == (_NAME_ACL,)]
    return [word for each in own for word in each.arguments[4:]]


def names_answered(reading: Reading, binds: Sequence[Bind], wanted: StandingAnswer) -> list[str]:
    """Return the names whose challenges are answered, which go on to be beside those that are wanted.

    Raises:
        ServerTrouble: They are answered for another account key: all rules answer for one.

    """
    sections = list(_sections(reading, binds))
    others = [each for section in sections for each in section
              if _answer(each) not in {"", wanted.thumbprint, wanted.replaces}]  # fmt: skip
    for each in others:
        if wanted.names:
            raise ServerTrouble(
                "challenges of other names are answered for another account key, and HAProxy answers for one",
                where=f"{each.file}, line {each.line}",
                advice="let both authorities have one key (account_key_of), or leave --for and --group out, to answer "
                "for this one",
            )
    return [] if others else [name for section in sections for name in _names(section)]
