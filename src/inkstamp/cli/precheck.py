"""What a CA will look at for each name, looked at beforehand. No CA is needed.

NAME is a domain name, or a configured certificate for all of its names. A file
of random content is put where the proof will be, fetched from outside at every
address, and taken away again.

    inkstamp precheck rowing.saltmarsh.test '*.saltmarsh.test'
"""

import argparse
from typing import TYPE_CHECKING

from inkstamp.cli import output
from inkstamp.cli.main import Context
from inkstamp.cli.setting import workplace
from inkstamp.findings import Severity, worst, worst_first

if TYPE_CHECKING:
    from inkstamp.jobs.precheck import NameCheck


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the options."""
    parser.add_argument("names", nargs="+", metavar="NAME", help="a domain name, or a configured certificate")
    parser.add_argument("--authority", default="", help="the CA that is meant, for CAA")
    parser.add_argument(
        "--via",
        action="append",
        default=[],
        metavar="CARRIER",
        help="what would carry the proof: a server, nameserver or program, or listener (repeat for several)",
    )
    parser.add_argument("--all", action="store_true", help="show what is good, too")


def run(context: Context, options: argparse.Namespace) -> int:
    """Run it."""
    from inkstamp.jobs.precheck import precheck

    with workplace(context) as place:
        checks = precheck(place, options.names, authority=options.authority, via=options.via)
    failing = [each for each in checks if not each.passes]
    if context.json:
        output.as_json("precheck", names=[{"passes": each.passes, **_data(each)} for each in checks])
        return 1 if failing else 0
    topics = ("name", "address", "server", "proof", "zone", "caa")
    shown = [topic for topic in topics if any(each.mark(topic) != "-" for each in checks)]
    rows = [(each.name, _verdict(each), *(each.mark(topic) for topic in shown), each.method) for each in checks]
    output.table(("site", "verdict", *shown, "method"), rows)
    for each in checks:
        told = [finding for finding in each.findings if options.all or finding.severity is not Severity.GOOD]
        if told:
            print()
            output.findings(worst_first(told))
    print()
    if any(_verdict(each) == _FAILS for each in failing):
        print(output.field("next", "mend what is bad, then run the same command again"))
    if any(not each.tried for each in failing):
        print(output.field("next", "say with --via what carries the proof, so that it is tried"))
    if not failing:
        print(output.field("next", f"inkstamp stamp {' '.join(options.names)}"))
    return 1 if failing else 0


_FAILS = "FAILS"


def _verdict(check: "NameCheck") -> str:
    if check.passes:
        return "passes"
    return _FAILS if worst(check.findings) is Severity.BAD else "not tried"


def _data(check: object) -> dict[str, object]:
    import dataclasses

    return {each.name: getattr(check, each.name) for each in dataclasses.fields(check)}  # type: ignore[arg-type]
