"""Find the command, load it alone, run it, and turn what comes back into an exit status.

Importing a command imports what it works with, so nothing of that happens before the command is known:
`inkstamp --help` loads little more than argparse.
"""

import argparse
import importlib
import os
import sys
import warnings
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from types import ModuleType

from inkstamp import __version__
from inkstamp.cli.context import Context, all_actions, global_options

TYPE_CHECKING = False
if TYPE_CHECKING:
    from inkstamp.errors import InkStampError

COMMANDS = {
    "demo": "run the whole job in a simulated world on this machine",
    "survey": "list servers, their sites and the certificate of each",
    "authority": "add a CA and open an account; show, change, deactivate it",
    "server": "add, show, change or remove a server of the configuration",
    "nameserver": "add, show, change, remove or try a nameserver",
    "caa": "show which CAs may issue for a name, and put the CAA records",
    "precheck": "test DNS, CAA and challenge responses before an order",
    "csr": "make a key and a certificate signing request (CSR), or read one",
    "order": "open an order; for a portal, print the CSR to paste there",
    "prove": "place challenge responses, or validation files and records",
    "collect": "download the certificate, or import it from files",
    "enrol": "put many certificates on the roster, from a list or all sites",
    "adopt": "take over certificates that servers have already",
    "stamp": "order, validate, install and from then on renew a certificate",
    "certificate": "show how a certificate is configured, or change it",
    "install": "install an edition on its servers, or show what that changes",
    "undo": "roll back one install: certificate and configuration",
    "check": "test live names from outside: chain, TLS, DNS, redirects",
    "harden": "change TLS settings of sites: protocols, redirect, HSTS",
    "renew": "renew what is due and nothing else; for timers",
    "rehearse": "rehearse a renewal with the CA's staging; installs nothing",
    "schedule": "run renew regularly, by a systemd timer or cron",
    "messenger": "list whom messages go to, or send one as a test",
    "status": "state of every certificate, and what to do next",
    "calendar": "planned renewals and expiries by week, also as a chart",
    "why": "why a certificate is stuck, and who must act",
    "export": "export an edition as PKCS#12, PEM, PKCS#7 or ZIP",
    "remove": "stop managing a certificate; restore its servers",
    "revoke": "revoke a certificate, with a reason",
    "history": "what happened, when and in which run",
    "backup": "back up ledger, accounts, shelf and configuration into one file",
    "restore": "restore such a backup",
    "completion": "print what completes commands and names in a shell",
    "ledger": "share the ledger among machines: a PostgreSQL database",
    "machines": "list the machines that share the ledger, and what they lack",
}
"""In the order in which people work; each is a module here of the same name."""

_SPELLINGS = {"enroll": "enrol"}
_WRONG_USE = 2
_PATHS = ("FILE", "NAME|FILE", "DIR", "FOLDER", "PATH")
_LONGEST_PATH = 300
"""Characters of one that is told."""


def front_parser() -> argparse.ArgumentParser:
    """Return the parser of what stands before the command, whose help lists the commands."""
    width = max(map(len, COMMANDS)) + 2
    listing = "\n".join(f"  {name:<{width}}{summary}" for name, summary in COMMANDS.items())
    parser = argparse.ArgumentParser(
        prog="inkstamp",
        usage="inkstamp [options] COMMAND ...",
        allow_abbrev=False,
        formatter_class=argparse.RawDescriptionHelpFormatter,
        description=f"Orders, validates, installs and renews certificates for the web sites you host.\n\n"
        f"commands:\n{listing}",
        epilog="An authority is a configured CA, with ACME or a web portal. An edition is one\n"
        "issued certificate with its key and chain; the shelf keeps the editions, the ledger\n"
        "records orders, installs and failures.\n\n"
        "`inkstamp help COMMAND` explains one command. Try `inkstamp demo` first.\n"
        "Exit status: 0 done, 1 failed or problems found, 2 usage or configuration error,\n"
        "3 waiting for a person.",
    )
    parser.add_argument("--version", action="version", version=f"inkstamp {__version__}")
    global_options(parser, default=None)
    parser.add_argument("command", nargs="?", help=argparse.SUPPRESS)
    parser.add_argument("rest", nargs=argparse.REMAINDER, help=argparse.SUPPRESS)
    return parser


