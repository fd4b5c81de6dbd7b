"""What the program says to type can be typed: every command line in its texts names a command and options that are."""

import argparse
import io
import re
import shlex
from contextlib import redirect_stderr, redirect_stdout

from spoken import messages, parser_of

from inkstamp.cli.main import COMMANDS

SPOKEN = re.compile(rf"inkstamp ((?:{'|'.join(COMMANDS)})\b[^`\n]*)")
ENDS = re.compile(r"`|;|, (?!\{)| \(|\)|: |\.\s|\.$|,$|   +|, or | tells| shows| then | to open| opens| and ")
SPOKEN_OF = {"prove --let-through", "prove --standing", "prove NAME [options]"}
"""In a remark in a configuration, and in a usage line: nobody is told to type these as they stand."""


def spoken() -> list[tuple[str, str]]:
    found: dict[str, str] = {}
    for where, text in messages():
        for match in SPOKEN.finditer(text):
            found.setdefault(ENDS.split(match[1])[0].strip(" .,“”"), where)
    return sorted(found.items())


def trouble_with(line: str) -> str:
    """Say why a command line would be refused; empty where it would not."""
    command, *arguments = [each for each in shlex.split(line) if each != "…"]
    arguments = [each.replace("…", "") for each in arguments]
    said = io.StringIO()
    try:
        with redirect_stderr(said), redirect_stdout(said):
            parser_of(command).parse_args(arguments)
    except argparse.ArgumentError as error:
        return str(error)
    except SystemExit as ended:
        # A command that is only spoken of may lack what it is about; one with options is to be typed as it stands.
        mentioned = not any(each.startswith("-") for each in arguments) and "are required" in said.getvalue()
        return "" if mentioned or not ended.code else said.getvalue()
    return ""


def test_what_is_said_to_be_typed_can_be_typed() -> None:
    lines = spoken()
    assert len(lines) > 40
    told = {f"{where}: inkstamp {line}": trouble_with(line) for line, where in lines if line not in SPOKEN_OF}
    assert {line: trouble for line, trouble in told.items() if trouble} == {}
