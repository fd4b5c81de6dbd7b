"""What the options before or after any command are, and say."""

import argparse
import os
from collections.abc import Iterator


class Context:
    """What the options before or after any command say.

    No dataclass: loading their module would take as long as all else that `--help` needs.
    """

    __slots__ = ("command_line", "config", "debug", "home", "json", "log", "stopped_by")

    def __init__(self, options: argparse.Namespace, command_line: str) -> None:
        self.config: str | None = options.config
        self.home: str | None = options.home
        self.json = bool(options.json)
        self.debug = bool(options.debug)
        if options.plain:
            os.environ["INKSTAMP_PLAIN"] = "1"
        self.log: str = options.log or "text"
        self.command_line = command_line
        self.stopped_by = 0
        """Exit status of a command that a person or a signal ended, and that told what was done by then; 0 for none."""


def all_actions(parser: argparse.ArgumentParser) -> Iterator[argparse.Action]:
    """Yield the arguments of a parser, and of those below it."""
    for action in parser._actions:
        yield action
        for inner in action.choices.values() if isinstance(action.choices, dict) else ():
            yield from all_actions(inner)


def global_options(parser: argparse.ArgumentParser, *, default: object) -> None:
    """Declare the options that every command takes; `default` is SUPPRESS where a front parser has them too."""
    if default is argparse.SUPPRESS:  # they stand in each page's list, and would hide the command's own in its usage
        parser.usage = f"{parser.format_usage().removeprefix('usage: ').rstrip()}".replace("%", "%%")
    group = parser.add_argument_group("everywhere")
    group.add_argument(
        "--config",
        metavar="FILE",
        default=default,
        help="configuration file (default: INKSTAMP_CONFIG, else /etc/inkstamp/inkstamp.toml)",
    )
    group.add_argument(
        "--home",
        metavar="DIR",
        default=default,
        help="data directory (default: INKSTAMP_HOME, else `home` of the configuration)",
    )
    group.add_argument(
        "--json", action="store_true", default=default or False, help="print one JSON document on stdout"
    )
    group.add_argument(
        "--log",
        choices=("text", "json"),
        default=default,
        help="format of progress on stderr: text or JSON lines (default: text)",
    )
    group.add_argument(
        "--plain",
        action="store_true",
        default=default or False,
        help="for a screen reader: no colour, no drawing, no table (or set INKSTAMP_PLAIN)",
    )
    group.add_argument("--debug", action="store_true", default=default or False, help="show tracebacks of errors")
