"""Renew what is due and nothing else; meant for a timer.

Due is a certificate with one third of its lifetime left (half, for lifetimes
under ten days), one that has no edition yet or lacks a name that was added,
one whose order was interrupted or whose key is gone, and one whose newest
edition is not on its servers. One that fails does not
stop the others, and is left alone for a while by later runs (half an hour
after the first failure, then longer), but not when it is named.
"""

import argparse
from typing import TYPE_CHECKING

from inkstamp.cli import output
from inkstamp.cli.main import Context
from inkstamp.cli.setting import at_once, workplace

if TYPE_CHECKING:
    from inkstamp.jobs.renew import DueList, Renewed, Sweep


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the options."""
    parser.add_argument("certificates", nargs="*", metavar="CERTIFICATE", help="look at these alone (default: all)")
    parser.add_argument(
        "--at-once",
        type=at_once,
        default=1,
        metavar="N",
        help="work on N certificates at the same time (%(default)s)",
    )
    parser.add_argument("--preview", action="store_true", help="say what is due, do nothing")


def run(context: Context, options: argparse.Namespace) -> int:
    """Run it."""
    from inkstamp.jobs.renew import find_due, renew

    with workplace(context) as place:
        if options.preview:
            found = find_due(place, tuple(options.certificates))
            if context.json:
                output.as_json(
                    "renew", looked_at=found.looked_at, due=found.due, held=found.held, next_at=found.next_at
                )
                return 0
            for each in found.due:
                print(f"{each.name}: due, {each.reason}")
            print(f"{found.looked_at} looked at, {len(found.due)} due")
            _tell_next(found)
            return 0
        sweep = renew(place, tuple(options.certificates), at_once=options.at_once)
    if context.json:
        output.as_json(
            "renew",
            looked_at=sweep.found.looked_at,
            renewed=[_as_data(each) for each in sweep.renewed],
            held=sweep.found.held,
            next_at=sweep.found.next_at,
        )
    else:
        _tell(sweep)
    if sweep.failed:
        return 1
    return 3 if sweep.waiting else 0


def _as_data(each: "Renewed") -> dict[str, object]:
    return {"due": each.due, "outcome": each.outcome, "error": output.error_data(each.error) if each.error else None}


def _tell(sweep: "Sweep") -> None:
    for each in sweep.renewed:
        if each.error is not None:
            output.error(each.error, about=each.due.name)
        elif each.outcome is not None:
            edition = each.outcome.edition
            where = ", ".join(each.outcome.servers) or "the shelf alone"
            print(f"{each.due.name}: edition {edition.number} on {where}, valid until {edition.not_after:%Y-%m-%d}")
    done = len(sweep.renewed) - len(sweep.failed) - len(sweep.waiting)
    waiting = f", {len(sweep.waiting)} waiting" if sweep.waiting else ""
    print(f"{sweep.found.looked_at} looked at, {done} renewed, {len(sweep.failed)} failed{waiting}")
    if sweep.failed:
        names = " ".join(each.due.name for each in sweep.failed)
        print(output.field("next", f"mend what is told above, then: inkstamp renew {names}"))
    else:
        _tell_next(sweep.found)


def _tell_next(found: "DueList") -> None:
    for each in found.held:
        often = "once" if each.times == 1 else f"{each.times} times"
        again = f"failed {often}, is tried again from {each.until:%Y-%m-%d %H:%M} UTC"
        now = f"at once: inkstamp renew {each.name}; why: inkstamp why {each.name}"
        print(output.wrapped(f"{each.name}: {each.reason}; {again}", "", "  "))
        print(output.field("or", now))
    if found.next_at is not None and not found.due:
        print(f"next due: {found.next_name}, from {found.next_at:%Y-%m-%d}")
