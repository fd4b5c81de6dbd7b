"""Add an entry to `inkstamp.toml`, leaving every byte that stands there."""

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import msgspec
import tomlkit

from inkstamp.config.load import parse
from inkstamp.config.model import Configuration, Section
from inkstamp.errors import ConfigurationError
from inkstamp.files import private_folder, write_bytes


def entry_text(table: str, name: str, entry: Section) -> str:
    """Write `[table.name]` with those keys of `entry` that differ from the defaults."""
    body = tomlkit.table()
    defaults = type(entry).__struct_defaults__
    fields = type(entry).__struct_fields__
    required = len(fields) - len(defaults)
    for index, field in enumerate(fields):
        value = getattr(entry, field)
        if index >= required and value == defaults[index - required]:
            continue
        body.add(field, msgspec.to_builtins(value))
    document = tomlkit.document()
    parent = tomlkit.table(is_super_table=True)
    parent.add(name, body)
    document.add(table, parent)
    return tomlkit.dumps(document)


def with_entry(data: bytes, file: Path, table: str, name: str, entry: Section) -> tuple[bytes, Configuration]:
    """Return the file's bytes with `[table.name]` added at the end, and what the whole then says.

    Added as text, not by writing the whole anew: comments, order and layout stay, and a large file costs
    nothing extra. The result is read back before it is returned.

    Raises:
        ConfigurationError: There is such an entry, or the result would not be valid.

    """
    present = parse(data, file, leave_out=True)
    if name in getattr(present, table) or present.mistake_in(table, name) is not None:
        raise ConfigurationError(f"there is a {table} “{name}” already", where=str(file), advice="choose another name")
    gap = b"" if not data else b"\n" if data.endswith(b"\n") else b"\n\n"
    grown = data + gap + entry_text(table, name, entry).encode("utf-8")
    return grown, _parse_well(grown, file, table, name)


def has_entry(data: bytes, file: Path, table: str, name: str, entry: Section) -> bool:
    """Tell whether the file's bytes have just that entry already."""
    present: dict[str, Section] = getattr(parse(data, file, leave_out=True), table)
    return present.get(name) == entry


def _parse_well(data: bytes, file: Path, table: str, name: str) -> Configuration:
    """Read the file back; ConfigurationError when the entry that was just written is not as it must be."""
    found = parse(data, file, leave_out=True)
    mistake = found.mistake_in(table, name)
    if mistake is not None:
        raise mistake.error
    return found


def with_values(
    data: bytes, file: Path, place: tuple[str, str], values: Mapping[str, object]
) -> tuple[bytes, Configuration]:
    """Return the file's bytes with some keys of an entry set, all else as it stands, and what it then says.

    Args:
        data: The file's bytes.
        file: Where it lies, for messages.
        place: The table, and the entry's name.
        values: What each key is set to; None to take it out.

    Raises:
        ConfigurationError: There is no such entry, or the result would not be valid.

    """
    table, name = place
    if name not in getattr(parse(data, file, leave_out=True), table):
        raise ConfigurationError(f"there is no {table} “{name}”", where=str(file), advice="add it first")
    document = tomlkit.parse(data.decode("utf-8"))
    found: Any = document[table]  # a table of tables, as parse() has seen
    for key, value in values.items():
        if value is not None:
            found[name][key] = value
        elif key in found[name]:
            del found[name][key]
    grown = tomlkit.dumps(document).encode("utf-8")
    return grown, _parse_well(grown, file, table, name)


def without_entry(data: bytes, file: Path, table: str, name: str) -> tuple[bytes, Configuration]:
    """Return the file's bytes without one entry, all else as it stands, and what it then says.

    Raises:
        ConfigurationError: There is no such entry, or the result would not be valid.

    """
    before = parse(data, file, leave_out=True)
    if name not in getattr(before, table) and before.mistake_in(table, name) is None:
        raise ConfigurationError(f"there is no {table} “{name}”", where=str(file), advice="it is gone already")
    document = tomlkit.parse(data.decode("utf-8"))
    found: Any = document[table]
    del found[name]
    if not found:
        del document[table]
    shrunk = tomlkit.dumps(document).encode("utf-8")
    if shrunk.endswith(b"\n\n") and not data.endswith(b"\n\n"):  # the line that stood between it and what is before
        shrunk = shrunk[:-1]
    return shrunk, parse(shrunk, file, leave_out=True)


def save(file: Path, data: bytes) -> None:
    """Replace the configuration file, keeping its mode and owner; a new one is readable to its owner alone."""
    if file.exists():
        write_bytes(file.resolve(), data, like=file.stat())
    else:
        private_folder(file.parent)
        write_bytes(file, data, mode=0o600)
