r"""Add a CA and open an account there; show, change or deactivate it.

    inkstamp authority add quayside --email certs@saltmarsh.test \
        --directory https://acme.quayside.test/directory --agree-terms
    inkstamp authority add fogbell --portal https://portal.fogbell.test/
    inkstamp authority show quayside
    inkstamp authority change quayside --email night@saltmarsh.test
    inkstamp authority rollover quayside
"""

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from inkstamp.cli import output
from inkstamp.cli.context import Context, global_options
from inkstamp.cli.setting import open_runtime
from inkstamp.pki.kinds import KeyKind

if TYPE_CHECKING:
    from inkstamp.accounts.authorities import Added
    from inkstamp.config.model import Authority
    from inkstamp.runtime import Runtime


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp authority`."""
    actions = parser.add_subparsers(dest="action", required=True, metavar="add|show|change|rollover|deactivate")
    add = actions.add_parser("add", help="add a CA to the configuration and open an account there", allow_abbrev=False)
    add.add_argument("name", help="short name for the CA in the configuration")
    which = add.add_mutually_exclusive_group()
    which.add_argument(
        "--directory", metavar="URL", help="directory URL of an ACME CA (not needed for a configured one)"
    )
    which.add_argument("--portal", metavar="URL", help="URL of a CA's web portal, where a person orders")
    add.add_argument("--email", default="", help="contact address of the account")
    add.add_argument(
        "--agree-terms", action="store_true", help="agree to the CA's terms of service, which you have read"
    )
    add.add_argument(
        "--trust",
        metavar="FILE",
        help="PEM file with the roots of the CA's API, if its certificate is not publicly trusted",
    )
    add.add_argument(
        "--account-key",
        choices=[kind.value for kind in KeyKind],
        metavar="KIND",
        help=f"key algorithm of the account: {', '.join(KeyKind)}",
    )
    add.add_argument("--key-file", metavar="FILE", help="private key of an existing account (PEM, mode 0600)")
    add.add_argument(
        "--binding-id",
        default="",
        metavar="ID",
        help="key ID for external account binding (EAB), from a CA that requires it",
    )
    add.add_argument(
        "--binding-key-file",
        metavar="FILE",
        help="file with the MAC key for external account binding (base64url, mode 0600)",
    )
    add.add_argument(
        "--root",
        metavar="NAME",
        default="",
        help="common name of the preferred root, where the CA offers several chains",
    )
    add.add_argument(
        "--account-key-of",
        metavar="AUTHORITY",
        default="",
        help="use the account key of this authority too, so that servers can answer for both (prove --standing)",
    )
    rule = add.add_argument_group(
        "validation file or record of a portal",
        "with {domain}, {token} and the CSR's digests {md5}, {sha1}, {sha256}; of a digest also a part, "
        "{sha256:1-32}, and capitals, {md5:upper}",
    )
    rule.add_argument("--path", default="", help="path of the validation file")
    rule.add_argument(
        "--line", action="append", default=[], metavar="TEXT", help="a line of the validation file (repeat for several)"
    )
    rule.add_argument("--record", default="", metavar="NAME", help="name of the validation record in DNS")
    rule.add_argument("--value", default="", metavar="TEXT", help="value of the validation record")
    rule.add_argument("--record-type", choices=["cname", "txt"], help="type of the validation record (default: cname)")
    show = actions.add_parser("show", help="list the configured CAs, or show the account at one", allow_abbrev=False)
    show.add_argument("name", nargs="?", help="query this CA (default: list all, query none)")
    change = actions.add_parser("change", help="change the account's contact", allow_abbrev=False)
    change.add_argument("--email", required=True, help="new contact address; '' for none")
    newer = actions.add_parser("rollover", help="replace the account key (key rollover)", allow_abbrev=False)
    newer.add_argument(
        "--kind",
        choices=[kind.value for kind in KeyKind],
        metavar="KIND",
        help="algorithm of the new key (default: as configured)",
    )
    deactivate = actions.add_parser("deactivate", help="deactivate the account (permanent)", allow_abbrev=False)
    deactivate.add_argument("--yes", action="store_true", help="do not ask for confirmation")
    for each in (change, newer, deactivate):
        each.add_argument("name", help="name of the authority")
    for each in (add, show, change, newer, deactivate):
        global_options(each, default=argparse.SUPPRESS)


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp authority`; returns the exit status."""
    with open_runtime(context) as runtime:
        if options.action != "add":
            return _ACTIONS[options.action](context, runtime, options)
        from inkstamp.accounts.authorities import add_authority

        key_file = Path(options.key_file).absolute() if options.key_file else None
        added = add_authority(
            runtime, options.name, _wanted(options), agree_terms=options.agree_terms, account_key=key_file
        )
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
    bound = bool(options.binding_id)
    if bound != bool(options.binding_key_file):
        raise UsageError("--binding-id and --binding-key-file go together", advice="the CA gives both")
    for_account = options.email or options.trust or options.account_key or options.agree_terms or bound
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
            account_key_of=options.account_key_of,
            root=options.root,
            binding_id=options.binding_id,
            binding_key_file=str(Path(options.binding_key_file).absolute()) if bound else "",
        )
    if options.email or options.trust or options.root or options.account_key or options.account_key_of or bound:
        raise UsageError(
            "--email, --trust, --root, --account-key and --binding-id describe a new authority and need --directory",
            advice="add --directory URL, or edit the authority's table in the configuration",
        )
    return None


def _tell_portal(added: "Added") -> None:
    print(f"{added.authority}: portal {'added' if added.entry_written else 'configured already'}")
    print(output.field("page", added.page))
    if added.entry_written:
        print(output.field("written", f"[authority.{added.authority}] in {added.config_file}"))
    print(output.field("next", f"inkstamp order NAME… --authority {added.authority}"))


def _show(context: Context, runtime: "Runtime", options: argparse.Namespace) -> int:
    from inkstamp.accounts.authorities import list_authorities

    if options.name:
        return _show_one(context, runtime, options.name)
    known = list_authorities(runtime)
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


def _show_one(context: Context, runtime: "Runtime", name: str) -> int:
    from inkstamp.accounts.maintenance import show_account

    shown = show_account(runtime, name)
    if context.json:
        output.as_json("authority show", authority=shown)
        return 0
    print(f"{name}: the account is {shown.status}")
    print(output.field("directory", shown.directory))
    print(output.field("account", shown.account_url))
    print(output.field("contact", ", ".join(shown.contact) or "none"))
    print(output.field("key", f"{shown.key}, thumbprint {shown.key_thumbprint}"))
    print(output.field("terms", shown.terms or "none"))
    print(output.field("CAA names", ", ".join(shown.caa) or "not stated"))
    print(output.field("offers", ", ".join(shown.offers) or "orders alone"))
    if shown.binds:
        print(output.field("binding", "requires external account binding (EAB)"))
    for profile, told in shown.profiles.items():
        print(output.field("profile", f"{profile}: {told}"))
    if shown.orders_listed:
        print(output.field("orders", f"{len(shown.orders)} listed" if shown.orders else "none listed"))
        for url, status, names in shown.orders:
            print(output.wrapped(f"{status:<10}  {', '.join(names)}  {url}", " " * 14, " " * 26))
    print(output.field("for", ", ".join(shown.certificates) or "no configured certificate"))
    return 0


def _change(context: Context, runtime: "Runtime", options: argparse.Namespace) -> int:
    from inkstamp.accounts.maintenance import change_contact

    url = change_contact(runtime, options.name, options.email)
    if context.json:
        output.as_json("authority change", account_url=url, contact=options.email)
    else:
        print(
            f"{options.name}: contact is {options.email or 'none'} now, at the CA and in {runtime.configuration.path}"
        )
    return 0


def _new_key(context: Context, runtime: "Runtime", options: argparse.Namespace) -> int:
    from inkstamp.jobs.validation.standing_keys import roll_over

    account = roll_over(runtime, options.name, KeyKind(options.kind) if options.kind else None)
    if context.json:
        output.as_json(
            "authority rollover", account_url=account.url, key=account.key_kind, thumbprint=account.thumbprint
        )
        return 0
    print(f"{options.name}: the account has a new key, {account.key_kind}")
    print(output.field("account", account.url))
    print(output.field("thumbprint", account.thumbprint))
    return 0


def _retire(context: Context, runtime: "Runtime", options: argparse.Namespace) -> int:
    from inkstamp.accounts.maintenance import certificates_of, retire

    ours = ", ".join(certificates_of(runtime, options.name))
    told = f"The account at “{options.name}” is deactivated permanently; its certificates stay valid."
    if ours:
        told += f" These certificates come from it and will not be renewed: {ours}."
    output.ask(told, options.name, yes=options.yes)
    url = retire(runtime, options.name)
    if context.json:
        output.as_json("authority deactivate", account_url=url)
    else:
        print(f"{options.name}: the account is deactivated")
        print(output.field("account", url))
        print(output.field("next", f"inkstamp authority add {options.name} opens another one"))
    return 0


_ACTIONS = {"show": _show, "change": _change, "rollover": _new_key, "deactivate": _retire}
