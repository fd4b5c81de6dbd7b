"""List the machines that share the ledger: last seen, servers, what they lack.

A machine appears with its first `inkstamp renew`. One that gives no sign of
life for longer than `away_hours` ([ledger], 26 hours) counts as away; what it
lacks is installed when it comes back. `forget` takes one off the list that is
gone for good.

    inkstamp machines
"""

import argparse
from typing import TYPE_CHECKING

from inkstamp.cli import output
from inkstamp.cli.context import Context, global_options
from inkstamp.cli.setting import open_runtime
from inkstamp.findings import Severity, worst

if TYPE_CHECKING:
    from inkstamp.jobs.fleet.machine_report import MachineReport

_MOST_TOLD = 10
"""Editions that are told one by one for each machine."""


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp machines`."""
    actions = parser.add_subparsers(dest="action", metavar="[ACTION]")
    forget = actions.add_parser("forget", help="take a machine off the list that is gone for good", allow_abbrev=False)
    forget.add_argument("name", metavar="NAME", help="the machine")
    global_options(forget, default=argparse.SUPPRESS)


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp machines`; returns the exit status."""
    from inkstamp.jobs.fleet.machine_report import forget_machine, machine_reports

    with open_runtime(context) as runtime:
        if options.action == "forget":
            forget_machine(runtime, options.name)
            if context.json:
                output.as_json("machines forget", machine=options.name)
            else:
                print(f"{options.name} is off the list; it appears again with its next `inkstamp renew`")
            return 0
        reports = machine_reports(runtime)
    if context.json:
        output.as_json("machines", machines=[_data(each) for each in reports])
    else:
        _tell(reports)
    return 1 if any(worst(each.findings) is Severity.BAD for each in reports) else 0


def _tell(reports: "list[MachineReport]") -> None:
    if not reports:
        print("no machine has used this ledger yet")
        print(output.field("next", "inkstamp renew"))
        return
    rows = [
        (
            output.clean(each.machine.name) + (" (here)" if each.is_here else ""),
            _ago(each.machine.silent),
            output.clean(each.machine.release),
            "orders" if each.machine.orders else "installs",
            output.clean(", ".join(each.machine.servers)) or "none",
            str(len(each.lacks)) if each.lacks else "nothing",
        )
        for each in reports
    ]
    output.table(("machine", "last seen", "release", "role", "servers", "lacks"), rows)
    for each in reports:
        wrong = [finding for finding in each.findings if finding.severity is not Severity.OK]
        output.findings(wrong[:_MOST_TOLD])
        if len(wrong) > _MOST_TOLD:
            print(output.field("more", f"{len(wrong) - _MOST_TOLD}; all: inkstamp machines --json"))


def _ago(seconds: float) -> str:
    for limit, size, unit in ((90, 1, "s"), (90 * 60, 60, "min"), (48 * 3600, 3600, "h")):
        if seconds < limit:
            return f"{max(seconds, 0) / size:.0f} {unit} ago"
    return f"{seconds / 86_400:.0f} days ago"


def _data(report: "MachineReport") -> dict[str, object]:
    return {"machine": report.machine, "lacks": report.lacks, "findings": report.findings, "is_here": report.is_here}
