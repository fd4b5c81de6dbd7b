"""What the program says: all strings in its source that are no docstrings, and its help pages."""

import argparse
import ast
import functools
import importlib
from collections.abc import Iterator
from pathlib import Path

import inkstamp
from inkstamp.cli.context import global_options
from inkstamp.cli.main import COMMANDS

SOURCE = Path(inkstamp.__file__).parent
STAND_IN = "stand-in.test"
"""In the place of what is filled in."""


def texts(tree: ast.AST) -> Iterator[tuple[int, str]]:
    """Yield all strings that are no docstrings, each with its line."""
    documented = {
        id(node.body[0].value)
        for node in ast.walk(tree)
        if isinstance(node, ast.Module | ast.ClassDef | ast.FunctionDef) and node.body
        and isinstance(node.body[0], ast.Expr)
    }  # fmt: skip
    documented |= {id(node.value) for node in ast.walk(tree) if isinstance(node, ast.Expr)}  # of attributes
    inside = {id(part) for node in ast.walk(tree) if isinstance(node, ast.JoinedStr) for part in ast.walk(node)}
    for node in ast.walk(tree):
        if isinstance(node, ast.JoinedStr):
            pieces = [str(each.value) if isinstance(each, ast.Constant) else STAND_IN for each in node.values]
            yield node.lineno, "".join(pieces)
        elif isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in documented | inside:
            yield node.lineno, node.value


@functools.cache
def messages() -> tuple[tuple[str, str], ...]:
    """Return each string of the program (the demo's and the stand-ins' apart) with its file and line."""
    return tuple(_messages())


def _messages() -> Iterator[tuple[str, str]]:
    for file in sorted(SOURCE.rglob("*.py")):
        if file.parent.name not in {"demo", "standins"}:
            for line, text in texts(ast.parse(file.read_text())):
                yield f"{file.relative_to(SOURCE)}:{line}", text
    for kind in ("*.jinja", "*.sh", "*.toml"):
        for file in sorted(SOURCE.rglob(kind)):
            for number, text in enumerate(file.read_text().splitlines(), 1):
                if not text.lstrip().startswith("#"):
                    yield f"{file.relative_to(SOURCE)}:{number}", text


def parser_of(command: str) -> argparse.ArgumentParser:
    """Return the parser of a command, with the options that all have."""
    module = importlib.import_module(f"inkstamp.cli.{command}")
    made = argparse.ArgumentParser(
        prog=f"inkstamp {command}", description=module.__doc__, exit_on_error=False, allow_abbrev=False,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )  # fmt: skip
    module.configure(made)
    global_options(made, default=argparse.SUPPRESS)
    return made


def parsers() -> Iterator[argparse.ArgumentParser]:
    """Yield the parsers of all commands and of their actions."""
    for command in COMMANDS:
        parser = parser_of(command)
        yield parser
        for action in parser._actions:
            if isinstance(action, argparse._SubParsersAction):
                yield from action.choices.values()
