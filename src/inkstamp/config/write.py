"""Add an entry to `inkstamp.toml`, leaving every byte that stands there."""

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import msgspec
import tomlkit

from inkstamp.config.load import parse
from inkstamp.config.locate import with_header
from inkstamp.config.model import Configuration
from inkstamp.config.section import Section
from inkstamp.errors import ConfigurationError
from inkstamp.files import private_folder, write_bytes


def entry_text(table: str, name: str, entry: Section) -> str:
    """Write `[table.name]` with those keys of `entry` that differ from the defaults."""
    given = {field: msgspec.to_builtins(value) for field, value in entry.given().items()}
    return _table_text(table, name, given)


def _table_text(table: str, name: str, values: Mapping[str, object]) -> str:
    body = tomlkit.table()
    for key, value in values.items():
        body.add(key, value)
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
    _expect_free(present, file, table, name)
    grown = _with_text(data, entry_text(table, name, entry))
    return grown, _parse_well(grown, file, table, name)


def _with_text(data: bytes, text: str) -> bytes:
    gap = b"" if not data else b"\n" if data.endswith(b"\n") else b"\n\n"
    return data + gap + text.encode("utf-8")


def _expect_free(present: Configuration, file: Path, table: str, name: str) -> None:
    """Raise ConfigurationError where an entry of that name is there, with or without a mistake."""
    if name in getattr(present, table) or present.mistake_in(table, name) is not None:
        raise ConfigurationError(f"there is a {table} “{name}” already", where=str(file), advice="choose another name")


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
    before = parse(data, file, leave_out=True)
    if name not in getattr(before, table) and before.mistake_in(table, name) is None:
        raise ConfigurationError(f"there is no {table} “{name}”", where=str(file), advice="add it first")
    document = tomlkit.parse(data.decode("utf-8"))
    found: Any = document[table]  # a table of tables, as parse() has seen
    for key, value in values.items():
        if value is not None:
            found[name][key] = value
        elif key in found[name]:
            del found[name][key]
    grown = tomlkit.dumps(document).encode("utf-8")
    found = _parse_well(grown, file, table, name)
    _expect_no_new_mistake(before, found)
    return grown, found


def with_new_values(
    data: bytes, file: Path, place: tuple[str, str], values: Mapping[str, object]
) -> tuple[bytes, Configuration]:
    """Return the file's bytes with a new entry of these keys at the end, and what it then says; as `with_entry`."""
    table, name = place
    present = parse(data, file, leave_out=True)
    _expect_free(present, file, table, name)
    grown = _with_text(data, _table_text(table, name, {key: each for key, each in values.items() if each is not None}))
    return grown, _parse_well(grown, file, table, name)


def _expect_no_new_mistake(before: Configuration, after: Configuration) -> None:
    """Refuse a change by which another entry cannot be used any more."""
    known = {**before.mistaken, **before.mistaken_beside}
    for name, mistake in {**after.mistaken, **after.mistaken_beside}.items():
        if name not in known:
            raise ConfigurationError(
                f"“{name}” could not be used any more: {mistake.what}", where=mistake.where,
                advice=f"change “{name}” first; nothing was written",
            )  # fmt: skip


def with_other_name(data: bytes, file: Path, place: tuple[str, str], new: str) -> tuple[bytes, Configuration]:
    """Return the file's bytes with an entry by another name, all else as it stands, and what it then says.

    Raises:
        ConfigurationError: There is no such entry, the name is taken, or the entry has no header of its own.

    """
    table, old = place
    before = parse(data, file, leave_out=True)
    if old not in getattr(before, table):
        raise ConfigurationError(f"there is no {table} “{old}”", where=str(file), advice="see: inkstamp status")
    _expect_free(before, file, table, new)
    grown = with_header(data.decode("utf-8"), table, old, new).encode("utf-8")
    after = parse(grown, file, leave_out=True)
    if getattr(after, table).get(new) != getattr(before, table)[old] or old in getattr(after, table):
        raise ConfigurationError(
            f"[{table}.{old}] has no line of its own that says so, and is not renamed", where=str(file),
            advice=f"rename it in the file by hand: write [{table}.{old}] and its keys below first",
        )  # fmt: skip
    return grown, after


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
    found_then = parse(shrunk, file, leave_out=True)
    _expect_no_new_mistake(before, found_then)
    return shrunk, found_then


def save(file: Path, data: bytes) -> None:
    """Replace the configuration file, keeping its mode and owner; a new one is readable to its owner alone."""
    if file.exists():
        write_bytes(file.resolve(), data, like=file.stat())
    else:
        if not file.parent.exists():  # one that is there may be of others too, as /etc is
            private_folder(file.parent)
        write_bytes(file, data, mode=0o600)
