"""Lists of certificates that people hand in: a certificate a line, CSV, or JSON lines. Pure."""

import csv
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

import msgspec
from msgspec import Struct, field

from inkstamp.config.enrolled import OWN_SETTINGS
from inkstamp.errors import UsageError
from inkstamp.printable import one_line

MOST_BYTES = 256 << 20
_COLUMNS = ("names", "certificate", "customer")
_MOST_CUSTOMER = 200


class WantedCertificate(Struct, frozen=True, kw_only=True):
    """A certificate that somebody wants on the roster, as it was written."""

    names: tuple[str, ...]
    certificate: str = ""
    """What it is to be called; empty to call it like its first name."""
    customer: str = ""
    settings: Mapping[str, Any] = field(default_factory=dict)
    """What it says in the place of its group."""
    place: str = ""
    """Where it was written (`line 7`)."""


class WrongLine(Struct, frozen=True):
    """A line that cannot be understood."""

    place: str
    what: str
    advice: str


Line = WantedCertificate | WrongLine


def read_list(data: bytes) -> list[Line]:
    """Read a list in any of its three forms, told apart by the first line that says something.

    A certificate a line has its names apart by blanks or commas; `#` begins a comment. CSV (RFC 4180) has the columns
    `names`, apart by blanks, and perhaps `certificate` and `customer`. A JSON line is an object with these, and with
    settings in the place of the group's. A line that is wrong holds up no other.

    Raises:
        UsageError: It is larger than 256 MiB, or the columns of a CSV are not those.

    """
    if len(data) > MOST_BYTES:
        raise UsageError(f"the list is larger than {MOST_BYTES >> 20} MiB", advice="hand it in in parts")
    text = data.decode("utf-8-sig", "surrogateescape")
    first = next((line.strip() for line in text.splitlines() if _says_something(line)), "")
    if first.startswith("{"):
        return list(_json_lines(text))
    if "names" in _header(first):
        return list(_csv_rows(text, _header(first)))
    return list(_plain_lines(text))


def _says_something(line: str) -> bool:
    return bool(line.strip()) and not line.lstrip().startswith("#")


def _header(line: str) -> list[str]:
    return [each.strip().strip('"').lower() for each in line.split(",")]


def _plain_lines(text: str) -> Iterator[Line]:
    for number, line in enumerate(text.split("\n"), 1):
        names = line.partition("#")[0].replace(",", " ").split()
        if names:
            yield _checked(f"line {number}", names, {})


def _csv_rows(text: str, columns: list[str]) -> Iterator[Line]:
    unknown = [each for each in columns if each not in _COLUMNS]
    if unknown or len(set(columns)) < len(columns):
        what = f"the column “{one_line(unknown[0])}” is unknown" if unknown else "a column is there twice"
        raise UsageError(what, where="line 1", advice=f"known columns: {', '.join(_COLUMNS)}")
    lines = ((number, line) for number, line in enumerate(text.splitlines(), 1) if _says_something(line))
    next(lines)  # the header
    for number, line in lines:
        place = f"line {number}"
        try:
            (row,) = csv.reader([line], strict=True)  # by itself, so that a quote without an end ends with its line
        except (csv.Error, ValueError) as error:
            yield WrongLine(place, f"it is no CSV: {error}", "see RFC 4180: a quote begins and ends a field")
            continue
        if len(row) != len(columns):
            what = f"it has {len(row)} fields, and there are {len(columns)} columns"
            yield WrongLine(place, what, "separate several names by blanks, not by commas")
            continue
        values = dict(zip(columns, map(str.strip, row), strict=True))
        yield _checked(place, values.pop("names").split(), values)


def _json_lines(text: str) -> Iterator[Line]:
    for number, line in enumerate(text.split("\n"), 1):
        if not line.strip():
            continue
        place = f"line {number}"
        try:
            given = msgspec.json.decode(line.encode("utf-8"), type=dict[str, Any])
        except (msgspec.MsgspecError, ValueError, RecursionError) as error:
            yield WrongLine(place, f"it is no JSON object: {one_line(str(error), 200)}", 'write {"names": ["…"]}')
            continue
        names = given.pop("names", ())
        yield _checked(place, names.split() if isinstance(names, str) else names, given)


def _checked(place: str, names: object, more: Mapping[str, Any]) -> Line:
    """Return a line's certificate, or what is wrong with it."""
    if not isinstance(names, list | tuple) or not names or not all(isinstance(each, str) for each in names):
        return WrongLine(place, "it has no names", "write at least one domain name")
    unknown = next((each for each in more if each not in {*_COLUMNS, *OWN_SETTINGS}), None)
    if unknown is not None:
        known = ", ".join((*_COLUMNS, *OWN_SETTINGS))
        return WrongLine(place, f"the key “{one_line(unknown, 60)}” is unknown", f"known keys: {known}")
    texts = {key: more.get(key, "") for key in ("certificate", "customer")}
    wrong = next((key for key, text in texts.items() if not isinstance(text, str) or not is_plain_text(text)), None)
    if wrong is not None:
        return WrongLine(place, f"“{wrong}” is no plain text of at most {_MOST_CUSTOMER} characters", "correct it")
    settings = {key: value for key, value in more.items() if key in OWN_SETTINGS}
    return WantedCertificate(names=tuple(names), settings=settings, place=place, **texts)


def is_plain_text(text: str) -> bool:
    """Tell whether a text is short, on one line, and can be written and shown."""
    return len(text) <= _MOST_CUSTOMER and (not text or text.isprintable())


def pack(wanted: Iterable[WantedCertificate], most: int, owner: Mapping[str, str]) -> list[WantedCertificate]:
    """Pack the names of certificates that have no name of their own into as few of at most `most` names as can be.

    Args:
        wanted: What is wanted; names of one stay together where they fit.
        most: Names that a certificate may have.
        owner: By domain name, what names must have in common to be in one certificate.

    """
    packed: list[WantedCertificate] = []
    open_packs: dict[tuple[str, str, str], WantedCertificate] = {}
    for each in wanted:
        if each.certificate:
            packed.append(each)
            continue
        settings = msgspec.json.encode(each.settings, order="sorted").decode()
        for names in _by_owner(each, owner):
            key = (each.customer, owner[names[0]], settings)
            for begin in range(0, len(names), most):
                part = names[begin : begin + most]
                before = open_packs.get(key)
                if before is not None and len(before.names) + len(part) <= most:
                    part = (*before.names, *(name for name in part if name not in before.names))
                elif before is not None:
                    packed.append(before)
                place = before.place if before is not None and before.names[0] == part[0] else each.place
                open_packs[key] = WantedCertificate(
                    names=part, customer=each.customer, settings=each.settings, place=place
                )
    return [*packed, *open_packs.values()]


def _by_owner(each: WantedCertificate, owner: Mapping[str, str]) -> Iterator[tuple[str, ...]]:
    groups: dict[str, list[str]] = {}
    for name in each.names:
        groups.setdefault(owner[name], []).append(name)
    yield from map(tuple, groups.values())
