"""Renew what is due and nothing else; for timers.

A certificate is due when its CA says so (ARI, RFC 9773) or, without that, when
three tenths of its lifetime are left; when it is revoked; when other names or
another key algorithm are configured; when its key is missing or its order was
interrupted; and when a server does not have, or does not serve, its newest
edition. A failure does not stop the others. After failures a certificate is
retried later (first after half an hour, then less often), unless it is named.

    inkstamp renew --preview
"""

import argparse
from typing import TYPE_CHECKING

from inkstamp.cli import output
from inkstamp.cli.context import Context
from inkstamp.cli.log import tell_error
from inkstamp.cli.setting import at_once, open_runtime, quiet_option, roster_options, selection_of

if TYPE_CHECKING:
    from inkstamp.jobs.renewal.run import Renewed, Sweep
    from inkstamp.jobs.status.due import DueList


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp renew`."""
    parser.add_argument("certificates", nargs="*", metavar="CERTIFICATE", help="configured certificates (default: all)")
    roster_options(parser)
    quiet_option(parser)
    parser.set_defaults(now=False)
    parser.add_argument(
        "--at-once",
        type=at_once,
        metavar="N",
        help="process N certificates of each CA at the same time (default: its `at_once`, 4)",
    )
    parser.add_argument("--preview", action="store_true", help="show what is due, do nothing")


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp renew`; returns the exit status."""
    from inkstamp.cli.tally import Tally
    from inkstamp.jobs.renewal.run import renew
    from inkstamp.jobs.status.due import find_due

    certificates, selection = tuple(options.certificates), selection_of(options)
    with open_runtime(context, quiet=options.quiet) as runtime:
        if options.preview:
            return _preview(context, find_due(runtime, certificates, selection, even_held=options.now))
        with Tally(context, runtime.clock, quiet=options.quiet) as tally:
            sweep = renew(
                runtime, certificates, selection=selection, even_held=options.now, at_once=options.at_once, watch=tally
            )
    if context.json:
        output.as_json(
            options.command,
            looked_at=sweep.found.looked_at,
            renewed=[_as_data(each) for each in sweep.renewed],
            held=sweep.found.held,
            put_off=sweep.found.put_off,
            next_at=sweep.found.next_at,
        )
    else:
        tell(context, sweep, quiet=options.quiet)
    if sweep.failed or sweep.internal:
        return 1
    return 3 if sweep.awaits_person else 0


def _preview(context: Context, found: "DueList") -> int:
    """Print what is due; returns the exit status."""
    if context.json:
        output.as_json(
            "renew", looked_at=found.looked_at, due=found.due, held=found.held, put_off=found.put_off,
            next_at=found.next_at,
            unknown=[{"name": name, "error": output.error_data(error)} for name, error in found.unknown],
        )  # fmt: skip
        return int(bool(found.unknown))
    for each in found.due:
        print(f"{each.name}: due, {each.reason}")
    print(f"{found.looked_at} checked, {len(found.due)} due")
    for name, error in found.unknown:
        tell_error(context, error, name)
    _tell_next(found)
    return int(bool(found.unknown))


def counts(sweep: "Sweep") -> dict[str, int]:
    """Return what a run came to, in figures."""
    return {"looked_at": sweep.found.looked_at, "renewed": len(sweep.done), "failed": len(sweep.failed),
            "waiting": len(sweep.waiting), "held": len(sweep.found.held)}  # fmt: skip


def _as_data(each: "Renewed") -> dict[str, object]:
    return {"due": each.due, "outcome": each.outcome, "error": output.error_data(each.error) if each.error else None}


def tell(context: Context, sweep: "Sweep", *, quiet: bool = False) -> None:
    """Print what a run came to, or where that is to be `quiet`, what failed and the figures."""
    for each in sweep.renewed:
        if each in sweep.elsewhere:
            print(f"{each.due.name}: another run is working on it")
        elif each.error is not None:
            tell_error(context, each.error, each.due.name)
        elif each.outcome is not None and not quiet:
            edition = each.outcome.edition
            elsewhere = "the servers of other machines" if each.outcome.for_others else "the shelf only"
            where = ", ".join(each.outcome.servers) or elsewhere
            print(f"{each.due.name}: edition {edition.number} on {where}, valid until {edition.not_after:%Y-%m-%d}")
    waiting = f", {len(sweep.waiting)} waiting" if sweep.waiting else ""
    print(f"{sweep.found.looked_at} checked, {len(sweep.done)} renewed, {len(sweep.failed)} failed{waiting}")
    if sweep.failed:
        command = " ".join(("inkstamp renew", *sweep.again))
        print(output.field("next", f"fix the errors above, then: {command}"))
    else:
        _tell_next(sweep.found)


def _tell_next(found: "DueList") -> None:
    if found.put_off:
        told = f"{len(found.put_off)} are left to the next days, so that no day has many more orders than another"
        print(output.wrapped(f"{told}; at once: inkstamp stamp --all", "", "  "))
    for each in found.held:
        often = "once" if each.times == 1 else f"{each.times} times"
        again = f"failed {often}, next attempt from {each.until:%Y-%m-%d %H:%M} UTC"
        now = f"at once: inkstamp renew {each.name}; why: inkstamp why {each.name}"
        print(output.wrapped(f"{each.name}: {each.reason}; {again}", "", "  "))
        print(output.field("or", now))
    if found.next_at is not None and not found.due:
        print(f"next due: {found.next_name}, from {found.next_at:%Y-%m-%d}")
