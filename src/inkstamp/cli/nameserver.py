"""Add, show, change or remove a nameserver that takes changes of records.

Settings are typed as KEY=VALUE, as they stand in the configuration file, whose
comments and layout stay. What would not be valid is refused, and nothing is
written. Its kind is “update” (dynamic updates, RFC 2136), the default, or
“powerdns” (the HTTP API of PowerDNS).

    inkstamp nameserver add ns address=ns1.saltmarsh.test key_file=/etc/tsig.key
    inkstamp nameserver show
"""

import argparse

from inkstamp.cli import entry_commands
from inkstamp.cli.context import Context


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp nameserver`."""
    entry_commands.configure(parser, "nameserver")


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp nameserver`; returns the exit status."""
    return entry_commands.run(context, options, "nameserver")
