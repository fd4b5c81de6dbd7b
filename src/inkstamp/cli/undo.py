"""Roll back one install: the edition before it, and the configuration as it was.

Changes that others made to the same files since then are kept. `renew` does not
install the newer edition again; `inkstamp install NAME` does.

    inkstamp undo rowing.saltmarsh.test --preview
"""

import argparse

from inkstamp.cli import output
from inkstamp.cli.context import Context
from inkstamp.cli.setting import open_runtime


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp undo`."""
    parser.add_argument("certificate", metavar="NAME", help="a configured certificate")
    parser.add_argument("--preview", action="store_true", help="show what would change, change nothing")


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp undo`; returns the exit status."""
    from inkstamp.jobs.lifecycle.undo import undo

    with open_runtime(context) as runtime:
        undone = undo(runtime, options.certificate, preview=options.preview)
    if context.json:
        output.as_json("undo", undone=undone)
        return 0
    where = ", ".join(undone.servers)
    what = f"edition {undone.edition}" if undone.edition is not None else "no edition of Ink Stamp"
    verb = "would have" if not undone.done else "have" if len(undone.servers) > 1 else "has"
    print(f"{undone.certificate}: {where} {verb} {what}{' again' if undone.edition is not None else ''}")
    output.findings_in_short(undone.findings)
    output.differences(undone.differences)
    if undone.done:
        print(output.field("next", f"inkstamp install {undone.certificate}   (installs the newest edition again)"))
    else:
        print(output.field("next", f"inkstamp undo {undone.certificate}"))
    return 0
