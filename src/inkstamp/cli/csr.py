"""Make a private key and a certificate signing request (CSR), or read a CSR.

    inkstamp csr make rowing.saltmarsh.test www.rowing.saltmarsh.test
    inkstamp csr show rowing.saltmarsh.test.csr

Without names, `inkstamp csr make` asks for everything on the terminal.
"""

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from inkstamp.cli import output, passphrase
from inkstamp.cli.context import Context, global_options
from inkstamp.cli.setting import config_file
from inkstamp.pki.kinds import SUBJECT_WORDS, KeyKind
from inkstamp.pki.names import readable
from inkstamp.severity import Severity, worst, worst_first
from inkstamp.wording import counted, known_names

if TYPE_CHECKING:
    from inkstamp.jobs.issuance.csr_files import Made, MakeRequest
    from inkstamp.pki.csr import RequestFacts
    from inkstamp.pki.subject import Subject

_HELP = {
    "common_name": "common name (default: the first NAME)",
    "organisation": "legal name of the organisation",
    "unit": "organisational unit (public CAs leave it out)",
    "locality": "town",
    "state": "state or province, in full",
    "country": "two letters, as in GB",
    "email": "e-mail address",
}


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp csr`."""
    actions = parser.add_subparsers(dest="action", required=True, metavar="make|show")
    make = actions.add_parser("make", help="make a key and a CSR", allow_abbrev=False)
    make.add_argument("names", nargs="*", metavar="NAME", help="domain names (also *.NAME) and IP addresses")
    subject = make.add_argument_group("subject", "defaults come from [subject] in the configuration")
    for name, told in _HELP.items():
        subject.add_argument(f"--{name.replace('_', '-')}", metavar="TEXT", help=told)
    key = make.add_argument_group("key")
    which = key.add_mutually_exclusive_group()
    kinds = [kind.value for kind in KeyKind]
    which.add_argument("--kind", choices=kinds, metavar="KIND", help=f"key algorithm: {', '.join(kinds)}")
    which.add_argument("--key", metavar="FILE", help="use this existing key (PEM) instead of a new one")
    passphrase.options(make, "the key, which encrypts a new one")
    make.add_argument("--into", metavar="DIR", default=".", help="directory for the files (default: the current one)")
    make.add_argument(
        "--as", dest="base", metavar="BASE", default="", help="beginning of the file names (default: the first name)"
    )
    show = actions.add_parser("show", help="read a CSR", allow_abbrev=False)
    show.add_argument("file", metavar="FILE", help="file with a CSR in PEM or DER; - for standard input")
    show.add_argument("--text", action="store_true", help="print only the PEM block")
    for each in (make, show):
        each.add_argument(
            "--private-ca",
            action="store_true",
            help="the CSR is for a private CA: allow names that no public CA certifies",
        )
        global_options(each, default=argparse.SUPPRESS)


def run(context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp csr`; returns the exit status."""
    subject, private = _defaults(context)
    return (_show if options.action == "show" else _make)(
        context, options, subject, private=options.private_ca or private
    )


def _defaults(context: Context) -> "tuple[Subject, bool]":
    """Return the configured subject, and whether names are looked at with private roots; neither is needed."""
    from inkstamp.pki.subject import Subject

    file = config_file(context)
    if not file.exists():
        return Subject(), False
    from inkstamp.config.load import parse
    from inkstamp.config.toml_file import read_file

    config = parse(read_file(file), file)
    return config.subject, bool(config.view.roots)


def _make(context: Context, options: argparse.Namespace, subject: "Subject", *, private: bool) -> int:
    from inkstamp.errors import UsageError
    from inkstamp.jobs.issuance.csr_files import MakeRequest, make_request
    from inkstamp.pki.subject import Subject

    defaults = dict(subject.given())
    given = {name: getattr(options, name) for name in SUBJECT_WORDS if getattr(options, name) is not None}
    names, kind, asks = tuple(options.names), options.kind, not options.names
    if asks:
        if context.json or not (sys.stdin.isatty() and sys.stdout.isatty()):
            raise UsageError("no name was given", advice="name the sites: inkstamp csr make NAME…")
        answers = _ask(defaults | given, kind, with_kind=options.key is None, private=private)
        names, given, kind = answers.names, answers.subject, answers.kind
    request = MakeRequest(
        names=names,
        subject=Subject(**{**defaults, **given}),
        folder=Path(options.into),
        base=options.base,
        kind=KeyKind(kind or KeyKind.ECDSA_P256),
        key_file=Path(options.key) if options.key else None,
        private=private,
    )
    if asks and not _is_agreed(request):
        print("nothing was written")
        return 1
    from msgspec.structs import replace

    made = make_request(replace(request, passphrase=_passphrase(options)))
    if context.json:
        output.as_json("csr make", made=made)
    else:
        _tell_made(made)
    return 0


def _passphrase(options: argparse.Namespace) -> bytes | None:
    """Return the key's passphrase; an existing key that is encrypted has it asked for by itself."""
    found = passphrase.given(options, "the key", new=options.key is None)
    if found is None and options.key and sys.stdin.isatty():
        from inkstamp.files import read_secret
        from inkstamp.pki.keys import is_encrypted

        if is_encrypted(read_secret(Path(options.key))):
            return passphrase.ask(options.key, new=False)
    return found


