"""Install an edition on the servers of its certificate, or show the changes.

Each server tests the changed configuration and reloads; then every address is
connected to, to check that the certificate is served. If anything fails, all
files are restored byte for byte.

    inkstamp install rowing.saltmarsh.test --preview
"""

import argparse

from inkstamp.cli import output
from inkstamp.cli.context import Context
from inkstamp.cli.setting import open_runtime


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp install`."""
    parser.add_argument("certificate", metavar="NAME", help="a configured certificate")
    parser.add_argument("--edition", type=int, metavar="NUMBER", help="number of the edition (default: the newest)")
    parser.add_argument(
        "--at-once",
        type=int,
        default=1,
        metavar="N",
        help="install on N machines at the same time (default: 1)",
    )
    parser.add_argument("--back", action="store_true", help="if one machine fails, roll back those before it too")
    parser.add_argument("--preview", action="store_true", help="show which files would change, change nothing")


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp install`; returns the exit status."""
    from inkstamp.jobs.deployment.rollout import Pace
    from inkstamp.jobs.lifecycle.install import install_edition

    with open_runtime(context) as runtime:
        pace = Pace(at_once=options.at_once, back=options.back)
        done = install_edition(runtime, options.certificate, options.edition, preview=options.preview, pace=pace)
    if context.json:
        output.as_json("install", installed=done)
        return 0
    where = ", ".join(done.servers) or "the shelf only"
    verb = "is" if done.done else "would be installed"
    print(f"{done.certificate}: edition {done.edition} {verb} on {where}")
    if not done.done:
        for server, names in done.names.items():
            print(output.field("sites", f"{server}: {', '.join(names)}"))
    output.findings_in_short(done.findings)
    output.differences(done.differences)
    for each in done.copies:
        print(output.field("writes", each))
    if not done.differences and not done.copies:
        print(output.field("files", "no configuration changes: the servers use the shelf's files already"))
    if done.done:
        print(output.field("next", f"inkstamp check {done.certificate}"))
        print(output.field("to undo", f"inkstamp undo {done.certificate}"))
    else:
        print(output.field("next", f"inkstamp install {done.certificate}"))
    return 0
