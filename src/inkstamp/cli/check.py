"""Look at live names from outside: what each address serves, and whether the
public will believe it.

NAME is a domain name, or a configured certificate for all of its names. Exit
status 1 when something is broken.
"""

import argparse
from pathlib import Path

from inkstamp.cli import output
from inkstamp.cli.main import Context
from inkstamp.cli.setting import workplace
from inkstamp.findings import worst_first


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the options."""
    parser.add_argument("names", nargs="+", metavar="NAME", help="a domain name, or a configured certificate")
    parser.add_argument("--roots", metavar="FILE", help="PEM file of the roots to trust (default: the public's)")


def run(context: Context, options: argparse.Namespace) -> int:
    """Run it."""
    from inkstamp.jobs.check import check

    with workplace(context) as place:
        reports = check(place, tuple(options.names), Path(options.roots) if options.roots else None)
    status = 0 if all(each.sound for each in reports) else 1
    if context.json:
        output.as_json("check", names=reports)
        return status
    for number, report in enumerate(reports):
        if number:
            print()
        print(f"{report.name}: {'sound' if report.sound else 'broken'}")
        for depth, each in enumerate(report.chain):
            branch = "   " * depth + ("└─ " if depth else "")
            told = output.clean(each.subject or ", ".join(each.names))
            print(f"  {branch}{told}  ({each.key}, until {each.not_after:%Y-%m-%d})")
        if report.root:
            depth = len(report.chain)
            print(f"  {'   ' * depth}└─ {output.clean(report.root)}  (trusted root)")
        output.findings(worst_first(report.findings), below=report.name)
    return status