class _Answers(NamedTuple):
    """What was answered on the terminal."""

    names: tuple[str, ...]
    subject: dict[str, str]
    kind: str | None


def _ask(defaults: dict[str, str], kind: str | None, *, with_kind: bool, private: bool) -> _Answers:
    """Ask for everything in order, and again for what no CA takes.

    An empty answer takes what stands in brackets, a dash leaves a field empty.
    """
    from inkstamp.jobs.issuance.csr_files import judge_field

    print("Press Enter to accept the value in brackets; - leaves the field empty.")
    names = _ask_names(private=private)
    answers: dict[str, str] = {}
    for name, word in SUBJECT_WORDS.items():
        if name == "unit":
            print("  note  public CAs leave the unit out since 2022; Enter skips it")
        default = defaults.get(name, names[0] if name == "common_name" else "")
        while True:
            typed = input(f"{word}{f' [{default}]' if default else ''}: ").strip()
            answer = "" if typed == "-" else typed or default
            found = [each for each in judge_field(name, answer, answers) if name != "unit"]
            output.findings(found)
            if not any(each.severity is Severity.BAD for each in found):
                break
        answers[name] = answer
    return _Answers(names, answers, _ask_kind() if with_kind and kind is None else kind)


def _ask_names(*, private: bool) -> tuple[str, ...]:
    """Ask for the names until a CA would take them."""
    from inkstamp.errors import NameTrouble
    from inkstamp.jobs.issuance.csr_files import judge_names

    while True:
        names = tuple(input("names, separated by blanks: ").replace(",", " ").split())
        if not names:
            continue
        try:
            found = judge_names(names, private=private)
        except NameTrouble as error:
            from inkstamp.findings import bad

            output.findings([bad("name", "names", error.what, error.advice)])
            continue
        output.findings(each for each in found if each.severity is not Severity.OK)
        if not any(each.severity is Severity.BAD for each in found):
            return names


def _ask_kind() -> str | None:
    """Ask for the key algorithm until it is one."""
    while True:
        kind = input(f"key algorithm: {', '.join(KeyKind)} [{KeyKind.ECDSA_P256}]: ").strip() or None
        if kind is None or kind in set(KeyKind):
            return kind
        from inkstamp.findings import bad

        output.findings([bad("key", "key algorithm", f"“{kind}” is none", known_names(KeyKind, kind))])


def _is_agreed(request: "MakeRequest") -> bool:
    """Show the whole for review, and ask whether it is to be written."""
    from inkstamp.jobs.issuance.csr_files import judge_request

    print()
    print(output.field("names", ", ".join(request.names)))
    given = ", ".join(f"{SUBJECT_WORDS[name]} {value}" for name, value in request.subject.given())
    print(output.field("subject", given))
    print(output.field("key", str(request.key_file or f"{request.kind}, new")))
    print(output.field("into", str(request.folder.absolute())))
    output.findings(each for each in judge_request(request) if each.severity in {Severity.BAD, Severity.WARN})
    while True:
        typed = input("write key and CSR? yes or no [yes]: ").strip().lower()
        if typed in {"", "y", "yes", "n", "no"}:
            return typed in {"", "y", "yes"}


def _tell_made(made: "Made") -> None:
    sealed = ", encrypted" if made.key_encrypted else ""
    print(f"{made.csr_file}: a CSR for {counted(len(made.facts.names) + len(made.facts.addresses), 'name')}")
    _tell_facts(made.facts)
    print(
        output.field(
            "key file", f"{made.key_file} ({'made now, mode 0600' if made.key_is_new else 'as it was'}{sealed})"
        )
    )
    output.findings(each for each in made.facts.findings if each.severity is not Severity.OK)
    print(f"\n{made.request}")
    print(output.field("next", "paste the block at the CA; keep the key file secret"))


def _tell_facts(facts: "RequestFacts") -> None:
    subject = ", ".join(f"{SUBJECT_WORDS.get(name, name)} {value}" for name, value in facts.subject)
    print(output.field("subject", subject or "empty"))
    print(output.field("names", ", ".join((*map(readable, facts.names), *facts.addresses, *facts.others)) or "none"))
    print(output.field("key", facts.key))


def _show(context: Context, options: argparse.Namespace, _subject: "Subject", *, private: bool) -> int:
    from inkstamp.files import read_bytes
    from inkstamp.jobs.issuance.csr_files import show_request

    if options.file == "-":
        data, where = sys.stdin.buffer.read(1_048_576), "standard input"
    else:
        data, where = read_bytes(Path(options.file), limit=1_048_576), options.file
    facts, text = show_request(data, where, private=private)
    status = 1 if worst(facts.findings) is Severity.BAD else 0
    if context.json:
        output.as_json("csr show", request=facts, text=text)
        return status
    if options.text:
        sys.stdout.write(text)
        return 0
    print(f"{where}: a certificate signing request")
    _tell_facts(facts)
    print(output.field("signed with", facts.signature))
    for name in ("md5", "sha1", "sha256"):
        print(output.field(name, getattr(facts, name)))
    output.findings(worst_first(facts.findings))
    return status
