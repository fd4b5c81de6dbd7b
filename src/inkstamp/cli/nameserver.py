"""Add, show, change or remove a nameserver that takes changes of records; try it.

Settings are typed as KEY=VALUE, as they stand in the configuration file, whose
comments and layout stay. What would not be valid is refused, and nothing is
written. Its kind is “update” (dynamic updates, RFC 2136), the default;
“powerdns” (the HTTP API of PowerDNS); or “http” (any other HTTP API, by a
recipe: docs/recipes.md).

`try` puts a harmless TXT record below a name, looks for it at every nameserver
of its zone, and removes it. Each request to an API is shown, without secrets.

    inkstamp nameserver add ns address=ns1.saltmarsh.test key_file=/etc/tsig.key
    inkstamp nameserver show
    inkstamp nameserver try ns saltmarsh.test
"""

import argparse
import sys
from typing import TYPE_CHECKING

from inkstamp.cli import entry_commands, output
from inkstamp.cli.context import Context, global_options
from inkstamp.cli.setting import open_runtime

if TYPE_CHECKING:
    from inkstamp.jobs.validation.nameserver_trial import NameserverTrial
    from inkstamp.proof.recipe_api import Exchange


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp nameserver`."""
    actions = entry_commands.configure(parser, "nameserver", "try")
    trial = actions.add_parser("try", help="put a harmless record, see it, remove it", allow_abbrev=False)
    trial.add_argument("name", metavar="NAME", help="a nameserver, or a program that changes records")
    trial.add_argument("zone", metavar="ZONE", help="a zone that it has, or a name in one")
    global_options(trial, default=argparse.SUPPRESS)


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp nameserver`; returns the exit status."""
    if options.action != "try":
        return entry_commands.run(context, options, "nameserver")
    from inkstamp.jobs.validation.nameserver_trial import try_nameserver

    exchanges: list[Exchange] = []

    def tell(exchange: "Exchange") -> None:
        exchanges.append(exchange)
        if not context.json:
            _tell_exchange(exchange)

    with open_runtime(context) as runtime:
        trial = try_nameserver(runtime, options.name, options.zone, tell)
    if context.json:
        output.as_json("nameserver try", passes=trial.passes, record=trial.record, findings=trial.findings,
                       requests=exchanges)  # fmt: skip
    else:
        _tell(trial, options.name)
    return 0 if trial.passes else 1


def _tell_exchange(exchange: "Exchange") -> None:
    """Print a request and its answer at once: what comes next may take long, or fail."""
    print(output.clean(f"{exchange.method} {exchange.url}"), file=sys.stderr)
    if exchange.sent:
        print(output.field("sent", output.clean(exchange.sent)), file=sys.stderr)
    print(output.field("answer", output.clean(f"{exchange.status} {exchange.answered}".rstrip())), file=sys.stderr)


def _tell(trial: "NameserverTrial", name: str) -> None:
    record = trial.record
    print(record.name)
    print(output.field("record", f"{record.kind} {record.value}, in the zone {record.zone}"))
    output.findings(trial.findings, below=record.name)
    if trial.passes:
        print(output.field("next", f"inkstamp stamp NAME --via {name} --proof dns-01"))
