r"""Add a CA and open an account with it, or show those there are.

    inkstamp authority add quayside --email certs@saltmarsh.test \
        --directory https://acme.quayside.test/directory --agree-terms
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
    from inkstamp.jobs.workplace import Workplace


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the options."""
    actions = parser.add_subparsers(dest="action", required=True, metavar="add|show")
    add = actions.add_parser("add", help="write the entry and open the account", allow_abbrev=False)
    add.add_argument("name", help="a short name for it")
    add.add_argument(
        "--directory", metavar="URL", help="the CA's ACME directory; not needed for an entry that is there"
    )
    add.add_argument("--email", default="", help="contact of the account")
    add.add_argument("--agree-terms", action="store_true", help="you have read the CA's terms and agree to them")
    add.add_argument("--trust", metavar="FILE", help="PEM roots of the CA's API, when its certificate is private")
    add.add_argument(
        "--account-key",
        choices=[kind.value for kind in KeyKind],
        help="kind of the account's key (ecdsa-p256)",
    )
    add.add_argument("--root", metavar="NAME", default="", help="common name of the root that chains should lead to")
    show = actions.add_parser("show", help="list the CAs and our accounts with them", allow_abbrev=False)
    for each in (add, show):
        global_options(each, default=argparse.SUPPRESS)


def run(context: Context, options: argparse.Namespace) -> int:
    """Run it."""
    with workplace(context) as place:
        if options.action == "show":
            return _show(context, place)
        from inkstamp.config.model import Authority
        from inkstamp.errors import UsageError
        from inkstamp.jobs.account import add_authority

        wanted = None
        if not options.directory and (options.email or options.trust or options.root or options.account_key):
            raise UsageError(
                "--email, --trust, --root and --account-key describe a new authority and need --directory",
                advice="add --directory URL, or edit the authority's table in the configuration",
            )
        if options.directory:
            wanted = Authority(
                directory=options.directory,
                email=options.email,
                agree_terms=options.agree_terms,
                trust=str(Path(options.trust).absolute()) if options.trust else "",
                account_key=KeyKind(options.account_key or KeyKind.ECDSA_P256),
                root=options.root,
            )
        added = add_authority(place, options.name, wanted, agree_terms=options.agree_terms)
    if context.json:
        output.as_json("authority add", added=added)
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


def _show(context: Context, place: "Workplace") -> int:
    from inkstamp.jobs.account import list_authorities

    known = list_authorities(place)
    if context.json:
        output.as_json("authority show", authorities=known)
        return 0
    if not known:
        print("no authority is configured; add one: inkstamp authority add NAME --directory URL")
    for each in known:
        print(each.name)
        print(output.field("directory", each.directory))
        print(output.field("account", each.account_url or f"none yet: inkstamp authority add {each.name}"))
        print(output.field("contact", each.contact or "none"))
    return 0