def command_parser(command: str, module: ModuleType) -> argparse.ArgumentParser:
    """Return the parser of one command, whose description is its module's docstring."""
    parser = argparse.ArgumentParser(
        prog=f"inkstamp {command}",
        description=module.__doc__,
        formatter_class=argparse.RawDescriptionHelpFormatter,
        allow_abbrev=False,
    )
    module.configure(parser)
    global_options(parser, default=argparse.SUPPRESS)
    return parser


def run(arguments: Sequence[str]) -> int:
    """Run one command line and return the exit status."""
    # Libraries warn of odd encodings while strangers' certificates are read; what matters of that is a finding.
    warnings.simplefilter("ignore")
    front = front_parser()
    try:
        options = front.parse_args(arguments)
        if options.command == "help":
            return run([*options.rest, "--help"])
        if options.command is None:
            front.print_help()
            return _WRONG_USE
        options.command = _SPELLINGS.get(options.command, options.command)
        if options.command not in COMMANDS:
            return _unknown_command(options.command)
        module = importlib.import_module(f"inkstamp.cli.{options.command}")
        parser = command_parser(options.command, module)
        options = parser.parse_args(options.rest, options)
        for option in _empty_paths(parser, options):
            parser.error(f"argument {option}: the path is empty")
    except SystemExit as exit_asked:  # argparse has said what is wrong, or shown the help
        return int(exit_asked.code or 0)
    import shlex

    context = Context(options, shlex.join(["inkstamp", *arguments]))
    return _run_command(module, context, options)


def _empty_paths(parser: argparse.ArgumentParser, options: argparse.Namespace) -> Iterator[str]:
    """Yield the options that were given an empty path, as a variable that a shell does not know leaves it."""
    for action in all_actions(parser):
        if action.option_strings and action.metavar in _PATHS and getattr(options, action.dest, None) == "":
            yield action.option_strings[-1]


def _run_command(module: ModuleType, context: Context, options: argparse.Namespace) -> int:
    from inkstamp.errors import InkStampError

    try:
        with stopped_by_signal():
            status: int = module.run(context, options)
            sys.stdout.flush()
    except InkStampError as error:
        if context.debug:
            raise
        return _tell(error, context, options.command)
    except KeyboardInterrupt as stopped:
        print("\ninkstamp: stopped; run the same command again to resume", file=sys.stderr)
        return 143 if stopped.args else 130
    except BrokenPipeError:  # the reader of our output has seen enough
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except Exception as error:
        if context.debug:
            raise
        return _tell(_unforeseen(error), context, options.command)
    return context.stopped_by or status


def _unforeseen(error: Exception) -> "InkStampError":
    """Return an exception that ended a command as an error to be told: about a path that was given, or a bug."""
    from inkstamp.bulkhead import internal_error
    from inkstamp.errors import FileTrouble
    from inkstamp.printable import one_line

    if not isinstance(error, OSError) or not isinstance(error.filename, str | os.PathLike):
        return internal_error(error, others=False)
    path = one_line(str(error.filename), _LONGEST_PATH)
    said = error.strerror or type(error).__name__
    return FileTrouble(f"cannot use {path}", where=path, said=said, advice="check the path, and the rights on it")


@contextmanager
def stopped_by_signal() -> Iterator[None]:
    """Have SIGTERM end a command as a person's Ctrl-C does: the next run resumes what was begun."""
    import signal

    def stop(*_signal: object) -> None:
        raise KeyboardInterrupt("SIGTERM")

    try:
        before = signal.signal(signal.SIGTERM, stop)
    except ValueError:  # not in the main thread: whoever runs us there has signals of its own
        yield
        return
    try:
        yield
    finally:
        signal.signal(signal.SIGTERM, before)


def _tell(error: "InkStampError", context: Context, command: str) -> int:
    from inkstamp.cli import output
    from inkstamp.cli.log import tell_error

    tell_error(context, error)
    if context.json:
        output.json_error(command, error)
    return error.exit_status


def _unknown_command(given: str) -> int:
    import difflib

    from inkstamp.printable import printable

    near = difflib.get_close_matches(given, COMMANDS, n=1)
    hint = f"did you mean `inkstamp {near[0]}`?" if near else "see `inkstamp --help`"
    print(f"inkstamp: there is no command “{printable(given)}”\n  fix    {hint}", file=sys.stderr)
    return _WRONG_USE
