"""Enrol many certificates: from a list, or for all sites of the servers.

Their names go into the ledger; the rest is what their group says, a table
[group.NAME] of the configuration with all that a certificate's entry says but
its names. NAMEs given here are one certificate. --from reads a list: one
certificate a line (names apart by blanks), CSV with the columns names,
certificate and customer, or JSON lines. Names are first checked from outside as
a CA will; those that would fail are refused and hold up no other. The same list
again changes nothing. `inkstamp renew` orders what has no edition yet.

    inkstamp enrol --group web club.saltmarsh.test www.club.saltmarsh.test
    inkstamp enrol --group web --from customers.csv --preview
    inkstamp enrol --group web --sites --leave-out "*.internal.saltmarsh.test"
"""

import argparse
import sys
from collections import Counter
from pathlib import Path
from typing import TYPE_CHECKING

from inkstamp.cli import output
from inkstamp.cli.context import Context
from inkstamp.cli.setting import open_runtime
from inkstamp.errors import UsageError

if TYPE_CHECKING:
    from collections.abc import Sequence

    from inkstamp.jobs.enrolment.enrol import Enrolment
    from inkstamp.jobs.enrolment.lists import Line
    from inkstamp.runtime import Runtime

_MOST_LISTED = 50
_WORDS = {"new": ("enrolled", "would be enrolled"), "changed": ("changed", "would be changed"),
          "present": ("there already", "there already"), "refused": ("refused", "refused")}  # fmt: skip


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp enrol`."""
    parser.add_argument("names", nargs="*", metavar="NAME", help="domain names of one certificate")
    parser.add_argument("--group", required=True, metavar="GROUP", help="group of the configuration to enrol them in")
    parser.add_argument("--customer", default="", metavar="TEXT", help="whose they are, where a list does not say so")
    parser.add_argument("--as", dest="certificate", default="", metavar="CERTIFICATE",
                        help="name of the certificate (default: its first domain name)")  # fmt: skip
    parser.add_argument("--from", dest="list", metavar="FILE", help="read a list from a file; “-” for standard input")
    parser.add_argument("--sites", action="store_true", help="the sites of all servers, one certificate each")
    parser.add_argument("--include", action="append", metavar="PATTERN",
                        help="--sites: only sites with such a name (“*” for anything; repeat for several)")  # fmt: skip
    parser.add_argument("--leave-out", action="append", metavar="PATTERN", help="--sites: without such names")
    parser.add_argument("--together", type=_most, default=0, metavar="N",
                        help="put names below one registrable domain together, at most N in a certificate")  # fmt: skip
    parser.add_argument("--by-customer", action="store_true", help="--together: put names of one customer together")
    parser.add_argument("--offline", action="store_true", help="do not check the names from outside")
    parser.add_argument("--preview", action="store_true", help="show what would be enrolled, change nothing")


def _most(text: str) -> int:
    number = int(text)
    if not 1 <= number <= 1000:
        raise argparse.ArgumentTypeError("must be from 1 to 1000")
    return number


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp enrol`; returns the exit status."""
    from inkstamp.jobs.enrolment.enrol import EnrolmentRequest, EnrolmentState, Packing, enrol

    sources = [bool(options.names), bool(options.list), options.sites]
    if sum(sources) != 1:
        raise UsageError("names are given, or --from, or --sites", advice="one of the three: inkstamp enrol --help")
    if options.certificate and not options.names:
        raise UsageError("--as goes with names", advice="a list says it in its column “certificate”")
    if (options.include or options.leave_out) and not options.sites:
        raise UsageError("--include and --leave-out go with --sites", advice="add --sites, or leave them out")
    if options.by_customer and not options.together:
        raise UsageError("--by-customer goes with --together N", advice="add --together, or leave it out")
    with open_runtime(context) as runtime:
        request = EnrolmentRequest(
            group=options.group,
            lines=tuple(_lines(runtime, options)),
            customer=options.customer,
            packing=Packing(most=options.together, by_customer=options.by_customer),
            looks=not options.offline,
        )
        done = enrol(runtime, request, preview=options.preview)
    refused = [each for each in done if each.state is EnrolmentState.REFUSED]
    if context.json:
        output.as_json("enrol", preview=options.preview, certificates=done)
    else:
        _tell(done, options.group, preview=options.preview)
    return 1 if refused else 0


def _lines(runtime: "Runtime", options: argparse.Namespace) -> "Sequence[Line]":
    from inkstamp.files import read_bytes
    from inkstamp.jobs.enrolment.enrol import of_sites
    from inkstamp.jobs.enrolment.lists import MOST_BYTES, WantedCertificate, read_list

    if options.names:
        return [WantedCertificate(names=tuple(options.names), certificate=options.certificate)]
    if options.sites:
        return of_sites(runtime, options.include or (), options.leave_out or ())
    if options.list == "-":
        return read_list(sys.stdin.buffer.read(MOST_BYTES + 1))
    return read_list(read_bytes(Path(options.list), limit=MOST_BYTES))


def _tell(done: "Sequence[Enrolment]", group: str, *, preview: bool) -> None:
    """Print what became of each, or of those that need somebody where there are many, and what to type next."""
    if not done:
        print("nothing to enrol: the list is empty")
        return
    listed = done if len(done) <= _MOST_LISTED else [each for each in done if each.state in {"changed", "refused"}]
    wide = any(each.customer for each in listed)
    rows = []
    for each in listed:
        word = _WORDS[each.state][preview]
        row = [each.certificate or each.place or "-", word, output.first_of(each.names) or "-"]
        rows.append((*row, each.customer or "-") if wide else tuple(row))
    if rows:
        output.table(("certificate", "state", "names", *(("customer",) if wide else ())), rows)
    for each in listed:
        if each.why and each.state != "present":
            about = each.certificate or output.first_of(each.names)
            where = ": ".join(filter(None, (each.place, about)))
            print(
                output.field(
                    "refused" if each.state == "refused" else "changed", f"{where}: {each.why}" if where else each.why
                )
            )
            if each.advice:
                print(output.field("fix", each.advice))
    counts = Counter(each.state.value for each in done)
    print(", ".join(f"{counts[state]} {words[preview]}" for state, words in _WORDS.items() if counts[state]))
    if preview and (counts["new"] or counts["changed"]):
        print(output.field("next", "the same without --preview"))
    elif counts["new"] or counts["changed"]:
        print(output.field("next", f"inkstamp stamp --group {group}, or leave it to `inkstamp renew`"))
