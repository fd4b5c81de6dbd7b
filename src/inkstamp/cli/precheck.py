"""Test beforehand what a CA will look at: DNS, CAA and challenge responses.

NAME is a domain name, or a configured certificate for all of its names. A test
file (or record, or listener) is placed where the challenge response would be,
fetched from outside at every address of the name, and removed. No CA is asked.

    inkstamp precheck rowing.saltmarsh.test www.rowing.saltmarsh.test
"""

import argparse
from typing import TYPE_CHECKING

from inkstamp.cli import output
from inkstamp.cli.context import Context
from inkstamp.cli.setting import open_runtime
from inkstamp.severity import Severity, worst, worst_first

if TYPE_CHECKING:
    from msgspec import Struct

    from inkstamp.jobs.validation.precheck import NameCheck


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp precheck`."""
    parser.add_argument("names", nargs="+", metavar="NAME", help="a domain name, or a configured certificate")
    parser.add_argument(
        "--authority",
        default="",
        help="authority to check CAA records for (default: the only one, or that of the certificate)",
    )
    parser.add_argument(
        "--via",
        action="append",
        default=[],
        metavar="WHERE",
        help="where challenge responses would be placed: a server, nameserver or program of the configuration, or "
        "“listener” (repeat for several)",
    )
    parser.add_argument("--all", action="store_true", help="also show what is ok")


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp precheck`; returns the exit status."""
    from inkstamp.jobs.validation.precheck import precheck

    with open_runtime(context) as runtime:
        checks = precheck(runtime, options.names, authority=options.authority, via=options.via)
    failing = [each for each in checks if not each.passes]
    if context.json:
        output.as_json("precheck", names=[{"passes": each.passes, **_data(each)} for each in checks])
        return 1 if failing else 0
    topics = ("name", "address", "server", "validation", "zone", "caa")
    shown = [topic for topic in topics if any(each.mark(topic) != "-" for each in checks)]
    rows = [(each.name, _verdict(each), *(each.mark(topic) for topic in shown), each.method) for each in checks]
    output.table(("site", "verdict", *shown, "method"), rows)
    for each in checks:
        told = [finding for finding in each.findings if options.all or finding.severity is not Severity.OK]
        if told:
            print()
            output.findings(worst_first(told))
    print()
    if any(_verdict(each) == _FAILS for each in failing):
        print(output.field("next", "fix the errors above, then run the same command again"))
    if any(not each.tried for each in failing):
        print(output.field("next", "say with --via where the challenge response is placed, so that it is tried"))
    if not failing:
        print(output.field("next", f"inkstamp stamp {' '.join(options.names)}"))
    return 1 if failing else 0


_FAILS = "FAILS"


def _verdict(check: "NameCheck") -> str:
    if check.passes:
        return "passes"
    return _FAILS if worst(check.findings) is Severity.BAD else "not tried"


def _data(check: "Struct") -> dict[str, object]:
    from msgspec.structs import asdict

    return asdict(check)
