"""Keys of the configuration from environment variables, for containers: `INKSTAMP__TABLE__ENTRY__KEY`.

Two underscores part the words, which are written in capitals; one underscore in the name of an entry stands for a
hyphen. So `INKSTAMP__SERVER__FRONT_TWO__KIND=nginx` is `kind = "nginx"` in `[server.front-two]`, and
`INKSTAMP__RENEWAL__METRICS` is a key of `[renewal]`. A variable counts more than the file.
"""

import json
import os
from collections.abc import Mapping
from typing import Any

from msgspec import Struct

from inkstamp.config.entries import TABLES
from inkstamp.config.ledger_settings import LedgerSettings, MachineSettings
from inkstamp.config.model import Renewal, ViewSettings
from inkstamp.config.section import Section
from inkstamp.config.values import read_values
from inkstamp.errors import ConfigurationError, UsageError
from inkstamp.pki.subject import Subject
from inkstamp.printable import one_line

PREFIX = "INKSTAMP__"
_SINGLE: dict[str, type[Section]] = {
    "view": ViewSettings,
    "renewal": Renewal,
    "ledger": LedgerSettings,
    "machine": MachineSettings,
}
_MOST = 65_536


class Setting(Struct, frozen=True):
    """One key that a variable sets."""

    variable: str
    path: tuple[str, ...]
    """Table, entry and key; table and key; or a key of no table."""
    value: object
    """As TOML would have it; None for a key that is taken out."""


def settings_of(environ: Mapping[str, str] = os.environ) -> tuple[Setting, ...]:
    """Return what variables set, sorted by name.

    Raises:
        ConfigurationError: One names no key, or is no value for it; names the variable.

    """
    return tuple(_setting(name, environ[name]) for name in sorted(environ) if name.startswith(PREFIX))


def laid_over(raw: dict[str, Any], settings: tuple[Setting, ...]) -> dict[tuple[str, ...], str]:
    """Put settings into a configuration's tables, over what stands there; returns the variable of each path.

    Raises:
        ConfigurationError: Something in the file that should be a table is none.

    """
    for each in settings:
        table: Any = raw
        for part in each.path[:-1]:
            table = table.setdefault(part, {}) if isinstance(table, dict) else None
        if not isinstance(table, dict):
            raise ConfigurationError(
                f"“{'.'.join(each.path[:-1])}” is no table in the file", where=each.variable, advice="correct the file"
            )
        if each.value is None:
            table.pop(each.path[-1], None)
        else:
            table[each.path[-1]] = each.value
    return {each.path: each.variable for each in settings}


def _setting(variable: str, text: str) -> Setting:
    words = [each.lower() for each in variable.removeprefix(PREFIX).split("__")]
    if len(text) > _MOST or not text.isprintable():
        raise ConfigurationError(f"the value of {one_line(variable)} cannot be used", where=one_line(variable),
                                 advice="write one line of text")  # fmt: skip
    table, key = words[0], words[-1]
    if len(words) == 3 and table in TABLES:
        path = (table, words[1].replace("_", "-"), key)
        return Setting(variable, path, _value(TABLES[table], key, text, variable))
    if len(words) == 2 and table in _SINGLE:
        return Setting(variable, (table, key), _value(_SINGLE[table], key, text, variable))
    if len(words) == 2 and table == "subject" and key in Subject.__struct_fields__:
        return Setting(variable, (table, key), text or None)
    if words == ["key_group"]:
        return Setting(variable, (key,), text or None)
    raise ConfigurationError(
        f"the environment variable {one_line(variable)} names no key of the configuration",
        where=one_line(variable),
        advice=f"write {PREFIX}TABLE__ENTRY__KEY or {PREFIX}TABLE__KEY (docs/configuration.md#environment); "
        f"the data directory is INKSTAMP_HOME",
    )


def _value(kind: type[Section], key: str, text: str, variable: str) -> object:
    """Return a value as TOML has it; tables and lists of tables are written as JSON."""
    if text.startswith(("{", "[{", "[[")):
        try:
            return json.loads(text)
        except (ValueError, RecursionError) as error:
            raise ConfigurationError(f"{variable} is no JSON", where=variable, said=one_line(str(error), 200),
                                     advice="correct it, or leave it out") from error  # fmt: skip
    try:
        return read_values(kind, [f"{key}={text}"])[key]
    except UsageError as error:
        raise ConfigurationError(error.what, where=variable, said=error.said, advice=error.advice) from error
