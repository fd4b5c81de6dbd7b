"""Show the state of every certificate, the most urgent first, and what to do next.

Of more than 50 certificates, those that are ok are counted and not listed; with
--all they are listed too.

    inkstamp status
    inkstamp status --all
"""

import argparse
from typing import TYPE_CHECKING

from inkstamp.cli import output
from inkstamp.cli.context import Context
from inkstamp.cli.setting import open_runtime

if TYPE_CHECKING:
    from collections.abc import Sequence

    from inkstamp.jobs.status.overview import CertificateStatus

_MOST_REASONS = 10
_MOST_LISTED = 50
"""Certificates that are listed whatever their state."""


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp status`."""
    parser.add_argument("--all", action="store_true", help="list those that are ok too, however many there are")
    parser.add_argument("--rebuild", action="store_true", help="rebuild a missing or damaged ledger from the shelf")


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp status`; returns the exit status."""
    from inkstamp.jobs.status.overview import all_statuses

    with open_runtime(context) as runtime:
        if options.rebuild:
            from inkstamp.jobs.issuance.ledger_rebuild import rebuild

            made = rebuild(runtime)
            if context.json:
                output.as_json("status", rebuilt=made)
                return 0
            output.findings(made.findings)
            if made.moved_to:
                print(output.field("before", made.moved_to))
            print(output.field("next", "inkstamp renew, which installs again what is not known to be installed"))
            return 0
        statuses = all_statuses(runtime)
    if context.json:
        output.as_json("status", certificates=statuses)
        return 0
    if not statuses:
        print("no certificate is configured yet\n  next   inkstamp stamp NAME…")
        return 0
    _tell(statuses, whole=options.all or len(statuses) <= _MOST_LISTED)
    return 0


def _tell(statuses: "Sequence[CertificateStatus]", *, whole: bool) -> None:
    """Print where certificates stand; those that are ok in one line, unless the `whole` list is wanted."""
    listed = statuses if whole else [each for each in statuses if each.needs_somebody]
    rows = [
        (
            each.name,
            each.state.value,
            str(each.edition or "-"),
            "-" if each.days_left is None else str(each.days_left),
            f"{each.renews_at:%Y-%m-%d}" if each.renews_at else "-",
            output.first_of(each.names) or "-",
        )
        for each in listed
    ]
    if rows:
        output.table(("certificate", "state", "edition", "days left", "renews on", "names"), rows)
    for each in [each for each in statuses if each.wanted][:_MOST_REASONS]:
        word = {"configuration error": "error", "not configured": "gone"}.get(each.state, "due")
        print(output.field(word, f"{each.name}: {each.wanted}"))
    todo = [each for each in statuses if each.next_command]
    for command in dict.fromkeys(each.next_command for each in todo[:10]):
        print(output.field("next", command))
    fine = [each for each in statuses if not each.needs_somebody]
    if not todo:
        print("ok" if len(statuses) == 1 else f"all {len(statuses)} are ok")
    elif not whole:
        print(f"{len(fine)} of {len(statuses)} are ok: `inkstamp status --all` lists them")
    upcoming = min(((each.renews_at, each.name) for each in fine if each.renews_at), default=None)
    if upcoming is not None and not whole:
        print(f"next renewal on {upcoming[0]:%Y-%m-%d}: {output.clean(upcoming[1])}")
