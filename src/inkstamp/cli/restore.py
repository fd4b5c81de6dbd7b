"""Restore a backup that `inkstamp backup` made.

    inkstamp restore inkstamp.age --private-key ~/.ssh/id_ed25519 --preview
    inkstamp restore inkstamp.age --private-key ~/.ssh/id_ed25519

The configuration goes to --config, the data directory to --home, or where they
were. Everything is unpacked and compared with its digests before anything is
put into its place; what is there already is kept, or moved aside by --replace.
A backup decides what this machine does: restore none that others could write.
"""

import argparse
import os
from pathlib import Path

from inkstamp.cli import output, passphrase
from inkstamp.cli.context import Context
from inkstamp.cli.setting import config_file


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp restore`."""
    parser.add_argument("file", metavar="FILE", help="the backup")
    parser.add_argument(
        "--private-key", metavar="FILE", help="SSH private key or age identities that decrypt it (mode 0600)"
    )
    passphrase.options(parser, "the backup")
    parser.add_argument("--replace", action="store_true", help="move what is there aside")
    parser.add_argument("--preview", action="store_true", help="show what is in it, and change nothing")


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp restore`; returns the exit status."""
    from inkstamp.clock import SystemClock, stamp
    from inkstamp.jobs.backups.encryption import Opening
    from inkstamp.jobs.backups.restoration import read_contents, restore

    file = Path(options.file).absolute()
    opening = Opening(
        passphrase=passphrase.given(options, "the backup", new=False),
        private_key=Path(options.private_key).absolute() if options.private_key else None,
    )
    if options.preview:
        found = read_contents(file, opening)
        if context.json:
            output.as_json("restore", contents=found)
            return 0
        editions = sum(1 for each in found.files if each.startswith("home/shelf/") and each.endswith("/leaf.pem"))
        rows = (("made", f"{stamp(found.made)} on {found.host}, by Ink Stamp {found.version}"), ("home", found.home),
                ("config", found.config), ("ledger", "is in it" if found.ledger else "is not in it: it is a database"),
                ("editions", str(editions)), ("files", str(len(found.files))))  # fmt: skip
        for name, value in rows:
            print(output.field(name, value))
        return 0
    given = context.home or os.environ.get("INKSTAMP_HOME")
    home = Path(given).absolute() if given else None
    done = restore(file, opening, config_file(context), home, SystemClock(), replace=options.replace)
    if context.json:
        output.as_json("restore", home=done.home, config=done.config, contents=done.contents, findings=done.findings)
        return 0
    output.findings(done.findings)
    print(output.field("next", "inkstamp status; then: inkstamp check and, on a new machine, inkstamp schedule put"))
    return 0
