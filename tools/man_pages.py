"""Write the manual pages, one for each command, from the same parsers that `--help` prints.

python tools/man_pages.py FOLDER      writes inkstamp.1, inkstamp-stamp.1 and so on into FOLDER

The build of a wheel calls it (`hatch_build.py`); the parsers load nothing that is not in the standard library.
"""

import argparse
import importlib
import re
import sys
import textwrap
from collections.abc import Iterator
from pathlib import Path

from argparse_manpage.manpage import Manpage

ROOT = Path(__file__).resolve().parent.parent
_INDENTED = re.compile(r"(?:^  .*\n|^\n(?=  ))+", re.MULTILINE)
_USAGE = re.compile(r"^usage: (.*\n(?:[ \t]+\S.*\n)*)", re.MULTILINE)
_ABOUT = {
    "project_name": "Ink Stamp",
    "manual_title": "Ink Stamp manual",
}


def write_pages(folder: Path) -> list[Path]:
    """Write all pages into a folder; returns the files, sorted by name."""
    from inkstamp import __version__
    from inkstamp.cli.main import COMMANDS, command_parser, front_parser

    folder.mkdir(parents=True, exist_ok=True)
    pages = {"inkstamp": page(front_parser(), "inkstamp", "orders, installs and renews certificates", __version__)}
    for name, summary in COMMANDS.items():
        parser = command_parser(name, importlib.import_module(f"inkstamp.cli.{name}"))
        pages[f"inkstamp-{name}"] = page(parser, f"inkstamp-{name}", summary, __version__)
    written = []
    for name, text in sorted(pages.items()):
        written.append(folder / f"{name}.1")
        written[-1].write_text(text, encoding="utf-8")
    return written


def page(parser: argparse.ArgumentParser, name: str, summary: str, version: str) -> str:
    """Return one page as roff (man(7))."""
    _say_global_options_once(parser)
    made = Manpage(parser, {**_ABOUT, "version": version, "description": summary})
    made.prog = name
    made.date = ""  # the same sources make the same page on any day
    text = _USAGE.sub(lambda found: " ".join(found.group(1).split()).replace(" [\\-h]", "") + "\n", str(made))
    text = text.replace(" [-h]", "").replace(".SH COMMENTS\n", ".SH NOTES\n")
    head, body = text.split("\n", 1)
    return f"{head}\n.ad l\n.nh\n{_INDENTED.sub(_as_it_stands, body)}{_see_also(name)}"


def _say_global_options_once(parser: argparse.ArgumentParser) -> None:
    """Leave the options that every command takes out of the descriptions of its actions."""
    for inner in _actions_of(parser):
        _say_global_options_once(inner)
        inner._action_groups = [each for each in inner._action_groups if each.title != "everywhere"]


def _actions_of(parser: argparse.ArgumentParser) -> Iterator[argparse.ArgumentParser]:
    for action in parser._actions:
        if isinstance(action, argparse._SubParsersAction):
            yield from action.choices.values()


def _as_it_stands(found: re.Match[str]) -> str:
    """Have indented lines (examples, lists) stay lines, with four columns before them."""
    lines = textwrap.dedent(found.group().strip("\n")).split("\n")
    # A line must not begin with what roff takes for a request.
    lines = [f"\\&{line}" if line.startswith((".", "'")) else line for line in lines]
    return "\n".join([".PP", ".in 4n", ".nf", *lines, ".fi", ".in", ""])


def _see_also(name: str) -> str:
    other = "inkstamp \\fBhelp\\fR \\fICOMMAND\\fR prints the same." if name == "inkstamp" else "\\fBinkstamp\\fR(1)"
    return f".SH SEE ALSO\n{other}\n"


if __name__ == "__main__":
    sys.path.insert(0, str(ROOT / "src"))
    for each in write_pages(Path(sys.argv[1])):
        print(each)
