"""Print what has a shell complete commands, options and names at the Tab key.

    source <(inkstamp completion bash)        bash, in ~/.bashrc
    source <(inkstamp completion zsh)         zsh, in ~/.zshrc after compinit
    inkstamp completion fish | source         fish, in its config.fish

It completes certificates, groups, servers, authorities, nameservers, messengers
and editions as they are at that moment, from local files alone.
"""

import argparse
import importlib
import os
import re
import sys
from collections.abc import Callable, Sequence
from typing import Any

from inkstamp.cli.context import Context, all_actions, global_options
from inkstamp.cli.main import COMMANDS

_KINDS = {
    "CERTIFICATE": "certificate",
    "ENTRY": "certificate",
    "GROUP": "group",
    "CUSTOMER": "customer",
    "SERVER": "server",
    "AUTHORITY": "authority",
    "NAMESERVER": "nameserver",
}
"""What an argument is, by what stands for it in the help."""
_KINDS_BY_DESTINATION = {"certificate": "certificate", "authority": "authority"}
_NAMED_LIKE_THE_COMMAND = frozenset({"authority", "server", "nameserver", "messenger"})
"""Commands whose NAME is an entry of the table of the same name; that of any other is a certificate."""
_NO_CERTIFICATE = frozenset({"machines", "demo", "survey"})


def configure(parser: argparse.ArgumentParser) -> None:
    """Declare the arguments of `inkstamp completion`."""
    parser.add_argument("shell", choices=("bash", "zsh", "fish"), help="the shell to print it for")


def run(_context: Context, options: argparse.Namespace) -> int:
    """Carry out `inkstamp completion`; returns the exit status."""
    print(shell_code(options.shell), end="")
    return 0


def shell_code(shell: str) -> str:
    """Return what a shell reads to complete `inkstamp`, in its own language."""
    from argcomplete.shell_integration import shellcode

    return shellcode(["inkstamp"], shell=shell)


def answer_shell() -> None:
    """Print what could stand at the cursor of a command line that a shell has described, and end the process."""
    import argcomplete
    from argcomplete.completers import SuppressCompleter

    words = re.split(r"\s+", os.environ.get("COMP_LINE", ""))
    typed = next((each for each in words[1:] if each == "help" or each in COMMANDS), "")
    argcomplete.autocomplete(
        parser_of(typed), always_complete_options=False, default_completer=SuppressCompleter(), output_stream=None
    )
    sys.exit(1)  # there was nothing to complete


def parser_of(typed: str) -> argparse.ArgumentParser:
    """Return a parser of the command line: of all commands, or of the one that was typed with its arguments."""
    parser = argparse.ArgumentParser(prog="inkstamp", allow_abbrev=False)
    parser.add_argument("--version", action="store_true", help="print the version")
    global_options(parser, default=None)
    commands = parser.add_subparsers(dest="command")
    if typed and typed != "help":  # nobody waits for the others
        command = commands.add_parser(typed, help=COMMANDS[typed], allow_abbrev=False)
        importlib.import_module(f"inkstamp.cli.{typed}").configure(command)
        global_options(command, default=argparse.SUPPRESS)
        _attach(parser, typed)
        return parser
    for name, summary in COMMANDS.items():
        commands.add_parser(name, help=summary, allow_abbrev=False)
    commands.add_parser("help", help="explain a command").add_argument("about", choices=list(COMMANDS))
    _attach(parser, typed)
    return parser


def _attach(parser: argparse.ArgumentParser, command: str) -> None:
    """Tell for each argument that takes a value what its values are."""
    from argcomplete.completers import DirectoriesCompleter, FilesCompleter

    for action in all_actions(parser):
        kind = _kind_of(action, command)
        completer: object = None
        if kind == "edition":
            completer = _editions
        elif kind:
            completer = _names(kind)
        elif action.metavar in ("FILE", "NAME|FILE"):
            completer = FilesCompleter()
        elif action.metavar in ("DIR", "FOLDER"):
            completer = DirectoriesCompleter()
        if completer is not None and action.choices is None:
            vars(action)["completer"] = completer


def _kind_of(action: argparse.Action, command: str) -> str:
    """Return what an argument names: a table of the configuration, an edition, or nothing that is known."""
    shown = action.metavar if isinstance(action.metavar, str) else ""
    if action.dest == "edition":
        return "edition"
    if shown == "NAME" and not action.option_strings:
        if command in _NAMED_LIKE_THE_COMMAND:
            return command
        return "" if command in _NO_CERTIFICATE else "certificate"
    return _KINDS.get(shown) or _KINDS_BY_DESTINATION.get(action.dest, "")


def _names(kind: str) -> Callable[..., Sequence[str]]:
    def complete(prefix: str, parsed_args: argparse.Namespace, **_more: Any) -> Sequence[str]:
        from inkstamp.cli.setting import config_file, home_folder
        from inkstamp.home import Home
        from inkstamp.jobs.status.candidates import candidates

        context = Context(parsed_args, "")
        config = config_file(context)
        return candidates(config, Home(home_folder(context, config)), kind, prefix)

    return complete


def _editions(prefix: str, parsed_args: argparse.Namespace, **_more: Any) -> Sequence[str]:
    from inkstamp.cli.setting import config_file, home_folder
    from inkstamp.home import Home
    from inkstamp.jobs.status.candidates import editions

    context = Context(parsed_args, "")
    config = config_file(context)
    named = vars(parsed_args).get("name") or vars(parsed_args).get("certificate") or ""
    certificate = named[0] if isinstance(named, list) and named else named
    return editions(Home(home_folder(context, config)), str(certificate), prefix)
