"""Passphrases: from a file of mode 0600, or asked without echo; never from the command line."""

import argparse
import sys
from pathlib import Path

_MOST = 1024


def options(parser: argparse.ArgumentParser, what: str) -> None:
    """Declare the two ways to give the passphrase of `what`."""
    which = parser.add_mutually_exclusive_group()
    which.add_argument(
        "--passphrase-file", metavar="FILE", help=f"file whose first line is the passphrase of {what} (mode 0600)"
    )
    which.add_argument("--ask-passphrase", action="store_true", help="ask for the passphrase on the terminal")


def given(options: argparse.Namespace, what: str, *, new: bool) -> bytes | None:
    """Return the passphrase that the options lead to, None when they ask for none.

    Args:
        options: With `passphrase_file` and `ask_passphrase`.
        what: What it opens or closes, for the question.
        new: Whether it is being chosen, so that it is asked for twice and must not be empty.

    """
    from inkstamp.errors import UsageError

    if options.passphrase_file:
        from inkstamp.files import read_secret

        found = read_secret(Path(options.passphrase_file)).split(b"\n", 1)[0].rstrip(b"\r")
        if not 0 < len(found) <= _MOST:
            raise UsageError(
                "the passphrase file has no passphrase in its first line",
                where=options.passphrase_file,
                advice="write the passphrase into the first line",
            )
        return found
    if options.ask_passphrase:
        if not sys.stdin.isatty():
            raise UsageError("there is no terminal to ask for the passphrase on", advice="use --passphrase-file")
        return ask(what, new=new)
    return None


def ask(what: str, *, new: bool) -> bytes:
    """Ask on the terminal, without echo."""
    from getpass import getpass

    from inkstamp.cli.output import clean
    from inkstamp.errors import UsageError

    found = getpass(f"passphrase of {clean(what)}: ").encode("utf-8")
    if not found and new:
        raise UsageError("an empty passphrase protects nothing", advice="run the command again and type one")
    if new and getpass("the same once more: ").encode("utf-8") != found:
        raise UsageError("the two passphrases differ", advice="run the command again")
    return found
