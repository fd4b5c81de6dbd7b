"""Revoke a certificate at the CA that issued it.

    inkstamp revoke rowing.saltmarsh.test --reason key-compromise --and-replace
    inkstamp revoke rowing.saltmarsh.test --edition 1    an older edition
    inkstamp revoke --file old.pem --authority quayside --key-file old.key

Shows which servers have it and what replaces it, and asks for confirmation.
Without --and-replace the next `renew` replaces the newest edition. Revocation
is permanent. Reasons (RFC 5280):
"""

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from inkstamp.cli import output
from inkstamp.cli.context import Context
from inkstamp.cli.setting import open_runtime
from inkstamp.errors import UsageError
from inkstamp.jobs.lifecycle.revocation_reasons import MEANINGS, RevocationReason

if TYPE_CHECKING:
    from inkstamp.jobs.lifecycle.revoke import Doomed, RevocationResult
    from inkstamp.runtime import Runtime

__doc__ += "\n" + "\n".join(f"    {reason.value:<24}{told}" for reason, told in MEANINGS.items())


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp revoke`."""
    parser.add_argument("certificate", nargs="?", metavar="CERTIFICATE", help="a configured certificate")
    parser.add_argument("--edition", type=int, metavar="N", help="number of the edition (default: the newest)")
    parser.add_argument("--reason", choices=[each.value for each in RevocationReason], metavar="REASON",
                        default=RevocationReason.UNSPECIFIED.value,
                        help="see above (default: %(default)s)")  # fmt: skip
    parser.add_argument("--and-replace", action="store_true", help="first reissue and install a new edition")
    parser.add_argument(
        "--by-own-key", action="store_true", help="sign the request with the certificate's key, not the account's"
    )
    parser.add_argument("--yes", action="store_true", help="do not ask for confirmation")
    group = parser.add_argument_group("certificates that Ink Stamp does not manage")
    group.add_argument("--file", metavar="FILE", help="the certificate, as PEM")
    group.add_argument("--authority", metavar="NAME", help="the authority that issued it")
    group.add_argument(
        "--key-file",
        metavar="FILE",
        help="private key of the certificate (mode 0600), where our account may not revoke it",
    )


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp revoke`; returns the exit status."""
    from inkstamp.jobs.lifecycle.revoke import revoke

    _expect_one(options)
    with open_runtime(context) as runtime:
        doomed = _plan(runtime, options)
        if not context.json:
            _show(doomed, options)
        output.ask("Revocation is permanent.", "revoke", yes=options.yes)
        done = revoke(runtime, doomed, RevocationReason(options.reason), replace=options.and_replace)
    if context.json:
        output.as_json("revoke", revoked=_as_data(done))
    else:
        _tell(done)
    return 0


def _expect_one(options: argparse.Namespace) -> None:
    foreign = options.file or options.authority or options.key_file
    if bool(options.certificate) == bool(options.file):
        raise UsageError("name a certificate, or a file with one", advice="inkstamp revoke -h shows both")
    if options.certificate and foreign:
        raise UsageError("--authority and --key-file go with --file", advice="leave them out")
    if options.file and not options.authority:
        raise UsageError("it is not known who issued it", advice="add --authority NAME")
    if options.file and (options.edition or options.and_replace or options.by_own_key):
        raise UsageError("--edition, --and-replace and --by-own-key go with a configured certificate",
                         advice="leave them out; --key-file FILE asks with its own key")  # fmt: skip


def _plan(runtime: "Runtime", options: argparse.Namespace) -> "Doomed":
    from inkstamp.jobs.lifecycle.revoke import plan_foreign, plan_revocation

    if options.file:
        key_file = Path(options.key_file).absolute() if options.key_file else None
        return plan_foreign(runtime, Path(options.file).absolute(), options.authority, key_file)
    return plan_revocation(runtime, options.certificate, options.edition, by_own_key=options.by_own_key)


def _show(doomed: "Doomed", options: argparse.Namespace) -> None:
    known = doomed.facts
    what = f"{doomed.edition.certificate}, edition {doomed.edition.number}" if doomed.edition else known.subject
    print(f"{what}, is about to be revoked")
    print(output.field("names", ", ".join(known.names)))
    print(output.field("issuer", f"{known.issuer}, by {doomed.authority}"))
    print(output.field("serial", known.serial))
    print(output.field("valid", f"until {known.not_after:%Y-%m-%d}"))
    print(output.field("served by", ", ".join(doomed.served_by) or "no server, as far as recorded"))
    if options.and_replace and doomed.replacement is None:
        print(output.field("replaced by", "a new edition with a new key, issued and installed first"))
    elif doomed.replacement is not None:
        print(output.field("replaced by", f"edition {doomed.replacement.number}, which exists already"))
    elif doomed.edition is not None:
        print(output.field("replaced by", "nothing yet: visitors are warned until the next `inkstamp renew`"))
    print(output.field("signed by", "the certificate's key" if doomed.key is not None else "the account key"))
    print(output.field("reason", f"{options.reason}: {MEANINGS[RevocationReason(options.reason)]}"))


def _tell(done: "RevocationResult") -> None:
    doomed = done.doomed
    what = f"{doomed.edition.certificate}: edition {doomed.edition.number}" if doomed.edition else doomed.facts.subject
    print(f"{what} {'was revoked already' if done.already else 'is revoked'}, {done.reason.value}")
    if done.replaced_by is not None:
        where = ", ".join(done.replaced_by.servers) or "the shelf only"
        print(output.field("replaced by", f"edition {done.replaced_by.edition.number} on {where}"))
    elif doomed.edition is not None and doomed.replacement is None:
        print(output.field("next", f"inkstamp renew {doomed.edition.certificate}"))


def _as_data(done: "RevocationResult") -> dict[str, object]:
    return {
        "certificate": done.doomed.edition.certificate if done.doomed.edition else None,
        "edition": done.doomed.edition,
        "serial": done.doomed.facts.serial,
        "authority": done.doomed.authority,
        "reason": done.reason,
        "already": done.already,
        "served_by": done.doomed.served_by,
        "replaced_by": done.replaced_by,
    }
