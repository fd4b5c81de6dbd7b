"""The house: imports go one way, the core prints nothing, every error is ours, help loads next to nothing."""

import ast
import importlib
import inspect
import pkgutil
import subprocess
import sys
from pathlib import Path

import pytest

import inkstamp
from inkstamp.errors import InkStampError

SOURCE = Path(inkstamp.__file__).parent
FLOORS = [
    {"cli", "__main__"},
    {"demo"},
    {"jobs"},
    {"acme", "proof", "servers", "policy", "ledger"},
    {"config"},
    {"reach", "view"},
    {"pki"},
    {"files", "transport"},
    {"bulkhead", "ownership", "urls"},
    {"deadline", "errors", "printable"},
    {"clock", "findings", "wording"},
]
"""From the top down: a room imports from its own and from lower floors."""
LEVEL = {room: number for number, rooms in enumerate(FLOORS) for room in rooms}
MODULES = sorted(SOURCE.rglob("*.py"))


def room_of(dotted: str) -> str:
    return dotted.split(".")[1] if "." in dotted else "__main__"


def imported(tree: ast.AST) -> set[str]:
    found = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.ImportFrom) and node.module and node.module.startswith("inkstamp."):
            found.add(room_of(node.module))
        elif isinstance(node, ast.ImportFrom) and node.module == "inkstamp":
            found |= {alias.name for alias in node.names if alias.name in LEVEL}
        elif isinstance(node, ast.Import):
            found |= {room_of(alias.name) for alias in node.names if alias.name.startswith("inkstamp.")}
    return found


@pytest.mark.parametrize("file", MODULES, ids=lambda file: str(file.relative_to(SOURCE)))
def test_imports_go_downwards_and_only_the_command_line_prints(file: Path) -> None:
    tree = ast.parse(file.read_text())
    room = file.relative_to(SOURCE).parts[0].removesuffix(".py")
    if room not in {"standins", "__init__"}:
        for other in imported(tree):
            assert other != "standins" or room == "demo", f"{file} imports the simulated world"
            assert other == "standins" or LEVEL[other] >= LEVEL[room], f"{file} imports upwards, from {other}"
    if room not in {"cli", "__init__"}:
        for node in ast.walk(tree):
            name = getattr(getattr(node, "func", None), "id", None)
            assert name not in {"print", "input", "exit"}, f"{file} line {getattr(node, 'lineno', '?')} calls {name}"


def test_modules_stay_short() -> None:
    long = {str(file): count for file in MODULES if (count := len(file.read_text().splitlines())) > 400}
    assert long == {}


def test_every_exception_that_is_raised_descends_from_one_root() -> None:
    for found in pkgutil.walk_packages(inkstamp.__path__, "inkstamp."):
        if "standins" in found.name or found.name.endswith("__main__"):
            continue
        module = importlib.import_module(found.name)
        for _, kind in inspect.getmembers(module, inspect.isclass):
            if issubclass(kind, BaseException) and kind.__module__.startswith("inkstamp."):
                assert issubclass(kind, InkStampError), kind


@pytest.mark.parametrize(
    ("arguments", "absent"),
    [
        (["--help"], ["sqlite3", "cryptography", "urllib3", "dns", "msgspec", "tomllib", "json"]),
        (["status", "--help"], ["sqlite3", "cryptography", "urllib3", "dns"]),
        (["--config", "/nowhere/x.toml", "status"], ["urllib3", "dns", "OpenSSL", "cryptography"]),
        (
            ["--config", "/nowhere/x.toml", "csr", "show", "/nowhere/r.csr"],
            ["urllib3", "dns", "OpenSSL", "sqlite3", "msgspec", "tomllib"],
        ),
    ],
    ids=["help", "help of one", "a command", "a request"],
)
def test_a_command_loads_only_what_it_needs(arguments: list[str], absent: list[str]) -> None:
    script = (
        "import sys; from inkstamp.cli.main import run\n"
        f"run({arguments!r}); sys.stderr.write('LOADED ' + ' '.join(sys.modules))"
    )
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=True)
    loaded = set(done.stderr.partition("LOADED ")[2].split())
    assert [name for name in absent if name in loaded] == []


@pytest.mark.parametrize("tool", ["draw_rooms.py", "draw_states.py"])
def test_the_drawings_in_the_documents_are_those_that_the_code_gives(tool: str) -> None:
    script = Path(__file__).resolve().parent.parent / "tools" / tool
    done = subprocess.run([sys.executable, str(script), "--check"], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr


def test_the_configuration_guide_names_every_key_and_the_json_guide_every_kind_of_error() -> None:
    from inkstamp import errors
    from inkstamp.config import model

    docs = Path(__file__).resolve().parent.parent / "docs"
    guide = (docs / "configuration.md").read_text()
    for section in set(model.Section.__subclasses__()) - {model.Configuration}:
        for key in section.__struct_fields__:
            assert f"`{key}`" in guide, key
    told = (docs / "json.md").read_text()
    for name, kind in inspect.getmembers(errors, inspect.isclass):
        if issubclass(kind, InkStampError) and kind is not InkStampError:
            assert f"`{name}`" in told, name
