"""Rehearse a renewal at the CA's staging directory; installs nothing.

Tests, orders, validates, downloads and verifies a certificate, and prepares its
install. No file that a server reads is changed, and nothing is left behind. The
authority needs `staging = …`, the URL of the CA's directory for tests.

    inkstamp rehearse rowing.saltmarsh.test
"""

import argparse
from typing import TYPE_CHECKING

from inkstamp.cli import output
from inkstamp.cli.context import Context
from inkstamp.cli.log import tell_error
from inkstamp.cli.setting import open_runtime

if TYPE_CHECKING:
    from inkstamp.jobs.renewal.rehearsal import Rehearsed


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments."""
    parser.add_argument("certificates", nargs="*", metavar="CERTIFICATE", help="configured certificates (default: all)")


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp rehearse`; returns the exit status."""
    from inkstamp.jobs.renewal.rehearsal import rehearse

    with open_runtime(context) as runtime:
        results = rehearse(runtime, options.certificates, lambda done: None if context.json else _tell(context, done))
    failed = [each.certificate for each in results if each.tried and not each.would_renew]
    if context.json:
        output.as_json("rehearse", certificates=[_as_data(each) for each in results])
    elif not results:
        print("no certificate is configured yet\n  next   inkstamp stamp NAME…")
    else:
        print(f"{sum(each.would_renew for each in results)} of {len(results)} would renew")
        if failed:
            print(output.field("next", f"fix the errors above, then: inkstamp rehearse {' '.join(failed)}"))
    return 1 if failed else 0


def _tell(context: Context, done: "Rehearsed") -> None:
    step = f" while {done.error.step}" if done.error is not None and done.error.step else ""
    verdict = "would renew" if done.would_renew else f"would fail{step}" if done.tried else "not rehearsed"
    print(f"{done.certificate}: {verdict}")
    output.findings(done.findings, below=done.certificate)
    if done.error is not None:
        tell_error(context, done.error, done.certificate)


def _as_data(done: "Rehearsed") -> dict[str, object]:
    return {
        "certificate": done.certificate,
        "would_renew": done.would_renew,
        "tried": done.tried,
        "findings": done.findings,
        "error": output.error_data(done.error) if done.error else None,
    }
