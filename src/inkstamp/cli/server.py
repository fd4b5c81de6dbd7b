"""Add, show, change or remove a server of the configuration.

Settings are typed as KEY=VALUE, as they stand in the configuration file, whose
comments and layout stay. What would not be valid is refused, and nothing is
written. `show` lists servers that are found in their usual places as well.

    inkstamp server show
    inkstamp server add edge kind=haproxy reach=ssh://root@edge.saltmarsh.test
    inkstamp server change front redirect=true hsts_days=30
    inkstamp server remove edge
"""

import argparse

from inkstamp.cli import entry_commands
from inkstamp.cli.context import Context


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp server`."""
    entry_commands.configure(parser, "server")


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp server`; returns the exit status."""
    return entry_commands.run(context, options, "server")
