"""What the options before or after any command are, and say."""

import argparse


class Context:
    """What the options before or after any command say.

    No dataclass: loading their module would take as long as all else that `--help` needs.
    """

    __slots__ = ("command_line", "config", "debug", "home", "json", "log")

    def __init__(self, options: argparse.Namespace, command_line: str) -> None:
        self.config: str | None = options.config
        self.home: str | None = options.home
        self.json = bool(options.json)
        self.debug = bool(options.debug)
        self.log: str = options.log or "text"
        self.command_line = command_line


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
    group.add_argument("--debug", action="store_true", default=default or False, help="show tracebacks of errors")
