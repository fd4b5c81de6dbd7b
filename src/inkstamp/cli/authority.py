r"""Add a CA and open an account with it, or show those there are.

    inkstamp authority add quayside --email certs@saltmarsh.test \
        --directory https://acme.quayside.test/directory --agree-terms
    inkstamp authority add fogbell --portal https://portal.fogbell.test/
    inkstamp authority show
"""

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from inkstamp.cli import output
from inkstamp.cli.main import Context, global_options
from inkstamp.cli.setting import workplace
from inkstamp.pki.kinds import KeyKind

if TYPE_CHECKING:
    from inkstamp.config.model import Authority
    from inkstamp.jobs.account import Added
    from inkstamp.jobs.workplace import Workplace


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the options."""
    actions = parser.add_subparsers(dest="action", required=True, metavar="add|show")
    add = actions.add_parser("add", help="write the entry and open the account", allow_abbrev=False)
    add.add_argument("name", help="a short name for it")
    which = add.add_mutually_exclusive_group()
    which.add_argument("--directory", metavar="URL", help="the CA's ACME directory; not for an entry that is there")
    which.add_argument("--portal", metavar="URL", help="the CA's web portal, where a person orders")
    add.add_argument("--email", default="", help="contact of the account")
    add.add_argument("--agree-terms", action="store_true", help="you have read the CA's terms and agree to them")
    add.add_argument("--trust", metavar="FILE", help="PEM roots of the CA's API, when its certificate is private")
    add.add_argument(
        "--account-key",
        choices=[kind.value for kind in KeyKind],
        metavar="KIND",
        help=f"kind of the account's key: {', '.join(KeyKind)}",
    )
    add.add_argument("--root", metavar="NAME", default="", help="common name of the root that chains should lead to")
    rule = add.add_argument_group(
        "what a portal wants to see",
        "with {domain}, {token} and the request's digests {md5}, {sha1}, {sha256}, {sha256-front}, {sha256-back}",
    )
    rule.add_argument("--path", default="", help="path of a file")
    rule.add_argument("--line", action="append", default=[], metavar="TEXT", help="a line of it (repeat for several)")
    rule.add_argument("--record", default="", metavar="NAME", help="name of a DNS record")
    rule.add_argument("--value", default="", metavar="TEXT", help="its value")
    rule.add_argument("--record-type", choices=["cname", "txt"], help="its type (cname)")
    show = actions.add_parser("show", help="list the CAs and our accounts with them", allow_abbrev=False)
    for each in (add, show):
        global_options(each, default=argparse.SUPPRESS)


def run(context: Context, options: argparse.Namespace) -> int:
    """Run it."""
    with workplace(context) as place:
        if options.action == "show":
            return _show(context, place)
        from inkstamp.jobs.account import add_authority

        wanted = _wanted(options)
        added = add_authority(place, options.name, wanted, agree_terms=options.agree_terms)
    if context.json:
        output.as_json("authority add", added=added)
        return 0
    if added.kind == "portal":
        _tell_portal(added)
        return 0
    print(f"{added.authority}: account {'opened' if added.account_opened else 'was open already'}")
    print(output.field("account", added.account_url))
    print(output.field("contact", added.contact or "none"))
    if added.terms:
        print(output.field("terms", f"agreed to, {added.terms}"))
    if added.entry_written:
        print(output.field("written", f"[authority.{added.authority}] in {added.config_file}"))
    print(output.field("next", "inkstamp survey, then inkstamp stamp NAME…"))
    return 0


def _wanted(options: argparse.Namespace) -> "Authority | None":
    """Return the entry that the options describe; None when they name one that is there."""
    from inkstamp.config.model import Authority
    from inkstamp.errors import UsageError

    rule = {
        "path": options.path,
        "lines": tuple(options.line),
        "record": options.record,
        "value": options.value,
        "record_type": options.record_type,
    }
    for_account = options.email or options.trust or options.account_key or options.agree_terms
    if any(rule.values()) and not options.portal:
        raise UsageError("--path, --line, --record and --value describe a portal", advice="add --portal URL")
    if options.portal:
        if for_account:
            raise UsageError("a portal has no ACME account", advice="leave out what belongs to --directory")
        known = {key: value for key, value in rule.items() if value}
        return Authority(kind="portal", page=options.portal, root=options.root, **known)
    if options.directory:
        return Authority(
            directory=options.directory,
            email=options.email,
            agree_terms=options.agree_terms,
            trust=str(Path(options.trust).absolute()) if options.trust else "",
            account_key=KeyKind(options.account_key or KeyKind.ECDSA_P256),
            root=options.root,
        )
    if options.email or options.trust or options.root or options.account_key:
        raise UsageError(
            "--email, --trust, --root and --account-key describe a new authority and need --directory",
            advice="add --directory URL, or edit the authority's table in the configuration",
        )
    return None


def _tell_portal(added: "Added") -> None:
    print(f"{added.authority}: a portal, {'written' if added.entry_written else 'as it was'}")
    print(output.field("page", added.page))
    if added.entry_written:
        print(output.field("written", f"[authority.{added.authority}] in {added.config_file}"))
    print(output.field("next", f"inkstamp order NAME… --authority {added.authority}"))


def _show(context: Context, place: "Workplace") -> int:
    from inkstamp.jobs.account import list_authorities

    known = list_authorities(place)
    if context.json:
        output.as_json("authority show", authorities=known)
        return 0
    if not known:
        print("no authority is configured; add one: inkstamp authority add NAME --directory URL (or --portal URL)")
    for each in known:
        print(each.name)
        if each.kind == "portal":
            print(output.field("portal", each.page))
            continue
        print(output.field("directory", each.directory))
        print(output.field("account", each.account_url or f"none yet: inkstamp authority add {each.name}"))
        print(output.field("contact", each.contact or "none"))
    return 0
