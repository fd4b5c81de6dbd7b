"""List the machines that share the ledger: last seen, servers, what they lack.

A machine appears with its first `inkstamp renew`. One that gives no sign of
life for longer than `away_hours` ([ledger], 26 hours) counts as away; what it
lacks is installed when it comes back. `forget` takes one off the list that is
gone for good.

Where `rollout` of a certificate or group gives machines a new edition in steps,
`rollout` lists the editions that are under way. A failure stops one there;
`--back` has the machines that took it go back, `--to-all` waits for nothing.

    inkstamp machines
    inkstamp machines rollout
"""

import argparse
from typing import TYPE_CHECKING

from inkstamp.cli import output
from inkstamp.cli.context import Context, global_options
from inkstamp.cli.setting import open_runtime
from inkstamp.errors import UsageError
from inkstamp.severity import Severity, worst

if TYPE_CHECKING:
    from collections.abc import Sequence

    from inkstamp.jobs.fleet.machine_report import MachineReport
    from inkstamp.jobs.fleet.rollout_progress import RolloutProgress
    from inkstamp.runtime import Runtime

_MOST_TOLD = 10
"""Editions that are told one by one for each machine."""


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp machines`."""
    actions = parser.add_subparsers(dest="action", metavar="[ACTION]")
    forget = actions.add_parser("forget", help="take a machine off the list that is gone for good", allow_abbrev=False)
    forget.add_argument("name", metavar="NAME", help="the machine")
    global_options(forget, default=argparse.SUPPRESS)
    about = "list the editions that are rolled out in steps, take one back, or give it to all"
    rollout = actions.add_parser("rollout", help=about, description=f"{about[0].upper()}{about[1:]}.",
                                 allow_abbrev=False)  # fmt: skip
    rollout.add_argument("certificate", metavar="CERTIFICATE", nargs="?", default="", help="one certificate's alone")
    what = rollout.add_mutually_exclusive_group()
    what.add_argument("--back", action="store_true",
                      help="have all machines go back to the edition before the newest")  # fmt: skip
    what.add_argument("--to-all", action="store_true", help="give the edition to all machines now, whatever happened")
    global_options(rollout, default=argparse.SUPPRESS)


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp machines`; returns the exit status."""
    from inkstamp.jobs.fleet.machine_report import forget_machine, machine_reports

    with open_runtime(context) as runtime:
        if options.action == "rollout":
            return _rollout(context, runtime, options)
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


def _rollout(context: Context, runtime: "Runtime", options: argparse.Namespace) -> int:
    from inkstamp.jobs.fleet.rollout_progress import end_rollout, expect_rollouts, rollouts_under_way, take_edition_back

    name = options.certificate
    if (options.back or options.to_all) and not name:
        raise UsageError(f"--{'back' if options.back else 'to-all'} needs a certificate",
                         advice="name it; see: inkstamp machines rollout")  # fmt: skip
    expect_rollouts(runtime)
    if options.back:
        newest, before = take_edition_back(runtime, name)
        if context.json:
            output.as_json("machines rollout", certificate=name, taken_back=newest, back_to=before)
            return 0
        print(f"{name}: edition {newest} is taken back; machines that have it go back to edition {before}"
              " with their next run")  # fmt: skip
        print(output.field("see", f"inkstamp machines; inkstamp history {name}"))
        print(output.field("next", f"inkstamp stamp {name} --reissue, for another edition"))
        return 0
    if options.to_all:
        before_all = end_rollout(runtime, name)
        if context.json:
            output.as_json("machines rollout", certificate=name, to_all=before_all.edition)
            return 0
        print(f"{name}: edition {before_all.edition} is given to all machines; each installs it with its next run")
        return 0
    if name:
        runtime.certificates.entry(name)
    found = rollouts_under_way(runtime, name)
    if context.json:
        output.as_json("machines rollout", rollouts=found)
    elif not found:
        print("no edition is being rolled out in steps")
    else:
        tell_rollouts(found, len(found))
    return 1 if any(each.is_stopped for each in found) else 0


def tell_rollouts(found: "Sequence[RolloutProgress]", most: int) -> None:
    """Print how far editions are on their way to their machines, at most so many, those that stopped first."""
    for each in sorted(found, key=lambda each: not each.is_stopped)[:most]:
        print(output.field("roll-out", f"{each.certificate}: edition {each.edition}, {each.told}"))
        if each.is_stopped:
            print(output.field("next", f"inkstamp machines rollout {each.certificate} --back, or --to-all"))
    if len(found) > most:
        print(output.field("more", f"{len(found) - most} roll-outs; all: inkstamp machines rollout"))


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
