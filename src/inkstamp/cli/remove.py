"""Stop managing certificates: end their renewal, and any open order.

Shows which servers use each, and asks what to do about them: restore the
configuration of before its first install, or leave the certificate there until
it expires. Its editions, with their keys, are moved to the archive in the data
directory, or destroyed. The history stays. An interrupted removal resumes when
it is repeated.

    inkstamp remove ferry.saltmarsh.test --preview
    inkstamp remove ferry.saltmarsh.test --servers undo --keys destroy --yes
"""

import argparse
import sys
from typing import TYPE_CHECKING, TextIO

from inkstamp.cli import output
from inkstamp.cli.context import Context
from inkstamp.cli.setting import open_runtime
from inkstamp.errors import InkStampError, UsageError

if TYPE_CHECKING:
    from inkstamp.jobs.enrolment.removal import RemovalPlan, RemovalRequest, Removed, ServersAfterwards
    from inkstamp.runtime import Runtime

_REASONS = ("unspecified", "key-compromise", "affiliation-changed", "superseded", "cessation-of-operation")


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp remove`."""
    parser.add_argument("certificates", nargs="+", metavar="CERTIFICATE", help="a configured certificate")
    parser.add_argument("--servers", choices=("undo", "leave"), help="restore the configuration that servers had "
                        "before, or leave them as they are (default: ask)")  # fmt: skip
    parser.add_argument("--keys", choices=("keep", "destroy"), default="keep",
                        help="archive its editions, or destroy them (default: %(default)s)")  # fmt: skip
    parser.add_argument("--revoke", choices=_REASONS, metavar="REASON",
                        help=f"revoke the newest edition as well: {', '.join(_REASONS)}")  # fmt: skip
    parser.add_argument("--preview", action="store_true", help="show what has it, change nothing")
    parser.add_argument("--yes", action="store_true", help="do not ask for confirmation")


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp remove`; returns the exit status."""
    from inkstamp.bulkhead import attempt
    from inkstamp.cli.log import tell_error
    from inkstamp.jobs.enrolment.removal import plan_removal

    done: list[Removed] = []
    failed: list[InkStampError] = []
    with open_runtime(context) as runtime:
        plans = [plan_removal(runtime, name) for name in dict.fromkeys(options.certificates)]
        if not context.json:
            for plan in plans:
                _show(plan, sys.stdout if options.preview else sys.stderr)
        if options.preview:
            if context.json:
                output.as_json("remove", plans=plans)
            return 0
        request = _request(plans, options)
        output.ask(_told(plans, request), "remove", yes=options.yes)
        for plan in plans:
            result = attempt(_remove, runtime, plan, request)
            if isinstance(result, InkStampError):
                failed.append(result)
                tell_error(context, result, plan.certificate)
                continue
            done.append(result)
            if not context.json:
                _tell(result)
    if context.json:
        output.as_json("remove", removed=done, errors=[output.error_data(each) for each in failed])
    return min((each.exit_status for each in failed), default=0)


def _remove(runtime: "Runtime", plan: "RemovalPlan", request: "RemovalRequest") -> "Removed":
    from inkstamp.jobs.enrolment.removal import remove

    return remove(runtime, plan, request)


def _request(plans: "list[RemovalPlan]", options: argparse.Namespace) -> "RemovalRequest":
    """Return what is to become of them; asks where that was not said.

    Raises:
        UsageError: It was not said, and nobody can be asked.

    """
    from inkstamp.jobs.enrolment.removal import KeysAfterwards, RemovalRequest, ServersAfterwards
    from inkstamp.jobs.lifecycle.revocation_reasons import RevocationReason

    servers = ServersAfterwards(options.servers) if options.servers else ServersAfterwards.LEAVE
    if not options.servers and any(each.servers for each in plans):
        servers = _asked(plans)
    return RemovalRequest(
        servers=servers,
        keys=KeysAfterwards(options.keys),
        reason=RevocationReason(options.revoke) if options.revoke else None,
    )


def _asked(plans: "list[RemovalPlan]") -> "ServersAfterwards":
    from inkstamp.jobs.enrolment.removal import ServersAfterwards

    having = ", ".join(dict.fromkeys(server for each in plans for server in each.servers))
    if not sys.stdin.isatty():
        raise UsageError(
            f"{having} would be left with a certificate that nobody renews",
            advice="add --servers undo to restore what was there before, or --servers leave to change nothing",
        )
    question = f"On {having}, undo (restore what was there before) or leave (change nothing): "
    print(question, end="", file=sys.stderr, flush=True)
    answer = sys.stdin.readline().strip()
    if answer not in set(ServersAfterwards):
        raise UsageError("nothing was done", advice="answer undo or leave")
    return ServersAfterwards(answer)


def _show(plan: "RemovalPlan", stream: TextIO) -> None:
    """Say what a certificate is and what has it."""
    print(f"certificate {plan.certificate}", file=stream)
    if plan.is_half_removed:
        print(output.field("removed", "its removal was interrupted; its editions are left"), file=stream)
    if plan.names:
        print(output.field("names", ", ".join(plan.names)), file=stream)
    if plan.edition is not None:
        until = f"{plan.edition.number}, valid until {plan.edition.not_after:%Y-%m-%d}"
        print(output.field("edition", until), file=stream)
    print(output.field("servers", ", ".join(plan.servers) or "none has it"), file=stream)
    if plan.order is not None:
        print(output.field("order", f"{plan.order.id} is open at {plan.order.authority}"), file=stream)


def _told(plans: "list[RemovalPlan]", request: "RemovalRequest") -> str:
    """Say what is about to be done."""
    told = ["Renewal ends"]
    having = list(dict.fromkeys(server for each in plans for server in each.servers))
    if having:
        undo = request.servers == "undo"
        told.append(f"{', '.join(having)} {'are restored to before it' if undo else 'stay as they are'}")
    told.append("keys are destroyed" if request.keys == "destroy" else "keys are archived")
    if request.reason is not None:
        told.append("the newest edition is revoked, permanently")
    return f"{'; '.join(told)}."


def _tell(done: "Removed") -> None:
    print(f"{done.certificate}: removed")
    output.findings(done.findings, below=done.certificate)
    if done.archive:
        print(output.field("archive", done.archive))
