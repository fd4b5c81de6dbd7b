"""Open an order for a certificate, or resume the open one.

For a CA with a web portal: makes the key and the CSR, prints what to paste
there, and exits with 3, since a person has to act. For an ACME CA: opens the
order there. NAME is a domain name or a configured certificate; for new names an
entry is added to the configuration, as `stamp` does.

    inkstamp order shop.saltmarsh.test --authority fogbell
"""

import argparse
from functools import partial
from typing import TYPE_CHECKING

from inkstamp.cli import output
from inkstamp.cli.context import Context
from inkstamp.cli.setting import open_runtime
from inkstamp.cli.stamp import as_request, entry_options, tell_plan
from inkstamp.severity import Severity

if TYPE_CHECKING:
    from inkstamp.jobs.orders.acme_order import Reached
    from inkstamp.jobs.portal.order import PortalOrder

WAITING = 3


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp order`."""
    entry_options(parser)
    which = parser.add_mutually_exclusive_group()
    which.add_argument(
        "--reissue", action="store_true", help="reissue: order a new edition although the present one is valid"
    )
    which.add_argument("--cancel", action="store_true", help="cancel the open order and delete its key")


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp order`; returns the exit status."""
    from inkstamp.errors import UsageError
    from inkstamp.jobs.lifecycle.order_steps import order
    from inkstamp.jobs.lifecycle.stamp_plans import make_plans
    from inkstamp.jobs.orders.cancellation import give_up
    from inkstamp.jobs.portal.order import PortalOrder

    with open_runtime(context) as runtime:
        if not options.names and not options.csr:
            raise UsageError("no certificate was named", advice="give NAME, or a CSR with --csr FILE")
        plans = make_plans(runtime, as_request(options))
        if len(plans) > 1:
            raise UsageError("several certificates were named", advice="order one at a time")
        (plan,) = plans
        if options.cancel:
            with runtime.locks.certificate(plan.name):
                cancelled = give_up(runtime, plan.name)
            if context.json:
                output.as_json("order", given_up=cancelled.order)
            else:
                more = "; cancel it at the portal too" if cancelled.at_portal else ""
                print(f"{plan.name}: order {cancelled.order.id} is cancelled{more}")
            return 0
        said = partial(tell_plan, certificates=runtime.certificates, config_file=str(runtime.configuration.path))
        reached = order(runtime, plan, anew=options.reissue, said=said)
    if context.json:
        output.as_json("order", order=reached)
    elif isinstance(reached, PortalOrder):
        _tell_portal(reached)
    else:
        tell_reached(plan.name, reached)
    return WAITING


def _tell_portal(shown: "PortalOrder") -> None:
    record = shown.order
    verb = "is opened" if shown.opened else "is resumed"
    print(f"{shown.certificate}: order {record.id} for the portal of {record.authority} {verb}")
    print(output.field("names", ", ".join(record.names)))
    if shown.page:
        print(output.field("portal", shown.page))
    subject = [f"{value}" for name, value in shown.facts.subject if name != "common_name"]
    if subject:
        print(output.field("subject", ", ".join(subject)))
    print(output.field("key", f"{shown.facts.key}; it stays on {'its' if shown.key_elsewhere else 'this'} machine"))
    print(output.field("CSR", shown.request_file))
    print(output.field("sha256", shown.facts.sha256))
    if shown.valid_until is not None:
        print(output.field("validity", f"issued today, until {shown.valid_until:%Y-%m-%d} at most (public CAs)"))
    print(output.field("validation", f"done today, can be reused until {shown.validation_until:%Y-%m-%d}"))
    output.findings(each for each in shown.facts.findings if each.severity is not Severity.OK)
    print(f"\n{shown.request}")
    tell_stall(shown.stall)


def tell_stall(stall: object) -> None:
    """Print what is waited for, and what to type then."""
    from inkstamp.jobs.status.stall import Stall

    if isinstance(stall, Stall):
        print(output.field("waiting for", f"{stall.who}: {stall.step}"))
        print(output.field("then", stall.next_command))


def tell_reached(name: str, reached: "Reached") -> None:
    """Print how far an order at an ACME CA is."""
    record = reached.order
    print(f"{name}: order {record.id} at {record.authority} is {reached.status}")
    print(output.field("order", record.url))
    if reached.to_prove:
        print(output.field("to validate", ", ".join(reached.to_prove)))
        print(output.field("next", f"inkstamp prove {name}"))
    else:
        print(output.field("next", f"inkstamp collect {name}"))
