"""Show why a certificate is stuck: which step, since when, and who must act.

inkstamp why shop.saltmarsh.test
inkstamp why shop.saltmarsh.test --waiting call --until 2026-12-01 --note 10:00

At a portal, --waiting says which step the CA is at after the CSR was pasted:
organisation vetting, a call, documents, approval by somebody else, payment, or
the review. `status` shows it; a messenger reminds you on the day of --until.
"""

import argparse
import typing
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

from inkstamp.cli import output
from inkstamp.cli.context import Context
from inkstamp.cli.setting import moment, open_runtime
from inkstamp.cli.status import usual_of
from inkstamp.config.words import PortalStep
from inkstamp.wording import counted, header_of

if TYPE_CHECKING:
    from inkstamp.jobs.status.diagnosis import Why
    from inkstamp.ledger.failures import RecordedFailure
    from inkstamp.ledger.records import PortalProof


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp why`."""
    parser.add_argument("certificate", metavar="NAME", help="a configured certificate")
    parser.add_argument("--note", metavar="TEXT", help="first add a note to it")
    portal = parser.add_argument_group("an order at a portal")
    portal.add_argument(
        "--waiting",
        choices=typing.get_args(PortalStep),
        metavar="STEP",
        help=f"the step that the order waits for: {', '.join(typing.get_args(PortalStep))}",
    )
    portal.add_argument(
        "--until", metavar="DATE", help="with --waiting: when that should be over, or the CA calls (RFC 3339)"
    )


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp why`; returns the exit status."""
    from inkstamp.jobs.status.diagnosis import attach_note, why

    until = moment(options.until)
    if until is not None and not options.waiting:
        from inkstamp.errors import UsageError

        raise UsageError("--until goes with --waiting", advice="say for what the order waits: --waiting call")
    with open_runtime(context, only_looks=not (options.waiting or options.note)) as runtime:
        if options.waiting:
            from inkstamp.jobs.portal.waiting import wait_at_step

            runtime.certificates.entry(options.certificate)
            with runtime.locks.certificate(options.certificate):
                wait_at_step(runtime, options.certificate, options.waiting, until)
        if options.note:
            attach_note(runtime, options.certificate, options.note)
        found = why(runtime, options.certificate)
        now = runtime.clock.now()
    if context.json:
        output.as_json("why", why=found)
    else:
        _tell(found, now)
        if context.debug and found.setback is not None and found.setback.told.traceback:
            print(output.clean(found.setback.told.traceback))
    return 0


def _tell(found: "Why", now: datetime) -> None:
    status = found.status
    print(f"{status.name}: {status.state.value}")
    if found.stall is not None:
        print(output.field("step", found.stall.step))
        if found.stall.progress is not None and usual_of(found.stall.progress):
            print(output.field("", usual_of(found.stall.progress)))
        print(output.field("since", f"{found.stall.since:%Y-%m-%d %H:%M} UTC, {_ago(now - found.stall.since)}"))
        if found.stall.progress is not None and found.stall.progress.expected is not None:
            expected = found.stall.progress.expected
            late = f", {_ago(now - expected)}" if expected < now else ""
            print(output.field("expected", f"{expected:%Y-%m-%d}{late}"))
        print(output.field("waiting for", found.stall.who))
    if found.setback is not None:
        _tell_setback(found.setback, again=found.setback.times > 1)
    if status.wanted and found.setback is None:
        print(output.field("reason", status.wanted))
    _tell_records(found)
    by_hand = [each for each in found.proofs if each.seen is None and each.method != "email"]
    if by_hand:
        from inkstamp.cli.prove import tell_by_hand

        tell_by_hand(by_hand)
    _tell_next(found)


def _tell_records(found: "Why") -> None:
    """Say what the ledger knows: the open order, its proofs, the edition, notes."""
    status, order = found.status, found.order
    if order is not None:
        page = f", {found.page}" if found.page else ""
        print(output.field("order", f"{order.id} at {order.authority}{page}, opened {order.opened:%Y-%m-%d}"))
    for each in found.proofs:
        print(output.field("validation", f"{each.name}: {each.method.value} {each.place}, {_seen(each)}"))
    for line in status.records:
        print(output.field("validation", line))
    if status.edition is not None and status.not_after is not None:
        days = f", {counted(status.days_left or 0, 'day')} left"
        print(output.field("edition", f"{status.edition}, valid until {status.not_after:%Y-%m-%d}{days}"))
    if found.trouble is not None:
        print(output.field("error", f"{found.trouble.at:%Y-%m-%d %H:%M} {found.trouble.text}"))
    for note in found.notes:
        print(output.field("note", f"{note.at:%Y-%m-%d} {note.text}"))


def _tell_next(found: "Why") -> None:
    status = found.status
    if found.instead:
        header = header_of("certificate", status.name)
        print(output.field("instead", f"another validation method may work; under {header}:"))
        for line in found.instead:
            print(output.field("", line))
    print(output.field("next", status.next_command or "nothing to do"))
    if found.order is not None and status.next_command.startswith("inkstamp prove"):
        print(output.field("", f"inkstamp order {status.name}   (shows the CSR again)"))


def _tell_setback(setback: "RecordedFailure", *, again: bool) -> None:
    told = setback.told
    if told.traceback and told.step:
        print(output.field("failed", told.what))
    if again:
        print(output.field("last", f"{setback.last:%Y-%m-%d %H:%M} UTC, {setback.times} times in all"))
    output.findings(each for each in told.findings if each.severity != "ok")
    for name, text in (
        ("at", told.where),
        ("said" if not told.problem else "CA's message", told.said),
        ("fix", told.advice),
    ):
        if text:
            print(output.field(name, text))


def _seen(proof: "PortalProof") -> str:
    if proof.method == "email":
        if proof.approved:
            return f"approved {proof.approved:%Y-%m-%d %H:%M} UTC"
        return f"sent {proof.seen:%Y-%m-%d %H:%M} UTC" if proof.seen else "not sent yet"
    if proof.seen:
        return f"found {proof.seen:%Y-%m-%d %H:%M} UTC"
    return f"not found when tested {proof.looked:%Y-%m-%d %H:%M} UTC" if proof.looked else "not tested yet"


def _ago(span: timedelta) -> str:
    """Say a span in the largest unit that fits."""
    minutes = int(span.total_seconds() // 60)
    for size, word in ((1440, "day"), (60, "hour"), (1, "minute")):
        if minutes >= size:
            return f"{counted(minutes // size, word)} ago"
    return "just now"
