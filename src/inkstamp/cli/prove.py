"""Place challenge responses, or validation files and records, and test them.

At an ACME CA, the challenge responses of the open order are placed, validated
by the CA, and removed. At a portal, tell the validation file, record or e-mail
address that it shows: what a configured server or nameserver can publish is
placed there, otherwise you are told what to make. Without options, everything
known is tested from outside again.

    inkstamp prove shop.saltmarsh.test
    inkstamp prove shop.saltmarsh.test --txt _x7.shop.saltmarsh.test 41

With --standing, web servers are configured once to answer every http-01
challenge for an account by themselves: token, dot, thumbprint of the account
key. Then nothing is written for a renewal.

    inkstamp prove --standing front --preview

With --persistent, TXT records are put once, by which the CA validates each
renewal (dns-persist-01); where no nameserver can be changed, they are shown.

    inkstamp prove shop.saltmarsh.test --persistent --preview
"""

import argparse
import sys
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

from inkstamp.cli import output, persistent, standing
from inkstamp.cli.context import Context
from inkstamp.cli.order import tell_reached, tell_stall
from inkstamp.cli.setting import moment, open_runtime

if TYPE_CHECKING:
    from inkstamp.jobs.portal.dcv import MailChoice, PortalInput, Proven
    from inkstamp.jobs.validation.challenge_path import Passage
    from inkstamp.jobs.validation.context import ValidationContext
    from inkstamp.ledger.records import PortalProof

