"""What the program says to type can be typed: every command line in its texts names a command and options that are."""

import argparse
import ast
import importlib
import io
import re
import shlex
from collections.abc import Iterator
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path

import inkstamp
from inkstamp.cli.main import COMMANDS, global_options

SOURCE = Path(inkstamp.__file__).parent
SPOKEN = re.compile(rf"inkstamp ((?:{'|'.join(COMMANDS)})\b[^`\n]*)")
ENDS = re.compile(r"`|;|, (?!\{)| \(|\)|: |\.\s|\.$|,$|   +|, or | tells| shows| then | to open| opens| and ")
STAND_IN = "stand-in.test"
SPOKEN_OF = {"prove --let-through", "prove NAME [options]"}
"""In a remark in a configuration, and in a usage line: nobody is told to type these as they stand."""


def texts(tree: ast.AST) -> Iterator[tuple[int, str]]:
    """Yield all strings that are no docstrings, with what is filled in replaced by a word."""
    documented = {
        id(node.body[0].value)
        for node in ast.walk(tree)
        if isinstance(node, ast.Module | ast.ClassDef | ast.FunctionDef) and node.body
        and isinstance(node.body[0], ast.Expr)
    }  # fmt: skip
    inside = {id(part) for node in ast.walk(tree) if isinstance(node, ast.JoinedStr) for part in ast.walk(node)}
    for node in ast.walk(tree):
        if isinstance(node, ast.JoinedStr):
            pieces = [str(each.value) if isinstance(each, ast.Constant) else STAND_IN for each in node.values]
            yield node.lineno, "".join(pieces)
        elif isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in documented | inside:
            yield node.lineno, node.value


def spoken() -> list[tuple[str, str]]:
    found: dict[str, str] = {}
    for file in sorted(SOURCE.rglob("*.py")):
        if file.parent.name in {"demo", "standins"}:
            continue
        for line, text in texts(ast.parse(file.read_text())):
            for match in SPOKEN.finditer(text):
                command = ENDS.split(match[1])[0].strip(" .,“”")
                found.setdefault(command, f"{file.relative_to(SOURCE)}:{line}")
    return sorted(found.items())


def parser_of(command: str) -> argparse.ArgumentParser:
    module = importlib.import_module(f"inkstamp.cli.{command}")
    made = argparse.ArgumentParser(prog=command, exit_on_error=False, allow_abbrev=False)
    module.configure(made)
    global_options(made, default=argparse.SUPPRESS)
    return made


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
