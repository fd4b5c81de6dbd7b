"""Test live names from outside: chain, hostname, expiry, TLS, DNS, redirects.

    inkstamp check rowing.saltmarsh.test      the names of a certificate
    inkstamp check www.rowing.saltmarsh.test  a name; also NAME:PORT
    inkstamp check --sites --since            all sites; what changed

Mail servers are tested by STARTTLS: smtp://NAME, imap://NAME, pop3://NAME.
Without NAME, all configured certificates are tested. One name gets a full
report, several a table, the most urgent first. Exit status 1: something is
broken (with --strict, or has warnings).
"""

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from inkstamp.cli import output
from inkstamp.cli.context import Context
from inkstamp.cli.setting import at_once, open_runtime, roster_options, selection_of
from inkstamp.errors import UsageError
from inkstamp.severity import Severity, worst_first

if TYPE_CHECKING:
    from collections.abc import Sequence

    from inkstamp.jobs.checks.check import NameReport
    from inkstamp.jobs.checks.comparison import Changed

_MOST_TARGETS = 100_000
_ONE_BY_ONE = 3
"""So many names are told in full."""


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp check`."""
    parser.add_argument("names", nargs="*", metavar="NAME", help="see above")
    parser.add_argument(
        "--from", dest="source", metavar="FILE", help="file with names to check, one a line; - for standard input"
    )
    parser.add_argument("--sites", action="store_true", help="check all sites that `survey` finds")
    roster_options(parser)
    parser.add_argument("--since", action="store_true", help="show only what changed since the last check")
    parser.add_argument("--roots", metavar="FILE", help="PEM file of the roots to trust, or “certifi” for Mozilla's "
                        "list (default: the system's)")  # fmt: skip
    parser.add_argument("--at", default="", metavar="ADDRESS", help="test what this IP address serves for the names, "
                        "whatever DNS says: an origin behind a CDN; with :PORT for another port")  # fmt: skip
    parser.add_argument("--fetch-issuers", action="store_true", help="fetch missing intermediates from where the "
                        "certificate says, to tell which they are")  # fmt: skip
    parser.add_argument("--quick", action="store_true", help="one handshake per address: chain, dates and trust only")
    parser.add_argument("--strict", action="store_true", help="exit with 1 for warnings too")
    parser.add_argument("--in-full", action="store_true", help="print full reports also for many names")
    parser.add_argument("--csv", metavar="FILE", help="write the results to FILE as CSV")
    parser.add_argument("--report", metavar="FILE", help="write the full report to FILE as one HTML page")
    parser.add_argument(
        "--at-once", type=at_once, default=16, metavar="N", help="names checked at the same time (default: %(default)s)"
    )


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp check`; returns the exit status."""
    from inkstamp.jobs.checks.check import CheckOptions, Verdict, check, of_sites, together
    from inkstamp.jobs.checks.comparison import remember
    from inkstamp.view.point import roots_file

    manner = CheckOptions(
        roots=roots_file(options.roots) if options.roots else None,
        at_once=options.at_once, quick=options.quick, fetch=options.fetch_issuers,
        at=options.at,
    )  # fmt: skip
    if options.at and options.since:
        raise UsageError("--since compares what the names' own addresses serve", advice="leave --at or --since out")
    targets = [*options.names, *(_targets(options.source) if options.source else ())]
    with open_runtime(context, only_looks=True) as runtime:
        targets += of_sites(runtime) if options.sites else ()
        targets += runtime.certificates.names(selection_of(options)) if selection_of(options) else ()
        reports = check(runtime, targets, manner)
        # What one address serves is no news of what the name's own addresses do.
        changed = [] if options.at else remember(runtime, reports, quick=options.quick, begin=options.since)
    _write(reports, options)
    wrong = {Verdict.BROKEN, Verdict.WARNINGS} if options.strict else {Verdict.BROKEN}
    status = 1 if any(each.verdict in wrong for each in reports) else 0
    if context.json:
        output.as_json("check", names=[_as_data(each) for each in reports], changed=changed if options.since else None)
    elif options.since:
        _tell_changes(changed)
    elif not reports:
        print("no certificate is configured yet; name a host to check\n  next   inkstamp check NAME")
    elif len(reports) <= _ONE_BY_ONE or options.in_full:
        for number, (names, report) in enumerate(together(reports)):
            if number:
                print()
            _tell(report, names)
    else:
        _list(reports)
    return status


def _write(reports: "list[NameReport]", options: argparse.Namespace) -> None:
    if options.csv:
        _write_csv(reports, Path(options.csv))
    if options.report:
        from inkstamp.cli.report import write_report

        write_report(reports, Path(options.report).absolute())


def _tell_changes(changed: "Sequence[Changed]") -> None:
    """Print what is otherwise; names where nothing is are counted."""
    fresh = [each for each in changed if each.since is None]
    told = [each for each in changed if each.changes]
    for each in told:
        print(f"{each.name}, since {each.since:%Y-%m-%d %H:%M} UTC:")
        for text in each.changes:
            print(output.wrapped(text, "  ", "    "))
    if fresh:
        print(f"checked for the first time: {len(fresh)} of {len(changed)}")
    print(f"{len(changed)} checked, {len(told)} changed since the last check")
    if told:
        print(output.field("next", f"inkstamp check {told[0].name}"))


def _targets(source: str) -> list[str]:
    """Read names, one a line; what follows # is for people."""
    from inkstamp.files import read_bytes

    text = sys.stdin.read() if source == "-" else read_bytes(Path(source)).decode("utf-8", "replace")
    found = [word for line in text.splitlines() if (word := line.partition("#")[0].strip())]
    if not found:
        raise UsageError("there is no name in it", where=source, advice="write one name a line")
    if len(found) > _MOST_TARGETS:
        raise UsageError(
            f"{len(found)} names are more than {_MOST_TARGETS}", where=source, advice="check them in parts"
        )
    return found


