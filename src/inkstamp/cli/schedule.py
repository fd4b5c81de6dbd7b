"""Have `renew` run by itself: a systemd timer, or cron where there is none.

    inkstamp schedule show     what is in place, when it last ran, what it did
    inkstamp schedule put      put the timer in place, or bring it up to date
    inkstamp schedule print    the files, for a look or to carry elsewhere
    inkstamp schedule remove

As root it is the system's timer, otherwise the user's own.
"""

import argparse
import sys
from pathlib import Path

from inkstamp.cli import output
from inkstamp.cli.main import Context
from inkstamp.cli.setting import workplace
from inkstamp.errors import UsageError


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument("action", choices=("show", "put", "print", "remove"), help="as above")
    parser.add_argument("--cron", action="store_true", help="cron, even where systemd is")
    parser.add_argument("--into", metavar="DIR", help="another folder for the files; nothing is started")


def run(context: Context, options: argparse.Namespace) -> int:
    """Run it."""
    from inkstamp.jobs import schedule as job

    program, into = _program(), Path(options.into).absolute() if options.into else None
    with workplace(context) as place:
        if options.action == "remove":
            gone = job.remove(place, program, into=into)
            if context.json:
                output.as_json("schedule", removed=gone)
            else:
                print("\n".join(f"{each} is gone" for each in gone) or "there was no timer")
            return 0
        act = job.put if options.action == "put" else job.schedule
        found = act(place, program, cron=options.cron, into=into)
    if context.json:
        output.as_json("schedule", schedule=found)
    elif options.action == "print":
        for path, text in found.files:
            print(f"# {path}\n{text}")
    else:
        output.findings(found.findings)
        print(output.field("runs", "twice a day, at times that differ from machine to machine"))
    return 1 if any(each.severity == "bad" for each in found.findings) and options.action == "show" else 0


def _program() -> str:
    """Return the path of this very program: a timer has no PATH to find it by."""
    program = Path(sys.argv[0])
    if not program.is_file():
        raise UsageError("it is not known where `inkstamp` lies", advice="run it by its whole path")
    return str(program.absolute())
