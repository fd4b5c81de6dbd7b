"""The whole job in a simulated world on this machine: a CA, a nameserver and a
web server, all on loopback.

Each command is run for real and shown as one would type it, with what it
answered. Everything is stopped and removed at the end; with --keep the folder
stays, and --again brings its world up to try commands by hand.
"""

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from inkstamp.cli import output
from inkstamp.cli.main import Context
from inkstamp.findings import Severity

if TYPE_CHECKING:
    from inkstamp.demo.world import DemoWorld


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the options."""
    which = parser.add_mutually_exclusive_group()
    which.add_argument("--keep", metavar="DIR", help="play the demo in this new folder and leave it")
    which.add_argument("--again", metavar="DIR", help="bring the world of a kept folder up until Ctrl-C")


def run(context: Context, options: argparse.Namespace) -> int:
    """Run it."""
    from inkstamp.demo.show import keep_up, play
    from inkstamp.errors import UsageError

    if context.json or context.config or context.home:
        raise UsageError(
            "--json, --config and --home do not apply to the demo, which makes a world of its own",
            advice="leave them out; `--keep DIR` says where the world is made",
        )

    if options.again:
        keep_up(Path(options.again), _tell_up)
        print("\nthe world is down")
        return 0
    play(_say, Path(options.keep) if options.keep else None)
    if options.keep:
        folder = Path(options.keep).absolute()
        _say("narrator", f"The folder {folder} stays. Bring its world up again in one terminal:")
        _say("command", f"inkstamp demo --again {options.keep}")
        _say("narrator", "and try commands by hand in another:")
        _say("command", f"export INKSTAMP_CONFIG={folder}/inkstamp.toml")
    else:
        _say("narrator", "Everything is stopped and removed. To keep it and try commands by hand:")
        _say("command", "inkstamp demo --keep DIR")
    return 0


def _say(kind: str, text: str) -> None:
    if kind == "narrator":
        print("\n" + output.wrapped(text, "# ", "# "), flush=True)
    elif kind == "command":
        print(output.paint(f"$ {text}", Severity.NOTE, sys.stdout), flush=True)
    else:
        print(text, end="", flush=True)


def _tell_up(world: "DemoWorld") -> None:
    print(f"the world is up; its web server is {world.web}")
    print(f"the portal of Fogbell: {world.portal.url}")
    print("in another terminal:")
    print(f"  export INKSTAMP_CONFIG={world.config}")
    print("  inkstamp status")
    print("Ctrl-C takes it down", flush=True)
