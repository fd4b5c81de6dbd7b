"""List servers, their sites, the certificate and key of each, and problems.

Reads the configured servers and those in their usual places on this machine.
With NAME: shows which server answers TLS for it at each address. Changes
nothing.

    inkstamp survey
    inkstamp survey rowing.saltmarsh.test
"""

import argparse
from typing import TYPE_CHECKING

from inkstamp.cli import output
from inkstamp.cli.context import Context
from inkstamp.cli.setting import open_runtime
from inkstamp.wording import counted

if TYPE_CHECKING:
    from inkstamp.jobs.inventory.site_report import SiteReport


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument("name", nargs="*", metavar="NAME", help="show which server answers TLS for this name")
    parser.add_argument("--live", action="store_true", help="also connect to each site and compare with its files")


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp survey`; returns the exit status."""
    from inkstamp.jobs.inventory.survey import survey

    with open_runtime(context) as runtime:
        found = survey(runtime, options.name, live=options.live)
    status = 0 if found.sound else 1
    if context.json:
        output.as_json("survey", servers=found.servers, sites=found.sites, names=found.names)
        return status
    for each in found.names:
        print(f"{each.name}: who answers with TLS")
        output.findings(each.findings, below=each.name)
        print()
    for number, report in enumerate(found.sites):
        if number:
            print()
        _site(report)
    print()
    for server in found.servers:
        output.findings(server.findings)
        if server.files:
            more = f" and {len(server.files) - 1} more" if len(server.files) > 1 else ""
            print(output.wrapped(f"{server.name}: {server.files[0]}{more}", "", "  "))
    without = sum(1 for each in found.sites if not each.site.tls)
    print(f"{len(found.sites)} {'site' if len(found.sites) == 1 else 'sites'}, {without} without TLS")
    return status


def _site(report: "SiteReport") -> None:
    site = report.site
    print(output.clean(" ".join(site.names)) or "(no name)")
    print(output.field("server", f"{site.server}, {site.file}:{site.line}"))
    print(output.field("listens", ", ".join(map(str, site.listens))))
    if site.root:
        print(output.field("root", site.root))
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
    output.findings(report.findings, below=site.names[0] if site.names else "")
