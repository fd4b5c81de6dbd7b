"""Order a certificate for names, validate, install it, and renew it from then on.

NAME is a domain name or a configured certificate. For domain names that no
configured certificate covers, an entry is added to the configuration first. An
interrupted run resumes when the command is repeated. Without NAME, on a
terminal, the sites of all servers are listed, and several can be picked. Where
another machine has the key, --csr takes the CSR that was made there, and
`inkstamp export` writes the certificate for it.

    inkstamp stamp rowing.saltmarsh.test www.rowing.saltmarsh.test
    inkstamp stamp
"""

import argparse
import sys
from typing import TYPE_CHECKING

from inkstamp.cli import output, passphrase
from inkstamp.cli.context import Context
from inkstamp.cli.setting import open_runtime, quiet_option, roster_options
from inkstamp.config.words import ACME_METHODS
from inkstamp.errors import InkStampError, UsageError
from inkstamp.pki.kinds import KeyKind
from inkstamp.wording import header_of

if TYPE_CHECKING:
    from inkstamp.certificates import Certificates
    from inkstamp.jobs.lifecycle.proposal import Plan, StampRequest
    from inkstamp.jobs.lifecycle.provisioning import Outcome
    from inkstamp.jobs.validation.challenge_path import Passage
    from inkstamp.pki.keys import PrivateKey
    from inkstamp.runtime import Runtime


