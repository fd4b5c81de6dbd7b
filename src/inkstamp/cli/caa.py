"""Show which CAs may issue for names (CAA records), and put the right records.

NAME is a configured certificate, for all of its names, or a domain name that a
certificate has. Shown is what counts now, climbed to from the name (RFC 8659),
and what would let just the CAs of its certificates issue: `issue`, `issuewild`,
limited to our account and validation methods (RFC 8657), unless --simple.
With --put that is put into DNS at the name: records of other CAs and other
properties stay, and every nameserver is waited for.

    inkstamp caa shop.saltmarsh.test
    inkstamp caa shop.saltmarsh.test --put --via primary
"""

import argparse
import shlex
import sys
from typing import TYPE_CHECKING, TextIO

from inkstamp.cli import output
from inkstamp.cli.context import Context
from inkstamp.cli.setting import open_runtime
from inkstamp.severity import Severity, worst

if TYPE_CHECKING:
    from inkstamp.jobs.validation.caa_records import CaaState


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp caa`."""
    parser.add_argument("names", nargs="+", metavar="NAME", help="a configured certificate, or a name that one has")
    parser.add_argument("--simple", action="store_true", help="limit the CA neither to our account nor to methods")
    parser.add_argument("--put", action="store_true", help="put the records into DNS, after showing the changes")
    parser.add_argument("--via", default="", metavar="NAMESERVER", help="by this nameserver or program (default: the "
                        "only one)")  # fmt: skip
    parser.add_argument("--yes", action="store_true", help="do not ask for confirmation")


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp caa`; returns the exit status."""
    from inkstamp.errors import UsageError
    from inkstamp.jobs.validation.caa_records import look_at_caa, put_caa, usual_carrier

    if not options.put and (options.via or options.yes):
        raise UsageError("--via and --yes are for --put", advice="add --put, or leave them out")
    limits = not options.simple
    with open_runtime(context) as runtime:
        states = look_at_caa(runtime, options.names, limits=limits)
        changing = any(each.differs for each in states)
        if options.put and changing:
            via = usual_carrier(runtime, options.via)
            if not context.json:
                _tell(states, sys.stderr)
            output.ask("put these records into DNS", "caa", yes=options.yes)
            changed = {each.plan.name: each for each in put_caa(runtime, states, via)}
            states = [changed.get(each.plan.name, each) for each in states]
    if context.json:
        output.as_json("caa", names=[_data(each) for each in states])
    else:
        _tell(states, sys.stdout)
        if any(each.differs for each in states):
            print(output.field("next", f"inkstamp caa {shlex.join(options.names)} --put"))
    return 1 if any(worst(each.findings) is Severity.BAD for each in states) else 0


def _tell(states: "list[CaaState]", stream: TextIO) -> None:
    from inkstamp.proof.caa_plan import in_zone_form

    for each in states:
        print(each.plan.name, file=stream)
        where = each.plan.found.domain
        there = f"at {where}" if where else "no record: every CA may issue"
        print(output.field("found", each.plan.found.trouble or there), file=stream)
        for record in each.plan.found.records:
            print(output.field("", output.clean(in_zone_form(record))), file=stream)
        output.findings(each.findings, stream)
        if not each.differs:
            print(output.field("right", f"it is, for {', '.join(each.authorities)}"), file=stream)
            continue
        print(output.field("right", f"for {', '.join(each.authorities)}, at {each.plan.name}:"), file=stream)
        for record in each.plan.wanted:
            mark = "+" if record in each.plan.added else " "
            print(output.field("", f"{mark} {output.clean(in_zone_form(record))}"), file=stream)
        for record in each.plan.removed:
            print(output.field("", f"- {output.clean(in_zone_form(record))}"), file=stream)


def _data(state: "CaaState") -> dict[str, object]:
    from inkstamp.proof.caa_plan import in_zone_form

    plan = state.plan
    return {
        "name": plan.name,
        "authorities": state.authorities,
        "domain": plan.found.domain,
        "found": [in_zone_form(each) for each in plan.found.records],
        "wanted": [in_zone_form(each) for each in plan.wanted],
        "added": [in_zone_form(each) for each in plan.added],
        "removed": [in_zone_form(each) for each in plan.removed],
        "findings": state.findings,
    }
