"""Take over certificates that servers have already, whoever got them.

What a site has now becomes the first edition of a certificate that is renewed
from now on: its key is read where it lies, its chain sorted and verified. NAME
is a domain name of the site; --sites takes all sites whose certificate is good
and not renewed yet. Nothing on the servers changes until the next edition,
unless --install is given. Other programs that seem to renew the same files are
named: two that do so undo each other's work.

    inkstamp adopt bakery.saltmarsh.test --preview
    inkstamp adopt --sites --group web --preview
"""

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from inkstamp.cli import output
from inkstamp.cli.context import Context
from inkstamp.cli.log import tell_error
from inkstamp.cli.setting import open_runtime
from inkstamp.errors import UsageError

if TYPE_CHECKING:
    from inkstamp.jobs.enrolment.adoption import Adopted, CertificateInUse
    from inkstamp.runtime import Runtime


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp adopt`."""
    parser.add_argument("names", nargs="*", metavar="NAME", help="domain name of a site that has a certificate")
    parser.add_argument("--sites", action="store_true", help="all sites whose certificate is not renewed yet")
    parser.add_argument("--certificate", metavar="FILE", help="a certificate with its chain, as PEM, on no server")
    parser.add_argument("--key", metavar="FILE", help="--certificate: its key, without a passphrase")
    parser.add_argument("--as", dest="entry_name", default="", metavar="ENTRY",
                        help="name of the new entry (default: the first domain name)")  # fmt: skip
    parser.add_argument("--group", default="", metavar="GROUP", help="enrol them in this group (default: write entries "
                        "into the configuration file)")  # fmt: skip
    parser.add_argument("--customer", default="", metavar="TEXT", help="--group: whose they are")
    parser.add_argument("--authority", default="", help="authority that renews them (default: the only one)")
    parser.add_argument("--via", action="append", metavar="WHERE", help="where challenge responses are placed, as of "
                        "`inkstamp stamp`")  # fmt: skip
    parser.add_argument("--key-elsewhere", action="store_true", help="watch it only: its key stays on another machine, "
                        "and its renewal asks for a CSR from there")  # fmt: skip
    parser.add_argument("--install", action="store_true", help="have the servers use the data directory's copy at once")
    parser.add_argument("--preview", action="store_true", help="show what would be adopted, change nothing")


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp adopt`; returns the exit status."""
    from inkstamp.jobs.enrolment.adoption import AdoptionRequest, adopt

    _expect_one_source(options)
    with open_runtime(context) as runtime:
        found = _found(runtime, options)
        if options.entry_name and len(found) != 1:
            raise UsageError("--as goes with one certificate", advice="leave it out")
        request = AdoptionRequest(
            group=options.group,
            customer=options.customer,
            authority=options.authority,
            via=tuple(options.via or ()),
            entry_name=options.entry_name,
            installs=options.install,
            key_elsewhere=options.key_elsewhere,
        )
        done = adopt(runtime, found, request, preview=options.preview)
    if context.json:
        output.as_json("adopt", preview=options.preview, certificates=[_as_data(each) for each in done])
    else:
        _tell(context, done, preview=options.preview)
    return 1 if any(each.error is not None for each in done) else 0


def _expect_one_source(options: argparse.Namespace) -> None:
    if sum((bool(options.names), options.sites, bool(options.certificate))) != 1:
        raise UsageError("names are given, or --sites, or --certificate", advice="one of the three: inkstamp adopt -h")
    if options.key_elsewhere and (options.key or options.install):
        other = "--key" if options.key else "--install"
        raise UsageError(f"{other} needs the key, and --key-elsewhere says it has none", advice="leave one of them out")
    if bool(options.certificate) != bool(options.key or (options.certificate and options.key_elsewhere)):
        raise UsageError("--certificate and --key go together", advice="add the other one, or --key-elsewhere")
    if options.group and (options.authority or options.via):
        raise UsageError("--authority and --via are said by the group", advice="leave them out, or --group")
    if options.customer and not options.group:
        raise UsageError("--customer goes with --group", advice="add --group, or leave it out")


def _found(runtime: "Runtime", options: argparse.Namespace) -> "list[CertificateInUse]":
    from inkstamp.jobs.enrolment.adoption import of_files, of_sites

    if options.certificate:
        return [of_files(Path(options.certificate), Path(options.key) if options.key else None)]
    from inkstamp.pki.names import identifiers

    return of_sites(runtime, identifiers(options.names))


def _as_data(each: "Adopted") -> dict[str, object]:
    from msgspec.structs import asdict

    return {**asdict(each), "error": output.error_data(each.error) if each.error is not None else None}


def _tell(context: Context, done: "list[Adopted]", *, preview: bool) -> None:
    if not done:
        print("no site has a certificate that is not renewed yet")
        return
    rows = [
        (
            each.certificate or output.first_of(each.names) or "-",
            "refused" if each.error is not None else "would be adopted" if preview else "adopted",
            f"{each.not_after:%Y-%m-%d}",
            ", ".join(each.servers) or "-",
            output.first_of(each.names) or "-",
        )
        for each in done
    ]
    output.table(("certificate", "state", "valid until", "servers", "names"), rows)
    for each in done:
        output.findings(each.findings, below=each.certificate)
        if each.error is not None:
            tell_error(context, each.error, output.first_of(each.names) or "certificate")
    good = [each for each in done if each.error is None]
    if good and preview:
        print(output.field("next", "the same without --preview"))
    elif good:
        due = any(each.state != "ok" for each in good)
        print(output.field("next", "inkstamp renew" if due else "nothing, if a timer runs `inkstamp renew` daily"))
