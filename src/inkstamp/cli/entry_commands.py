"""What `server`, `nameserver` and `certificate` have in common: entries shown, and settings as they are typed."""

import argparse
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any

from inkstamp.cli import output
from inkstamp.cli.context import Context, global_options
from inkstamp.cli.setting import open_runtime

if TYPE_CHECKING:
    from inkstamp.jobs.lifecycle.entry_change import EntryShown, SettingChange, Table

SETTINGS_HELP = "a setting as in the configuration file (docs/configuration.md); KEY= takes it out; lists with commas"


def configure(parser: argparse.ArgumentParser, table: "Table", *more: str) -> "argparse._SubParsersAction[Any]":
    """Declare the arguments of a command that adds, shows, changes and removes entries, and does `more`."""
    actions = parser.add_subparsers(
        dest="action", required=True, metavar="|".join(("add", "show", "change", "remove", *more))
    )
    add = actions.add_parser("add", help="add an entry", allow_abbrev=False)
    add.add_argument("name", metavar="NAME", help="name of the new entry")
    add.add_argument("settings", nargs="*", metavar="KEY=VALUE", help=SETTINGS_HELP)
    show = actions.add_parser("show", help="show all entries, or one in full", allow_abbrev=False)
    show.add_argument("name", nargs="?", default="", metavar="NAME", help=f"a {table}")
    change = actions.add_parser("change", help="change settings of an entry", allow_abbrev=False)
    change.add_argument("name", metavar="NAME", help=f"a {table}")
    change.add_argument("settings", nargs="+", metavar="KEY=VALUE", help=SETTINGS_HELP)
    remove = actions.add_parser("remove", help="take an entry out that nothing uses", allow_abbrev=False)
    remove.add_argument("name", metavar="NAME", help=f"a {table}")
    for each in (add, show, change, remove):
        global_options(each, default=argparse.SUPPRESS)
    return actions


def run(context: Context, options: argparse.Namespace, table: "Table") -> int:
    """Carry out such a command; returns the exit status."""
    from inkstamp.jobs.lifecycle.entry_change import add_entry, change_entry, remove_entry, show_entries

    command = f"{table} {options.action}"
    with open_runtime(context) as runtime:
        file = str(runtime.configuration.path)
        match options.action:
            case "show":
                shown = show_entries(runtime, table, options.name)
                return _end(context, command, {"entries": shown}, lambda: _tell_shown(shown, options.name, table))
            case "add":
                added = add_entry(runtime, table, options.name, options.settings)
                told = f"[{table}.{added.name}] is added to {file}"
                return _end(context, command, {"entries": [added]}, lambda: tell_settings(added.settings, told))
            case "change":
                changes = change_entry(runtime, table, options.name, options.settings)
                called = f"[{table}.{options.name}]"
                return _end(context, command, {"changes": changes}, lambda: tell_changes(called, changes))
        remove_entry(runtime, table, options.name)
        told = f"[{table}.{options.name}] is taken out of {file}"
        return _end(context, command, {"removed": options.name}, lambda: print(told))


def _end(context: Context, command: str, document: dict[str, Any], tell: Callable[[], None]) -> int:
    if context.json:
        output.as_json(command, **document)
    else:
        tell()
    return 0


def _tell_shown(shown: "Sequence[EntryShown]", name: str, table: "Table") -> None:
    if name:
        tell_entry(shown[0])
    else:
        _tell_all(shown, table)


def _tell_all(shown: "Sequence[EntryShown]", table: "Table") -> None:
    if not shown:
        print(f"no {table} is configured; add one: inkstamp {table} add NAME KEY=VALUE…")
        return
    rows = [
        (
            each.name,
            str(each.settings.get("kind", each.settings.get("address", "-"))),
            str(each.settings.get("reach", "")) or "this machine",
            output.first_of(each.used_by) or "-",
            "error" if "error" in each.settings else "not configured" if each.is_found else "configured",
        )
        for each in shown
    ]
    if table == "nameserver":
        kinds = [str(each.settings.get("kind", "update")) for each in shown]
        places = [str(each.settings.get("address", "-")) for each in shown]
        told = [(row[0], kind, place, row[3]) for row, kind, place in zip(rows, kinds, places, strict=True)]
        output.table(("name", "kind", "address", "used by"), told)
    else:
        output.table(("name", "kind", "machine", "used by", "state"), rows)


def tell_entry(shown: "EntryShown") -> None:
    """Print an entry in full."""
    print(shown.name)
    print(output.field("where", shown.where))
    tell_settings(shown.settings)
    if shown.used_by:
        print(output.field("used by", ", ".join(shown.used_by)))


def tell_settings(settings: dict[str, Any], told: str = "") -> None:
    """Print settings, a line each, below what is told of them."""
    if told:
        print(told)
    for key, value in settings.items():
        print(output.field(key, written(value)))


def tell_changes(called: str, changes: "Sequence[SettingChange]") -> None:
    """Print what is otherwise now."""
    print(f"{called}: {'is changed' if changes else 'says that already; nothing to do'}")
    for each in changes:
        print(output.field(each.key, f"{written(each.before)} -> {written(each.after)}"))


def written(value: Any) -> str:
    """Return a setting as it is read by people."""
    if value is None:
        return "not set"
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, dict):
        return ", ".join(f"{key}={written(each)}" for key, each in value.items()) or "none"
    if isinstance(value, tuple | list):
        return ", ".join(map(written, value)) or "none"
    return str(value)
