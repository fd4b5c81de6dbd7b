"""Show the state of every certificate, the most urgent first, and what to do next.

Of more than 50 certificates, those that are ok are counted and not listed; with
--all they are listed too.

    inkstamp status
    inkstamp status --report certificates.html
    inkstamp status --healthy     for a health check: exit status 0 or 1
"""

import argparse
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from inkstamp.cli import output
from inkstamp.cli.context import Context
from inkstamp.cli.setting import open_runtime, roster_options, selection_of
from inkstamp.wording import counted

if TYPE_CHECKING:
    from inkstamp.jobs.fleet.rollout_progress import RolloutProgress
    from inkstamp.jobs.status.health import Health
    from inkstamp.jobs.status.overview import CertificateStatus, Overview
    from inkstamp.ledger.run_summary import LastSweep
    from inkstamp.policy.portal_steps import StepProgress
    from inkstamp.runtime import Runtime

_MOST_REASONS = 10
_MOST_LISTED = 50
"""Certificates that are listed whatever their state."""


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp status`."""
    parser.add_argument("--all", action="store_true", help="list those that are ok too, however many there are")
    parser.add_argument("--report", metavar="FILE", help="write it to FILE as one HTML page")
    parser.add_argument(
        "--healthy",
        action="store_true",
        help="only tell whether somebody is needed: exit status 1 where a certificate needs a person, or where "
        "`renew` has not run for 30 hours",
    )
    roster_options(parser)
    parser.add_argument("--rebuild", action="store_true", help="rebuild a missing or damaged ledger from the shelf")


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp status`; returns the exit status."""
    from inkstamp.jobs.status.overview import overview
    from inkstamp.ledger.run_summary import last_sweep

    if options.rebuild:
        return _rebuild(context)
    with open_runtime(context, only_looks=True) as runtime:
        if options.healthy:
            from inkstamp.jobs.status.health import health

            return _tell_health(context, health(runtime))
        found = overview(runtime, selection_of(options), whole=options.all)
        if len(found.certificates) < found.total <= _MOST_LISTED:  # few enough to list them all
            found = overview(runtime, selection_of(options), whole=True)
        now, rollouts = runtime.clock.now(), _rollouts(runtime)
        last = last_sweep(runtime.home)
    if options.report:
        from inkstamp.cli.status_page import write_status

        write_status(found, Path(options.report).absolute())
    if context.json:
        output.as_json("status", certificates=found.certificates, total=found.total, groups=found.groups,
                       rollouts=rollouts, last_run=last)  # fmt: skip
        return 0
    if not found.total:
        print("no certificate is configured yet\n  next   inkstamp stamp NAME…")
        return 0
    _tell(found, now, whole=options.all or found.total <= _MOST_LISTED)
    _tell_missed_runs(last, now)
    if rollouts:
        from inkstamp.cli.machines import tell_rollouts

        tell_rollouts(rollouts, _MOST_REASONS)
    return 0


def _rebuild(context: Context) -> int:
    from inkstamp.jobs.issuance.ledger_rebuild import rebuild

    with open_runtime(context) as runtime:
        made = rebuild(runtime)
    if context.json:
        output.as_json("status", rebuilt=made)
        return 0
    output.findings(made.findings)
    if made.moved_to:
        print(output.field("before", made.moved_to))
    print(output.field("next", "inkstamp renew, which installs again what is not known to be installed"))
    return 0


def _tell_health(context: Context, found: "Health") -> int:
    if context.json:
        output.as_json("status", healthy=found.healthy, findings=found.findings)
    else:
        output.findings(found.findings, below="status")
    return 0 if found.healthy else 1


def _tell_missed_runs(last: "LastSweep | None", now: datetime) -> None:
    from inkstamp.findings import warn
    from inkstamp.jobs.status.run_record import is_overdue, told_gap

    if last is not None and is_overdue(last, now):
        output.findings([warn("renew", "renew", told_gap(last, now), "inkstamp schedule show")], below="renew")


def _rollouts(runtime: "Runtime") -> "list[RolloutProgress]":
    """Return the editions that machines are given in steps."""
    if runtime.ledger.rollouts is None:
        return []
    from inkstamp.jobs.fleet.rollout_progress import rollouts_under_way

    return rollouts_under_way(runtime)


def _tell(found: "Overview", now: datetime, *, whole: bool) -> None:
    """Print where certificates stand; those that are ok in one line, unless the `whole` list is wanted."""
    statuses = found.certificates
    needing = [each for each in statuses if each.needs_somebody]
    listed = statuses if whole else needing[:_MOST_LISTED]
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
    if not whole and len(needing) > len(listed):
        print(f"and {len(needing) - len(listed)} more that are not ok: `inkstamp status --all` lists them")
    for each in [each for each in statuses if each.wanted][:_MOST_REASONS]:
        word = {"configuration error": "error", "not configured": "gone"}.get(each.state, "due")
        print(output.field(word, f"{each.name}: {each.wanted}"))
    at_portals = [each for each in statuses if each.stall is not None and each.stall.progress is not None]
    for each in at_portals[:_MOST_REASONS]:
        print(output.field("waits", f"{each.name}: {_step_of(each, now)}"))
    by_hand = [each for each in listed if each.by_hand and each.renews_at is not None]
    for each in sorted(by_hand, key=lambda each: (each.renews_at, each.name))[:_MOST_REASONS]:
        print(
            output.field(
                "by hand", f"{each.name}: somebody is needed on {each.renews_at:%Y-%m-%d}, since {each.by_hand}"
            )
        )
    for command in dict.fromkeys(each.next_command for each in [each for each in statuses if each.next_command][:10]):
        print(output.field("next", command))
    _tell_those_that_are_ok(found, whole=whole)


def _step_of(status: "CertificateStatus", now: datetime) -> str:
    """Say at which step an order at a portal is, in one line."""
    if status.stall is None or status.stall.progress is None:
        return ""
    usual, days = usual_of(status.stall.progress), (now - status.stall.since).days
    so_far = f"for {counted(days, 'day')}" if days else "since today"
    return ", ".join(each for each in (status.stall.step, usual, so_far) if each)


def usual_of(progress: "StepProgress") -> str:
    """Say which of the usual steps one is, and how long it usually takes; empty where neither is known."""
    told = [f"step {progress.number} of {progress.total}"] if progress.number else []
    if progress.usual_days:
        told.append(f"usually {progress.usual_days:g} {'day' if progress.usual_days == 1 else 'days'}")
    return ", ".join(told)


def _tell_those_that_are_ok(found: "Overview", *, whole: bool) -> None:
    fine = [each for each in found.certificates if not each.needs_somebody]
    needing = len(found.certificates) - len(fine)
    if found.groups and not whole:
        output.table(
            ("group", "certificates", "ok"), [(each.group, str(each.total), str(each.ok)) for each in found.groups]
        )
    if not any(each.next_command for each in found.certificates):
        print("ok" if found.total == 1 else f"all {found.total} are ok")
    elif not whole:
        print(f"{found.total - needing} of {found.total} are ok: `inkstamp status --all` lists them")
    times = [(each.renews_at, each.name) for each in fine if each.renews_at]
    if found.upcoming is not None:
        times.append((found.upcoming[1], found.upcoming[0]))
    if times and not whole:
        print(f"next renewal on {min(times)[0]:%Y-%m-%d}: {output.clean(min(times)[1])}")
