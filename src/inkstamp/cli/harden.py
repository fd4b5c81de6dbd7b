"""Change TLS settings of sites that have TLS: protocols, ciphers, redirect, HSTS.

SITE is a domain name, a configured certificate (all its sites), or a server
(all its sites). The changes are shown as a diff first. The server tests them
and reloads; then the sites are tested from outside: they must have the settings
and serve the certificates that they had. If anything fails, all files are
restored byte for byte. Cipher lists that somebody chose are left alone unless
--replace-ciphers is given. Without an option, the policy is applied that `tls`
in the server's table names, or “strict”.

    inkstamp harden shop.saltmarsh.test --preview
    inkstamp harden shop.saltmarsh.test --redirect --hsts-days 30 --yes
"""

import argparse
import sys
from operator import attrgetter
from typing import TYPE_CHECKING, TextIO

from inkstamp.cli import output
from inkstamp.cli.context import Context
from inkstamp.cli.log import each_apart
from inkstamp.cli.setting import open_runtime, roster_options
from inkstamp.errors import InkStampError, UsageError

if TYPE_CHECKING:
    from inkstamp.config.model import Server
    from inkstamp.jobs.deployment.hardening import ServerHardening
    from inkstamp.ledger.records import Selection
    from inkstamp.servers.tls_policy import TlsChange

_POLICIES = ("strict", "wide")
_SERVER = attrgetter("server")


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp harden`."""
    parser.add_argument("names", nargs="*", metavar="SITE", help="a domain name, a configured certificate, or a server")
    parser.add_argument("--sites", action="store_true", help="all sites with TLS of all servers")
    roster_options(parser)
    parser.add_argument("--policy", choices=_POLICIES, help="protocols and ciphers (see docs/servers.md)")
    parser.add_argument("--replace-ciphers", action="store_true", help="--policy: replace cipher lists too that "
                        "somebody chose")  # fmt: skip
    redirect = parser.add_mutually_exclusive_group()
    redirect.add_argument("--redirect", action="store_true", default=None, help="redirect HTTP to HTTPS, except the "
                          "challenge path")  # fmt: skip
    redirect.add_argument("--no-redirect", dest="redirect", action="store_false", help="take that redirect out")
    hsts = parser.add_mutually_exclusive_group()
    hsts.add_argument(
        "--hsts-days", type=int, metavar="DAYS", help="send the HSTS header (RFC 6797); 0: browsers forget"
    )
    hsts.add_argument(
        "--no-hsts", action="store_true", help="send no HSTS header; browsers keep to what they were told"
    )
    http2 = parser.add_mutually_exclusive_group()
    http2.add_argument("--http2", action="store_true", default=None, help="offer HTTP/2")
    http2.add_argument("--no-http2", dest="http2", action="store_false", help="do not offer HTTP/2")
    roots = parser.add_mutually_exclusive_group()
    roots.add_argument("--client-roots", metavar="FILE", help="require client certificates of the CA in this file "
                       "on the server's machine")  # fmt: skip
    roots.add_argument("--no-client-roots", action="store_true", help="require no client certificates")
    parser.add_argument("--preview", action="store_true", help="show the changes, make none")
    parser.add_argument("--undo", action="store_true", help="undo the last change that was made so, on each "
                        "server of the sites")  # fmt: skip
    parser.add_argument("--yes", action="store_true", help="do not ask for confirmation")


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp harden`; returns the exit status."""
    from inkstamp.jobs.deployment.hardening import harden, show_hardening, undo_hardening
    from inkstamp.jobs.inventory.hardening_plan import sites_meant

    selection = _expect_one_source(options)
    with open_runtime(context) as runtime:
        asked = runtime.certificates.names(selection) if selection else options.names
        servers = sites_meant(runtime, asked, each_needs_one=not selection)
        if options.undo:
            return _undone(
                context, *each_apart(context, servers, lambda each: undo_hardening(runtime, each.server), _SERVER)
            )
        configured = runtime.configuration.current_or_empty().server
        wanted = {each.server: _wanted(options, configured.get(each.server)) for each in servers}
        planned, failed = each_apart(
            context, servers, lambda each: show_hardening(runtime, each, wanted[each.server]), _SERVER
        )
        changing = {each.server for each in planned if each.differences}
        if not context.json:
            _tell(planned, sys.stdout if options.preview or not changing else sys.stderr)
        if options.preview or not changing:
            return _end(context, planned, failed)
        output.ask("make these changes", "harden", yes=options.yes)
        todo = [each for each in servers if each.server in changing]
        done, failing = each_apart(context, todo, lambda each: harden(runtime, each, wanted[each.server]), _SERVER)
    if not context.json:
        for each in done:
            print(f"{each.server}: {output.first_of(each.names) or 'the server'} has the new settings")
            output.findings(each.findings)
        if done:
            print(output.field("to undo", f"inkstamp harden {' '.join(each.server for each in done)} --undo"))
    return _end(context, done, [*failed, *failing])


def _expect_one_source(options: argparse.Namespace) -> "Selection":
    from inkstamp.cli.setting import selection_of

    selection = selection_of(options)
    if sum((bool(options.names), options.sites, bool(selection))) != 1:
        raise UsageError("sites are named, or --sites, or --group and --customer", advice="inkstamp harden SITE")
    if options.undo and options.preview:
        raise UsageError("--undo shows what it changed, and has no preview", advice="leave --preview out")
    return selection


def _wanted(options: argparse.Namespace, entry: "Server | None") -> "TlsChange":
    from inkstamp.servers.tls_policy import USUAL_POLICY, TlsChange, hsts_of, policies

    hsts = "" if options.no_hsts else None if options.hsts_days is None else hsts_of(options.hsts_days)
    if options.hsts_days is not None and not 0 <= options.hsts_days <= 3650:
        raise UsageError(f"--hsts-days {options.hsts_days} is not a number of days", advice="write 0 to 3650")
    roots = "" if options.no_client_roots else options.client_roots
    others = (options.redirect, hsts, options.http2, roots)
    policy = options.policy
    if policy is None and (options.replace_ciphers or all(each is None for each in others)):
        policy = (entry.tls if entry is not None else "") or USUAL_POLICY
    return TlsChange(
        policy=policies()[policy] if policy else None,
        redirect=options.redirect,
        hsts=hsts,
        http2=options.http2,
        client_roots=roots,
        replaces_ciphers=options.replace_ciphers,
    )


def _tell(planned: "list[ServerHardening]", stream: TextIO) -> None:
    for each in planned:
        changing = bool(each.differences)
        told = "would be changed" if changing else "has these settings already; nothing to do"
        print(
            f"{each.server}: {output.first_of([name for name in each.names if name]) or 'the server'} {told}",
            file=stream,
        )
        output.findings(each.findings, stream)
        for text in each.differences:
            print(output.clean(text), file=stream)
    if any(each.differences for each in planned) and stream is sys.stdout:
        print(output.field("next", "the same without --preview"))


def _undone(context: Context, done: "list[ServerHardening]", failed: "list[InkStampError]") -> int:
    if not context.json:
        for each in done:
            print(f"{each.server}: the last change of its TLS settings is undone")
            for text in each.differences:
                print(output.clean(text))
    return _end(context, done, failed)


def _end(context: Context, servers: "list[ServerHardening]", failed: "list[InkStampError]") -> int:
    if context.json:
        output.as_json("harden", servers=servers, errors=[output.error_data(each) for each in failed])
    return min((each.exit_status for each in failed), default=0)