def _tell(report: "NameReport", names: "Sequence[str]") -> None:
    print(output.wrapped(f"{', '.join(names)}: {report.verdict.value}", "", "  "))
    for depth, each in enumerate(report.chain):
        told = output.clean(each.subject or ", ".join(each.names))
        print(f"  {output.branch(depth)}{told}  ({each.key}, until {each.not_after:%Y-%m-%d})")
    if report.root:
        print(f"  {output.branch(len(report.chain))}{output.clean(report.root)}  (trusted root)")
    output.findings((each for each in worst_first(report.findings) if each.severity is not Severity.OK),
                    below=report.name)  # fmt: skip
    output.all_good((each for each in report.findings if each.severity is Severity.OK), below=report.name)


def _list(reports: "list[NameReport]") -> None:
    rows = [
        (
            each.name,
            each.verdict.value,
            "-" if each.days_left is None else str(each.days_left),
            each.worst.seen if each.worst is not None else "",
        )
        for each in reports
    ]
    output.table(("name", "verdict", "days", "worst problem"), rows)
    counts = {each.verdict.value: 0 for each in reports}
    for each in reports:
        counts[each.verdict.value] += 1
    print(f"{len(reports)} checked: {', '.join(f'{count} {word}' for word, count in counts.items())}")
    if any(each.worst is not None for each in reports):
        print(output.field("next", f"inkstamp check {reports[0].name}"))


def _write_csv(reports: "list[NameReport]", file: Path) -> None:
    import csv
    import io

    from inkstamp.files import write_bytes

    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\r\n")  # RFC 4180
    writer.writerow(("name", "verdict", "days_left", "issuer", "severity", "topic", "subject", "seen", "remedy"))
    for report in reports:
        issuer = report.chain[0].issuer if report.chain else ""
        told = [each for each in worst_first(report.findings) if each.severity is not Severity.OK]
        for each in told or (None,):
            columns = (each.severity.value, each.topic, each.subject, each.seen, each.remedy) if each else ("",) * 5
            cells = (report.name, report.verdict.value, report.days_left, issuer, *columns)
            writer.writerow([_harmless(str("" if cell is None else cell)) for cell in cells])
    write_bytes(file, out.getvalue().encode())


def _harmless(cell: str) -> str:
    """Keep a spreadsheet from taking what a stranger's certificate says for a formula."""
    return (
        f"'{cell}" if cell[:1] in {"=", "+", "@", "\t", "\r"} or (cell[:1] == "-" and not cell[1:].isdigit()) else cell
    )


def _as_data(report: "NameReport") -> dict[str, object]:
    return {
        "name": report.name,
        "verdict": report.verdict,
        "chain": report.chain,
        "root": report.root,
        "days_left": report.days_left,
        "findings": report.findings,
        "addresses": dict(report.addresses),
    }