_LISTS = ""


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp prove`."""
    parser.usage = "inkstamp prove NAME [options]\n       inkstamp prove --standing SERVER ... [options]"
    parser.add_argument("certificate", metavar="NAME", nargs="?", default="", help="a configured certificate")
    shown = parser.add_argument_group("what the portal shows")
    which = shown.add_mutually_exclusive_group()
    which.add_argument("--file", metavar="PATH", help="validation file: its path or URL")
    which.add_argument(
        "--cname", nargs=2, metavar=("RECORD", "TARGET"), help="validation CNAME record: its name and value"
    )
    which.add_argument("--txt", nargs=2, metavar=("RECORD", "VALUE"), help="validation TXT record: its name and value")
    which.add_argument(
        "--email",
        nargs="?",
        const=_LISTS,
        metavar="ADDRESS",
        help="validation by e-mail to ADDRESS; without it, list the allowed addresses",
    )
    which.add_argument("--token", default="", help="token that the portal shows, for {token} in the authority's rule")
    content = shown.add_mutually_exclusive_group()
    content.add_argument(
        "--line", action="append", metavar="TEXT", help="a line of the validation file (repeat for several)"
    )
    content.add_argument(
        "--content", metavar="FILE", help="file with the content of the validation file; - for standard input"
    )
    shown.add_argument(
        "--sent",
        nargs="?",
        const="now",
        metavar="MOMENT",
        help="the validation e-mail was sent (again), now or at MOMENT (RFC 3339)",
    )
    shown.add_argument(
        "--approved",
        nargs="?",
        const="now",
        metavar="MOMENT",
        help="the validation e-mail was answered, now or at MOMENT (RFC 3339)",
    )
    shown.add_argument(
        "--for", dest="names", action="append", metavar="NAME", help="only for this name (repeat for several)"
    )
    way = parser.add_argument_group("if the web server's configuration blocks the challenge path")
    way.add_argument(
        "--let-through", action="store_true", help="make the smallest change that opens the challenge path, and test it"
    )
    way.add_argument(
        "--preview",
        action="store_true",
        help="with --let-through, --standing, --persistent: show the change, do not make it",
    )
    way.add_argument("--close-again", action="store_true", help="undo the change of --let-through")
    standing.configure(parser)
    persistent.configure(parser)
    parser.add_argument(
        "--into", metavar="FOLDER", help="save the validation files that you have to create, for an upload"
    )
    parser.add_argument("--wait", type=float, default=0.0, metavar="MINUTES", help="keep testing for up to this long")


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp prove`; returns the exit status."""
    from inkstamp.config.carrying import is_portal
    from inkstamp.errors import StillWaiting

    if options.persistent:
        return persistent.run(context, options)
    persistent.expect_without_persistent(options)
    if options.standing:
        return standing.run(context, options)
    standing.expect_without_standing(options)
    if options.let_through or options.close_again or options.preview:
        return _change_way(context, options)
    with open_runtime(context) as runtime:
        name = options.certificate
        if not is_portal(runtime.config, runtime.certificates.entry(name)):
            from inkstamp.jobs.lifecycle.order_steps import prove_at_ca

            _refuse_portal_options(options)
            try:
                reached = prove_at_ca(runtime, name, wait=options.wait * 60)
            except StillWaiting:
                _save(runtime, options)
                raise
            if context.json:
                output.as_json("prove", order=reached)
            else:
                tell_reached(name, reached)
            return 0
        from inkstamp.jobs.portal.dcv import mail_choices, prove
        from inkstamp.jobs.portal.order import waiting_order

        if options.email == _LISTS:
            choices = mail_choices(runtime.view, options.names or waiting_order(runtime.ledger, name).names)
            if context.json:
                output.as_json("prove", choices=choices)
            else:
                _tell_choices(name, choices)
            return 0
        shown = _shown(options)
        with runtime.locks.certificate(name):
            proven = prove(runtime, name, shown, wait=options.wait * 60)
            _save(runtime, options)
    if context.json:
        output.as_json("prove", proven=proven)
    else:
        _tell(proven)
    return 0 if proven.seen else 1


def _save(parts: "ValidationContext", options: argparse.Namespace) -> None:
    """Write the files that a person has to make, where that was asked for, and say which."""
    if not options.into:
        return
    from inkstamp.jobs.validation.by_hand import save_files

    for each in save_files(parts, options.certificate, Path(options.into).absolute()):
        parts.progress.step(options.certificate, f"saved {each}")


def _change_way(context: Context, options: argparse.Namespace) -> int:
    from inkstamp.errors import UsageError
    from inkstamp.jobs.validation.challenge_path import close_again, let_through

    if options.let_through == options.close_again or (options.preview and not options.let_through):
        raise UsageError("--let-through, alone or with --preview, or --close-again", advice="give one of them")
    with open_runtime(context) as runtime:
        name = options.certificate
        closing = options.close_again
        changed = close_again(runtime, name) if closing else let_through(runtime, name, preview=options.preview)
    if context.json:
        output.as_json("prove", passage=changed)
    else:
        _tell_passage(name, changed, closed=options.close_again)
    return 0


def _tell_passage(name: str, changed: "Passage", *, closed: bool) -> None:
    if closed:
        print(f"{name}: the change of --let-through is undone")
    elif changed.done:
        print(f"{name}: the challenge path is open now, for {', '.join(changed.names)}")
    else:
        print(f"{name}: this would open the challenge path for {', '.join(changed.names)}")
    output.findings(changed.findings)
    output.differences(changed.differences)
    if closed:
        print(output.field("next", "nothing"))
    elif changed.done:
        print(output.field("next", f"inkstamp stamp {name}"))
        print(output.field("to undo", f"inkstamp prove {name} --close-again"))
    else:
        print(output.field("next", f"inkstamp prove {name} --let-through"))


def _refuse_portal_options(options: argparse.Namespace) -> None:
    from inkstamp.errors import UsageError

    given = (options.file, options.cname, options.txt, options.token, options.line, options.content, options.sent,
             options.approved)  # fmt: skip
    if any(given) or options.email is not None or options.names:
        raise UsageError(
            "this certificate comes from an ACME CA, which needs none of these options", advice="leave the options out"
        )


def _shown(options: argparse.Namespace) -> "PortalInput":
    from inkstamp.errors import UsageError
    from inkstamp.jobs.portal.dcv import PortalInput
    from inkstamp.ledger.records import ProofMethod

    names = tuple(options.names or ())
    if (options.line or options.content) and not options.file:
        raise UsageError("--line and --content are for --file", advice="give the file's path with --file")
    others = options.file or options.cname or options.txt or options.token
    if (options.sent or options.approved) and others:
        raise UsageError("--sent and --approved are for validation by e-mail", advice="leave them out")
    if options.file:
        if not options.line and not options.content:
            raise UsageError("the file's content is missing", advice="give it with --line TEXT or --content FILE")
        return PortalInput(method=ProofMethod.FILE, place=options.file, content=_content(options), names=names)
    sent, approved = moment(options.sent), moment(options.approved)
    if options.email:
        tells = approved is None or sent is not None
        return PortalInput(method=ProofMethod.EMAIL if tells else None, place=options.email, names=names, sent=sent,
                           approved=approved)  # fmt: skip
    if sent is not None or approved is not None:
        return PortalInput(names=names, sent=sent, approved=approved)
    for method, pair in ((ProofMethod.CNAME, options.cname), (ProofMethod.TXT, options.txt)):
        if pair:
            return PortalInput(method=method, place=pair[0], content=pair[1], names=names)
    if names:
        raise UsageError("--for goes with --file, --cname, --txt or --email", advice="add what the portal shows for it")
    return PortalInput(token=options.token)


def _content(options: argparse.Namespace) -> str:
    from inkstamp.errors import UsageError
    from inkstamp.files import read_bytes

    if options.line:
        return "".join(f"{line}\n" for line in options.line)
    data = sys.stdin.buffer.read(65_536) if options.content == "-" else read_bytes(Path(options.content), limit=65_536)
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise UsageError("the file's content is not text", where=options.content, advice="give it as UTF-8") from error


def _tell_choices(name: str, choices: "list[MailChoice]") -> None:
    print(f"{name}: a CA may write to one of these addresses")
    for choice in choices:
        print(choice.domain)
        output.findings([choice.finding], below=choice.domain)
        if choice.published:
            print(output.field("published", ", ".join(choice.published)))
        print(output.field("addresses", ", ".join(choice.addresses)))
    print(output.field("next", "choose it at the portal and let it send the e-mail, then:"))
    print(output.field("", f"inkstamp prove {name} --email ADDRESS --sent"))


def _tell(proven: "Proven") -> None:
    shown = proven.order
    told = "all validation files and records are in place" if proven.seen else "validation files or records are missing"
    print(f"{shown.certificate}: {told}")
    output.findings(proven.findings)
    tell_by_hand(proven.by_hand)
    tell_stall(shown.stall)


def tell_by_hand(proofs: "Iterable[PortalProof]") -> None:
    """Say what a person has to put where."""
    for each in {(each.method, each.place, each.content, each.name if each.method == "file" else ""): each
                 for each in proofs if each.method != "email"}.values():  # fmt: skip
        print("\npublish this:")
        if each.method == "file":
            print(output.field("at", each.url))
            print(output.field("content", each.content.rstrip("\n")))
        else:
            print(output.field("record", each.place))
            print(output.field("type", each.method.upper()))
            print(output.field("value", each.content))
    print()
