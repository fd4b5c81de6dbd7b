"""Show what happened, when and in which run; the newest last.

inkstamp history rowing.saltmarsh.test --last 20
"""

import argparse

from inkstamp.cli import output
from inkstamp.cli.context import Context
from inkstamp.cli.setting import open_runtime, roster_options, selection_of
from inkstamp.clock import stamp
from inkstamp.printable import printable


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp history`."""
    parser.add_argument("certificate", nargs="?", default="", help="show only this certificate")
    roster_options(parser)
    parser.add_argument(
        "--last", type=_positive, default=40, metavar="N", help="show at most N entries (default: %(default)s)"
    )


def _positive(text: str) -> int:
    number = int(text)
    if number < 1:
        raise argparse.ArgumentTypeError("must be at least 1")
    return number


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp history`; returns the exit status."""
    from inkstamp.jobs.status.history import history

    with open_runtime(context, only_looks=True) as runtime:
        events = history(runtime, options.certificate, options.last, selection_of(options))
    if context.json:
        output.as_json("history", events=events)
        return 0
    if not events:
        print("nothing is recorded yet" + (f" for {printable(options.certificate)}" if options.certificate else ""))
    run_shown = None
    for event in events:
        if event.run != run_shown:
            run_shown = event.run
            on = f" on {event.machine}" if event.machine else ""
            print(output.wrapped(f"run {event.run}{on}: {event.command}", "", "    "))
        lead = f"  {stamp(event.at)}  {event.what:<14}"
        about = f"{event.certificate}: " if event.certificate and not options.certificate else ""
        print(output.wrapped(about + event.text, lead, " " * len(lead)))
    return 0
