"""List servers, their sites, the certificate and key of each, and problems.

Reads the configured servers and those in their usual places on this machine.
Prints one line a site, the most urgent first, and all about a site with NAME,
with --full, or where there are few. With NAME: shows which server answers TLS
for it at each address. Changes nothing.

    inkstamp survey
    inkstamp survey rowing.saltmarsh.test
"""

import argparse
import shlex
from pathlib import Path
from typing import TYPE_CHECKING

from inkstamp.cli import output
from inkstamp.cli.context import Context
from inkstamp.cli.setting import open_runtime
from inkstamp.severity import Severity
from inkstamp.wording import counted

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from inkstamp.jobs.inventory.survey import WholeSite
    from inkstamp.jobs.inventory.windows_exchange import WrittenExchange

_IN_FULL = 5
"""Sites that are shown in full when none is named; more are shown in one line each."""
_MOST_TOLD = 10
"""Sites whose bad findings are told below the lines."""


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument("name", nargs="*", metavar="NAME", help="show which server answers TLS for this name")
    parser.add_argument("--full", action="store_true", help="show all about each site, not one line")
    parser.add_argument("--exchange", metavar="FILE", help="write down what Windows servers are asked and answer")
    parser.add_argument("--live", action="store_true", help="also connect to each site and compare with its files")


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp survey`; returns the exit status."""
    from inkstamp.jobs.inventory.survey import survey

    with open_runtime(context) as runtime:
        if options.exchange:
            from inkstamp.jobs.inventory.windows_exchange import write_exchange

            exchanged = write_exchange(runtime, Path(options.exchange))
            return _tell_exchange(exchanged, options.exchange, as_json=context.json)
        found = survey(runtime, options.name, live=options.live)
    status = 0 if found.sound else 1
    if context.json:
        output.as_json("survey", servers=found.servers, sites=found.sites, names=found.names, missing=found.missing)
        return status
    for each in found.names:
        print(f"{each.name}: who answers with TLS")
        output.findings(each.findings, below=each.name)
        print()
    whole = found.whole_sites
    if options.full or options.name or len(whole) <= _IN_FULL:
        for number, site in enumerate(whole):
            if number:
                print()
            _site(site, found.accounts)
    else:
        _table(whole)
    print()
    for server in found.servers:
        output.findings(server.findings)
        if server.files:
            more = f" and {len(server.files) - 1} more" if len(server.files) > 1 else ""
            print(output.wrapped(f"{server.name}: {server.files[0]}{more}", "", "  "))
    output.findings(found.missing)
    without = sum(1 for each in whole if any(finding.topic == "tls" for finding in each.findings))
    if found.answering:
        print(f"http-01 challenges are answered without files by {', '.join(found.answering)}")
    print(f"{counted(len(whole), 'site')}, {without} without TLS")
    return status


def _tell_exchange(exchanged: "WrittenExchange", file: str, *, as_json: bool) -> int:
    status = 1 if exchanged.findings else 0
    if as_json:
        output.as_json("exchange", servers=exchanged.servers, file=file, findings=exchanged.findings)
        return status
    print(output.field("answered", ", ".join(exchanged.servers) or "none"))
    print(output.field("written", f"{file}: names, paths and certificates, no keys; read it before you send it"))
    output.findings(exchanged.findings)
    return status


def _table(sites: "Sequence[WholeSite]") -> None:
    """Print one line a site."""
    rows = []
    for each in sites:
        site, certificate = each.report.site, each.report.certificate
        rows.append(
            (
                site.server,
                output.first_of(site.names) or "(no name)",
                ",".join(map(str, each.ports)),
                "-" if each.report.days_left is None else str(each.report.days_left),
                each.gist,
                certificate.issuer if certificate is not None else "-",
            )
        )
    output.table(("server", "site", "ports", "days left", "worst", "issuer"), rows)
    broken = [each for each in sites if each.worst is Severity.BAD]
    for each in broken[:_MOST_TOLD]:
        output.findings(finding for finding in each.findings if finding.severity is Severity.BAD)
    if len(broken) > _MOST_TOLD:
        print(output.field("more", f"{counted(len(broken) - _MOST_TOLD, 'site')} with bad findings"))
    # A name is somebody else's text, and this line is to be typed.
    wrong = next((shlex.quote(name) for each in sites if each.findings for name in each.names), "NAME")
    print(output.field("next", f"`inkstamp survey {wrong}` shows all about a site; --full all about each"))


def _site(whole: "WholeSite", accounts: "Mapping[str, str]") -> None:
    report, site = whole.report, whole.report.site
    print(output.clean(" ".join(site.names)) or "(no name)")
    print(output.field("server", f"{site.server}, {site.file}:{site.line}"))
    print(output.field("listens", ", ".join(map(str, site.listens))))
    for half in whole.plain:
        where = f"{', '.join(map(str, half.site.listens))}, {half.site.file}:{half.site.line}"
        print(output.field("plain HTTP", where))
    if site.root:
        print(output.field("root", site.root))
    answers_for = next((each.site.answers_for for each in (report, *whole.plain) if each.site.answers_for), "")
    if answers_for:
        whose = f"the account at {accounts[answers_for]}" if answers_for in accounts else f"another key, {answers_for}"
        print(output.field("challenges", f"answered by the server itself (http-01), for {whose}"))
    if report.certificate is not None:
        until = f"{report.certificate.not_after:%Y-%m-%d}"
        print(
            output.field(
                "issued", f"by “{report.certificate.issuer}”, {counted(report.days_left or 0, 'day')} left ({until})"
            )
        )
        more = "no intermediate" if not report.issuers else counted(report.issuers, "intermediate")
        print(output.field("file", f"{site.certificate_file}, {report.certificate.key}, {more}"))
        if report.key_rights:
            fits = {True: ", matches", False: ", does not match", None: ""}[report.key_matches]
            print(output.field("key", f"{site.key_file}, {report.key_rights}{fits}"))
    for each in site.settings:
        print(output.field("setting", each))
    output.findings(whole.findings, below=site.names[0] if site.names else "")
