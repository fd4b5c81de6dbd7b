"""List the servers and sites found here: names, listens, document root,
certificate, what is wrong.

Reads the configured servers; without any, the nginx in its usual place.
Changes nothing.
"""

import argparse

from inkstamp.cli import output
from inkstamp.cli.main import Context
from inkstamp.cli.setting import workplace
from inkstamp.findings import Severity, worst


def configure(_parser: argparse.ArgumentParser) -> None:
    """There are no options of its own."""


def run(context: Context, _options: argparse.Namespace) -> int:
    """Run it."""
    from inkstamp.jobs.survey import survey

    with workplace(context) as place:
        reports = survey(place)
    status = 1 if any(worst(each.findings) is Severity.BAD for each in reports) else 0
    if context.json:
        output.as_json("survey", sites=reports)
        return status
    for number, report in enumerate(reports):
        site = report.site
        if number:
            print()
        print(output.clean(" ".join(site.names)) or "(no name)")
        print(output.field("server", f"{site.server}, {site.file}:{site.line}"))
        print(output.field("listens", ", ".join(map(str, site.listens))))
        print(output.field("root", site.root or "none"))
        if report.certificate is not None:
            until = f"{report.certificate.not_after:%Y-%m-%d}"
            print(output.field("issued", f"by “{report.certificate.issuer}”, {report.days_left} days left ({until})"))
            print(output.field("file", site.certificate_file))
        output.findings(report.findings, below=site.names[0] if site.names else "")
    without = sum(1 for each in reports if not each.site.tls)
    print(f"\n{len(reports)} {'site' if len(reports) == 1 else 'sites'}, {without} without TLS")
    return status
