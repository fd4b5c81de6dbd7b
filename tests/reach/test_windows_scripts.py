"""The scripts for PowerShell: each is read by a grammar of the language, and calls what it says it calls alone."""

import re
from collections.abc import Iterator
from pathlib import Path

import pytest
import tree_sitter
import tree_sitter_powershell

import inkstamp.reach.windows

FOLDER = Path(inkstamp.reach.windows.__file__).parent
SCRIPTS = sorted(FOLDER.glob("*.ps1"))
OPERATIONS = [each for each in SCRIPTS if each.stem not in {"prologue", "epilogue"}]
PARSER = tree_sitter.Parser(tree_sitter.Language(tree_sitter_powershell.language()))


def nodes(text: bytes) -> Iterator[tree_sitter.Node]:
    waiting = [PARSER.parse(text).root_node]
    while waiting:
        node = waiting.pop()
        yield node
        waiting += node.children


def broken(text: bytes) -> list[int]:
    return [node.start_point[0] + 1 for node in nodes(text) if node.type == "ERROR" or node.is_missing]


@pytest.mark.parametrize("script", SCRIPTS, ids=lambda each: each.stem)
def test_a_script_is_powershell_in_ascii_and_so_is_what_is_sent_with_it(script: Path) -> None:
    text = script.read_bytes()
    assert text.isascii()
    assert broken(text) == []
    whole = b"\n".join((FOLDER / f"{each}.ps1").read_bytes() for each in ("prologue", script.stem, "epilogue"))
    assert script not in OPERATIONS or broken(whole) == []


@pytest.mark.parametrize("name", ["remote_desktop", "management_port"])
def test_the_examples_are_powershell_too(name: str) -> None:
    text = (Path(__file__).parents[2] / "examples" / f"{name}.ps1").read_bytes()
    assert text.isascii()
    assert broken(text) == []


def test_the_grammar_tells_a_broken_script() -> None:
    text = (FOLDER / "change.ps1").read_bytes()
    assert broken(text.replace(b"{", b"", 1).replace(b"if (", b"if [", 1))


@pytest.mark.parametrize("script", OPERATIONS, ids=lambda each: each.stem)
def test_a_script_calls_the_cmdlets_of_its_heading_and_its_own_functions_alone(script: Path) -> None:
    text = script.read_text()
    heading = re.search(r"# cmdlets:((?:.*\n#   )*.*)", text)
    assert heading is not None
    listed = set(re.findall(r"[A-Z][A-Za-z]+-[A-Za-z]+", heading[1]))
    called = {node.text.decode() for node in nodes(text.encode()) if node.type == "command_name" and node.text}
    own = set(re.findall(r"^function ([A-Za-z-]+)", text, re.MULTILINE))
    assert called - own == listed
    assert "Invoke-Request" in own
    assert not called & {"Invoke-Expression", "iex", "Start-Process", "Add-Type"}


@pytest.mark.parametrize("script", OPERATIONS, ids=lambda each: each.stem)
def test_a_script_says_what_it_is_asked_and_what_it_answers(script: Path) -> None:
    text = script.read_text()
    assert text.startswith(f"# operation: {script.stem}\n# request:   {{")
    assert "\n# answer:    {" in text
    given = set(re.findall(r"\$Request\.([a-z_0-9]+)", text))
    told = text.partition("# answer:")[0]
    assert given
    assert all(f'"{each}"' in told for each in given)
