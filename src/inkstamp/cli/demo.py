"""Run the whole job in a simulated world on this machine.

A CA, a portal, a nameserver and a web server run on loopback. Each command is
printed as you would type it, run for real, and followed by its output. At the
end everything is stopped and removed, unless --keep is given.

With --fleet, two machines order and three web servers install, over a ledger in
a PostgreSQL that is installed here; one machine is killed in the middle.

    inkstamp demo --keep /tmp/saltmarsh
    inkstamp demo --fleet
"""

import argparse
import shlex
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from inkstamp.cli import output
from inkstamp.cli.context import Context
from inkstamp.severity import Severity

if TYPE_CHECKING:
    from inkstamp.demo.world import DemoWorld


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp demo`."""
    which = parser.add_mutually_exclusive_group()
    which.add_argument("--keep", metavar="DIR", help="run the demo in the new directory DIR and keep it")
    which.add_argument("--fleet", action="store_true", help="show many machines that share a ledger in PostgreSQL")
    which.add_argument("--again", metavar="DIR", help="start the servers of a kept demo again until Ctrl-C")


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp demo`; returns the exit status."""
    from inkstamp.demo.show import keep_up, play
    from inkstamp.errors import UsageError

    if context.json or context.config or context.home:
        raise UsageError(
            "--json, --config and --home do not apply to the demo, which uses its own configuration",
            advice="leave them out; `--keep DIR` says where the world is made",
        )

    if options.again:
        keep_up(Path(options.again), _tell_up)
        print("\nthe demo is stopped")
        return 0
    if options.fleet:
        from inkstamp.demo.fleet_show import play_fleet

        play_fleet(_say)
        _say("narrator", "Everything is stopped and removed. How to set one up: docs/fleet.md.")
        return 0
    play(_say, Path(options.keep) if options.keep else None)
    if options.keep:
        folder = Path(options.keep).absolute()
        _say("narrator", f"The folder {folder} stays. Start it again in one terminal:")
        _say("command", f"inkstamp demo --again {shlex.quote(options.keep)}")
        _say("narrator", "and try commands by hand in another:")
        _say("command", f"export INKSTAMP_CONFIG={shlex.quote(f'{folder}/inkstamp.toml')}")
    else:
        _say("narrator", "Everything is stopped and removed. To keep it and try commands by hand:")
        _say("command", "inkstamp demo --keep DIR")
    return 0


def _say(kind: str, text: str) -> None:
    if kind == "narrator":
        print("\n" + output.wrapped(text, "# ", "# "), flush=True)
    elif kind == "command" or kind.startswith("at "):
        print(output.paint(f"{kind[3:] if kind != 'command' else ''}$ {text}", Severity.NOTE, sys.stdout), flush=True)
    else:
        print(text, end="", flush=True)


def _tell_up(world: "DemoWorld") -> None:
    print(f"the demo runs; its web server is {world.web}")
    print(f"the portal of Fogbell: {world.portal.url}")
    print("in another terminal:")
    print(f"  export INKSTAMP_CONFIG={shlex.quote(str(world.config))}")
    print("  inkstamp status")
    print("Ctrl-C stops it", flush=True)