_OF_ONE = (
    "csr",
    "same-request",
    "key-file",
    "reissue",
    "let-through",
    "anyway",
    "authority",
    "via",
    "proof",
    "install",
    "own-site",
    "key",
)
"""Options that are about one certificate, or a new one."""


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp stamp`."""
    entry_options(parser, may_pick=True)
    parser.add_argument(
        "--reissue", action="store_true", help="reissue: order a new edition although the present one is valid"
    )
    parser.add_argument(
        "--let-through",
        action="store_true",
        help="first change the web server where its configuration blocks the challenge path (prove --let-through)",
    )
    parser.add_argument(
        "--anyway",
        action="store_true",
        help="ask the CA to validate although an address of a name does not answer",
    )
    parser.add_argument("--preview", action="store_true", help="check, show what would be done, do nothing")
    roster_options(parser)
    parser.add_argument("--all", action="store_true", help="all certificates that something is to be done for")
    quiet_option(parser)


def entry_options(parser: argparse.ArgumentParser, *, may_pick: bool = False) -> None:
    """Declare what names certificates, and what a new entry needs; `may_pick` where names can be asked for."""
    parser.add_argument(
        "names",
        nargs="*",
        metavar="NAME",
        help="a domain name, or a configured certificate" + ("" if may_pick else " (may be left out with --csr)"),
    )
    parser.add_argument(
        "--as",
        dest="entry_name",
        default="",
        metavar="ENTRY",
        help="name of the new configuration entry (default: from the first name)",
    )
    parser.add_argument("--authority", default="", help="authority to order from (default: the only one)")
    parser.add_argument(
        "--via",
        action="append",
        metavar="WHERE",
        help="where challenge responses are placed: a server, nameserver or program of the configuration, “listener”, "
        "or “by-hand” (repeat for several)",
    )
    parser.add_argument(
        "--proof",
        action="append",
        choices=ACME_METHODS,
        metavar="METHOD",
        help=f"{', '.join(ACME_METHODS)} (repeat for several, tried in this order; default: what --via allows)",
    )
    parser.add_argument(
        "--install",
        action="append",
        metavar="SERVER",
        help="server to install the certificate on (repeat for several; default: that of --via)",
    )
    parser.add_argument(
        "--own-site",
        action="store_true",
        help="make a separate virtual host where other names would lose their certificate (nginx, Apache)",
    )
    source = parser.add_mutually_exclusive_group()
    source.add_argument(
        "--csr",
        metavar="FILE",
        help="the key is on another machine: use the CSR that was made there (PEM or DER; - for standard input)",
    )
    source.add_argument(
        "--same-request", action="store_true", help="use the CSR of the last edition again, now and at each renewal"
    )
    source.add_argument(
        "--key-file", metavar="FILE", help="use this existing private key (PEM, mode 0600) for the next edition"
    )
    passphrase.options(parser, "that key")
    kinds = [kind.value for kind in KeyKind]
    parser.add_argument("--key", choices=kinds, metavar="KIND", help=f"key algorithm: {', '.join(kinds)}")


_MOST_PASTED = 1 << 20


def _read_csr(file: str) -> bytes:
    from pathlib import Path

    from inkstamp.files import read_bytes

    return sys.stdin.buffer.read(_MOST_PASTED) if file == "-" else read_bytes(Path(file), limit=_MOST_PASTED)


def as_request(options: argparse.Namespace) -> "StampRequest":
    """Return what `entry_options` were given."""
    from inkstamp.jobs.lifecycle.proposal import StampRequest

    return StampRequest(
        names=tuple(options.names),
        entry_name=options.entry_name,
        authority=options.authority,
        via=tuple(options.via or ()),
        proof=tuple(options.proof or ()),
        install=tuple(options.install) if options.install else None,
        key=KeyKind(options.key) if options.key else None,
        own_site=options.own_site,
        csr=_read_csr(options.csr) if options.csr else b"",
        csr_file="standard input" if options.csr == "-" else options.csr or "",
        same_request=options.same_request,
        own_key=_read_key(options),
    )


def _read_key(options: argparse.Namespace) -> "PrivateKey | None":
    """Read the existing key that was given; None where none was."""
    words = passphrase.given(options, "the key", new=False)
    if not options.key_file:
        if words is not None:
            raise UsageError("a passphrase opens the key of --key-file", advice="leave it out, or name the key")
        return None
    from pathlib import Path

    from inkstamp.key_files import read_key

    return read_key(Path(options.key_file), words)


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp stamp`; returns the exit status."""
    from inkstamp.jobs.lifecycle.provisioning import check_beforehand
    from inkstamp.jobs.lifecycle.stamp_plans import make_plans

    if options.group or options.customer or options.all:
        return _stamp_many(context, options)
    with open_runtime(context) as runtime:
        runtime.asks_anyway = options.anyway
        plans = (
            make_plans(runtime, as_request(options))
            if options.names or options.csr
            else _picked(context, runtime, options)
        )
        if options.preview:
            for plan in plans:
                check_beforehand(runtime, plan)
                if not context.json:
                    tell_plan(plan, runtime.certificates, str(runtime.configuration.path), preview=True)
            if context.json:
                output.as_json("stamp", plans=plans)
            return 0
        done = [_stamp(context, runtime, plan, options, alone=len(plans) == 1) for plan in plans]
    outcomes = [each for each in done if not isinstance(each, InkStampError)]
    failed = [each for each in done if isinstance(each, InkStampError)]
    if context.json:
        errors = {"errors": [output.error_data(each) for each in failed]} if failed else {}
        output.as_json("stamp", certificates=outcomes, **errors)
    if failed:
        return min(each.exit_status for each in failed)
    return 0 if all(each.sound for each in outcomes) else 1


def _stamp_many(context: Context, options: argparse.Namespace) -> int:
    """Do the round for all of a group, of a customer, or for all there are, where something is to be done."""
    from inkstamp.cli import renew

    given = [option for option in _OF_ONE if getattr(options, option.replace("-", "_"))]
    if options.names or options.entry_name or given:
        which = "names" if options.names or options.entry_name else f"--{given[0]}"
        raise UsageError(f"{which} and --group, --customer or --all exclude each other", advice="leave one of them out")
    options.certificates, options.at_once, options.now = (), None, True
    return renew.run(context, options)


def _picked(context: Context, runtime: "Runtime", options: argparse.Namespace) -> "list[Plan]":
    """Have a person pick sites, and agree to what is planned for them."""
    from inkstamp.cli.pick import agree_on, expect_terminal, pick_names
    from inkstamp.jobs.lifecycle.stamp_plans import make_plans_for_sites

    if context.json or options.entry_name:
        told = "--json" if context.json else "--as"
        raise UsageError(f"{told} goes with names", advice="name the sites: inkstamp stamp NAME…")
    expect_terminal()
    plans = make_plans_for_sites(runtime, as_request(options), pick_names(runtime))
    if not options.preview:
        agree_on(plans)
    return plans


def _stamp(
    context: Context, runtime: "Runtime", plan: "Plan", options: argparse.Namespace, *, alone: bool
) -> "Outcome | InkStampError":
    """Do the round for one, and tell what came of it; the others are done whatever that is."""
    from inkstamp.bulkhead import attempt
    from inkstamp.cli.log import tell_error

    def said(each: "Plan") -> None:
        tell_plan(each, runtime.certificates, str(runtime.configuration.path))

    def work() -> "Outcome":
        from inkstamp.jobs.lifecycle.provisioning import carry_out_and_look

        wanted = plan
        if options.let_through:
            from inkstamp.jobs.lifecycle.provisioning import open_where_closed

            said(plan)
            wanted, opened = open_where_closed(runtime, plan)
            if opened is not None:
                tell_opened(plan.name, opened)
        return carry_out_and_look(
            runtime, wanted, anew=options.reissue, said=(lambda _: None) if wanted is not plan else said
        )

    done = attempt(work)
    if isinstance(done, InkStampError):
        if alone:
            raise done
        tell_error(context, done, plan.name)
    elif not context.json:
        tell_outcome(done)
    return done


def tell_plan(plan: "Plan", certificates: "Certificates", config_file: str, *, preview: bool = False) -> None:
    """Say what will be done; on stderr, since it is no result, unless only this was asked for."""
    stream = sys.stdout if preview else sys.stderr
    from inkstamp.config.carrying import key_server

    entry = plan.entry
    verb = "would be" if preview else "will be"
    carrier = "placed by hand" if entry.via == "by-hand" else f"placed by {', '.join(entry.carriers)}"
    print(f"certificate {plan.name}", file=stream)
    print(output.field("names", ", ".join(entry.names)), file=stream)
    key = f"{entry.key} key"
    if entry.key_elsewhere:
        there = key_server(entry)
        key = f"{key} made on {there}" if there else "key on another machine, by the CSR from there"
    print(output.field("authority", f"{entry.authority}, {key}"), file=stream)
    print(output.field("challenge", f"{plan.proof}, {carrier}"), file=stream)
    elsewhere = ", ".join(certificates.install_of_all(plan.name))
    unless_here = f"{elsewhere}, on other machines" if elsewhere else "nowhere, kept on the shelf"
    print(output.field("install", ", ".join(entry.install) or unless_here), file=stream)
    if plan.write:
        servers = "".join(f"[server.{name}] and " for name, _ in plan.new_servers)
        entries = f"{servers}{header_of('certificate', plan.name)}"
        print(output.field("entry", f"{entries} {verb} added to {config_file}"), file=stream)


def tell_outcome(outcome: "Outcome") -> None:
    """Print what became of a certificate."""
    edition = outcome.edition
    if outcome.installed or (outcome.issued and not outcome.servers):
        kept = "is ready for the servers of other machines" if outcome.for_others else "is on the shelf"
        where = "is served" if outcome.servers else kept
        print(f"{outcome.name}: edition {edition.number} {where}")
    else:
        print(f"{outcome.name}: edition {edition.number} is valid and installed; nothing to do")
    print(output.field("names", ", ".join(edition.names)))
    print(output.field("issuer", f"“{edition.issuer}”, root “{edition.root}”"))
    print(
        output.field(
            "valid", f"until {edition.not_after:%Y-%m-%d %H:%M} UTC; renewed from {outcome.renews_at:%Y-%m-%d}"
        )
    )
    output.findings_in_short(outcome.findings)
    if not outcome.sound:
        print(output.field("next", f"fix the errors above, then: inkstamp check {outcome.name}"))
    elif outcome.issued and outcome.key_elsewhere:
        told = f"inkstamp export {outcome.name} --form served, and install it where its key is"
        print(output.field("next", told))
    elif outcome.issued:
        print(output.field("next", "nothing, if a timer runs `inkstamp renew` daily"))


def tell_opened(name: str, changed: "Passage") -> None:
    """Say on stderr, beside what is being done, which changes open the challenge path."""
    print(f"{name}: the challenge path is open now, for {', '.join(changed.names)}", file=sys.stderr)
    print(output.field("to undo", f"inkstamp prove {name} --close-again"), file=sys.stderr)
