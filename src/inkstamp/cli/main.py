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

TYPE_CHECKING = False
if TYPE_CHECKING:
    from inkstamp.errors import InkStampError

COMMANDS = {
    "demo": "the whole job in a simulated world on this machine",
    "survey": "what is here: servers, sites, the certificate each one has",
    "authority": "add a CA with an account, show it, change or end the account",
    "precheck": "what a CA will look at, looked at beforehand",
    "csr": "make a key and a certificate signing request, or read one",
    "order": "open an order; for a portal: what to paste there",
    "prove": "show the CA that its names are yours",
    "collect": "take in what the CA issued, from it or from files",
    "stamp": "get a certificate for names, install it, keep it renewed",
    "install": "put an edition on its servers, or show what that changes",
    "undo": "go back one install: edition and configuration",
    "check": "look at live names from outside",
    "renew": "renew what is due and nothing else; for a timer",
    "rehearse": "a renewal for trial: everything but the switch",
    "schedule": "have renew run by itself: systemd's timer, or cron",
    "status": "where every certificate stands",
    "calendar": "what expires and what is planned, week by week; as a picture",
    "why": "why one is not going on, and who must act",
    "export": "an edition for elsewhere: PKCS#12, PEM, PKCS#7, ZIP",
    "revoke": "have a certificate revoked, with a reason",
    "history": "what happened, when, in which run",
}
"""In the order in which people work; each is a module here of the same name."""

_WRONG_USE = 2


class Context:
    """What the options before or after any command say.

    No dataclass: loading their module would take as long as all else that `--help` needs.
    """

    __slots__ = ("command_line", "config", "debug", "home", "json", "log")

    def __init__(self, options: argparse.Namespace, command_line: str) -> None:
        self.config: str | None = options.config
        self.home: str | None = options.home
        self.json = bool(options.json)
        self.debug = bool(options.debug)
        self.log: str = options.log or "text"
        self.command_line = command_line


def global_options(parser: argparse.ArgumentParser, *, default: object) -> None:
    """Declare the options that every command takes; `default` is SUPPRESS where a front parser has them too."""
    group = parser.add_argument_group("everywhere")
    group.add_argument(
        "--config",
        metavar="FILE",
        default=default,
        help="configuration file (else INKSTAMP_CONFIG, else the usual place)",
    )
    group.add_argument(
        "--home",
        metavar="DIR",
        default=default,
        help="folder of ledger and shelf (else INKSTAMP_HOME, else as configured)",
    )
    group.add_argument("--json", action="store_true", default=default or False, help="one JSON document on stdout")
    group.add_argument(
        "--log", choices=("text", "json"), default=default, help="what is told on stderr: text, or a JSON object a line"
    )
    group.add_argument("--debug", action="store_true", default=default or False, help="show tracebacks")


def _front_parser() -> argparse.ArgumentParser:
    width = max(map(len, COMMANDS)) + 2
    listing = "\n".join(f"  {name:<{width}}{summary}" for name, summary in COMMANDS.items())
    parser = argparse.ArgumentParser(
        prog="inkstamp",
        usage="inkstamp [options] COMMAND ...",
        allow_abbrev=False,
        formatter_class=argparse.RawDescriptionHelpFormatter,
        description=f"Certificates for the web sites you host: ordered, proven, installed, renewed.\n\n"
        f"commands:\n{listing}",
        epilog="`inkstamp COMMAND -h` tells all about one. Try `inkstamp demo` first.\n"
        "Exit status: 0 done, 1 failed or something is bad, 2 wrong use or configuration,\n"
        "3 waiting for someone.",
    )
    parser.add_argument("--version", action="version", version=f"inkstamp {__version__}")
    global_options(parser, default=None)
    parser.add_argument("command", nargs="?", help=argparse.SUPPRESS)
    parser.add_argument("rest", nargs=argparse.REMAINDER, help=argparse.SUPPRESS)
    return parser


def run(arguments: Sequence[str]) -> int:
    """Run one command line and return the exit status."""
    # Libraries warn of odd encodings while strangers' certificates are read; what matters of that is a finding.
    warnings.simplefilter("ignore")
    front = _front_parser()
    try:
        options = front.parse_args(arguments)
        if options.command is None:
            front.print_help()
            return _WRONG_USE
        if options.command not in COMMANDS:
            return _unknown_command(options.command)
        module = importlib.import_module(f"inkstamp.cli.{options.command}")
        parser = argparse.ArgumentParser(
            prog=f"inkstamp {options.command}",
            description=module.__doc__,
            formatter_class=argparse.RawDescriptionHelpFormatter,
            allow_abbrev=False,
        )
        module.configure(parser)
        global_options(parser, default=argparse.SUPPRESS)
        options = parser.parse_args(options.rest, options)
    except SystemExit as exit_asked:  # argparse has said what is wrong, or shown the help
        return int(exit_asked.code or 0)
    import shlex

    context = Context(options, shlex.join(["inkstamp", *arguments]))
    return _run_command(module, context, options)


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
        print("\ninkstamp: stopped; run the same command again to go on", file=sys.stderr)
        return 143 if stopped.args else 130
    except BrokenPipeError:  # the reader of our output has seen enough
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 0
    except Exception as error:
        if context.debug:
            raise
        from inkstamp.bulkhead import internal_error

        return _tell(internal_error(error), context, options.command)
    return status


@contextmanager
def stopped_by_signal() -> Iterator[None]:
    """Have SIGTERM end a command as a person's Ctrl-C does: begun work is left so that the next run goes on with it."""
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

    near = difflib.get_close_matches(given, COMMANDS, n=1)
    hint = f"did you mean `inkstamp {near[0]}`?" if near else "see `inkstamp --help`"
    print(f"inkstamp: there is no command “{given}”\n  do     {hint}", file=sys.stderr)
    return _WRONG_USE
