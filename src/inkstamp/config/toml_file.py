"""The bytes of `inkstamp.toml`: read from where nobody else can have written them, and taken for TOML with bounds."""

import re
import tomllib
from pathlib import Path
from typing import Any

from inkstamp.config.locate import line_of
from inkstamp.errors import ConfigurationError, FileTrouble
from inkstamp.files import read_bytes
from inkstamp.ownership import expect_ours
from inkstamp.printable import one_line

LIMIT = 67_108_864
"""Bytes of the file."""
_MOST_BRACKETS = 2_000_000
_LARGEST, _DEEPEST_KEY = 10**9, 8
_SHOWN = 300


def read_file(file: Path) -> bytes:
    """Read the configuration file's bytes; ConfigurationError when it is not there, or not to be relied on."""
    expect_ours(file, "the configuration")
    try:
        return read_bytes(file, limit=LIMIT)
    except FileTrouble as error:
        raise ConfigurationError(
            f"cannot read the configuration {file}",
            where=str(file),
            said=error.said,
            advice="begin with `inkstamp authority add`, or say where it is with --config",
        ) from error


def read_toml(data: bytes, file: Path) -> tuple[str, dict[str, Any]]:
    """Return the file's text and what it holds.

    Raises:
        ConfigurationError: It is no TOML, is nested without end, or a value is none that any key takes.

    """
    if max(map(data.count, (b"[", b"{"))) > _MOST_BRACKETS:
        raise ConfigurationError(f"{file} has more than {_MOST_BRACKETS} brackets", where=str(file), advice="see why")
    try:
        text = data.decode("utf-8")
        raw = tomllib.loads(text)
    except UnicodeDecodeError as error:
        raise ConfigurationError(f"{file} is not UTF-8 text", where=str(file), advice="save it as UTF-8") from error
    except RecursionError as error:
        raise ConfigurationError(
            f"{file} has arrays or tables nested too deep", where=str(file), advice="write them as the documents show"
        ) from error
    except (tomllib.TOMLDecodeError, ValueError) as error:  # ValueError: a number of thousands of digits
        raise ConfigurationError(
            f"{file} is not valid TOML", where=str(file), said=one_line(str(error), _SHOWN), advice="correct that line"
        ) from error
    _expect_sane(text, raw, file)
    return text, raw


def _expect_sane(text: str, raw: dict[str, Any], file: Path) -> None:
    """Refuse control characters in texts, which no path or name has, and numbers that nothing is measured in."""
    waiting: list[tuple[tuple[str, ...], Any]] = [((), raw)]
    while waiting:
        path, value = waiting.pop()
        if isinstance(value, dict):
            waiting += [((*path, key), inner) for key, inner in value.items()]
            value = "".join(value)
        elif isinstance(value, list):
            waiting += [(path, inner) for inner in value]
        fault = _fault_of(value)
        if fault:
            where = f"{file}, line {line_of(text, path[:_DEEPEST_KEY])}"
            raise ConfigurationError(f"“{'.'.join(map(one_line, path))}” {fault}", where=where, advice="write it again")


def _fault_of(value: object) -> str:
    """Say what is wrong with a value whatever key it belongs to; empty for nothing."""
    if isinstance(value, str) and not value.replace("\n", "").replace("\t", "").isprintable():
        return "holds a character that does not print"
    if isinstance(value, int | float) and not -_LARGEST <= value <= _LARGEST:
        return "is no number that can be meant"
    return ""


def read_home(data: bytes, file: Path) -> str:
    """Return the `home` that the file's head names, without reading the tables below it; empty for none."""
    home = home_as_written(data)
    return str(file.parent / home) if home else ""


def home_as_written(data: bytes) -> str:
    """Return the `home` of a configuration's head as it stands there, perhaps a relative path; empty for none."""
    head = re.split(rb"^\s*\[", data, maxsplit=1, flags=re.MULTILINE)[0]
    try:
        home = tomllib.loads(head.decode("utf-8")).get("home", "")
    except (ValueError, RecursionError):
        return ""  # parse() will say what is wrong with the file
    return home if isinstance(home, str) and home.isprintable() else ""
