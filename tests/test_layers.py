"""The house: imports go one way, the core prints nothing, every error is ours, help loads next to nothing."""

import ast
import functools
import importlib
import inspect
import pkgutil
import subprocess
import sys
from pathlib import Path

import figures
import pytest

import inkstamp
from inkstamp.errors import InkStampError

SOURCE = Path(inkstamp.__file__).parent
FLOORS = [
    {"cli", "__main__"},
    {"demo"},
    {"jobs/renewal"},
    {"runtime"},
    {"jobs/enrolment"},
    {"jobs/lifecycle"},
    {"jobs/portal"},
    {"jobs/orders", "jobs/deployment", "jobs/checks", "jobs/notification"},
    {"jobs/validation", "jobs/issuance", "jobs/status"},
    {"jobs/inventory", "jobs/fleet", "jobs/backups"},
    {"accounts"},
    {"parts"},
    {"certificates"},
    {"acme", "proof", "servers", "policy", "ledger"},
    {"config"},
    {"reach", "view", "key_files"},
    {"locks", "pki", "home", "progress"},
    {"kept_connections"},
    {"files", "transport"},
    {"bulkhead", "ownership", "urls"},
    {"deadline", "errors", "printable"},
    {"clock", "decoding", "findings", "garbage", "wording"},
    {"severity"},
]
"""From the top down: a room imports from its own and from lower floors; those of `jobs` never from their neighbours."""
LEVEL = {room: number for number, rooms in enumerate(FLOORS) for room in rooms}
MODULES = sorted(SOURCE.rglob("*.py"))


def room_of(dotted: str) -> str:
    _, *parts = dotted.split(".")
    if parts[:1] == ["jobs"] and len(parts) > 1 and f"jobs/{parts[1]}" in LEVEL:
        return f"jobs/{parts[1]}"
    return parts[0] if parts else "__main__"


@functools.cache
def tree_of(file: Path) -> ast.Module:
    return ast.parse(file.read_text())


def imported(tree: ast.AST) -> set[str]:
    found = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.ImportFrom) and node.module and node.module.startswith("inkstamp."):
            found |= {room_of(f"{node.module}.{alias.name}") for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module == "inkstamp":
            found |= {alias.name for alias in node.names if alias.name in LEVEL}
        elif isinstance(node, ast.Import):
            found |= {room_of(alias.name) for alias in node.names if alias.name.startswith("inkstamp.")}
    return found


@pytest.mark.parametrize("file", MODULES, ids=lambda file: str(file.relative_to(SOURCE)))
def test_imports_go_downwards_and_only_the_command_line_prints(file: Path) -> None:
    tree = tree_of(file)
    dotted = ".".join(("inkstamp", *file.relative_to(SOURCE).with_suffix("").parts))
    room = room_of(dotted)
    if room not in {"standins", "__init__"}:
        for other in imported(tree) - {room}:
            assert other != "standins" or room == "demo", f"{file} imports the simulated world"
            assert other == "standins" or LEVEL[other] >= LEVEL[room], f"{file} imports upwards, from {other}"
            beside = room.startswith("jobs/") and other != "standins" and LEVEL[other] == LEVEL[room]
            assert not beside, f"{file} imports from the room beside it, {other}"
    if room not in {"cli", "__init__"}:
        for node in ast.walk(tree):
            name = getattr(getattr(node, "func", None), "id", None)
            assert name not in {"print", "input", "exit"}, f"{file} line {getattr(node, 'lineno', '?')} calls {name}"


def test_no_module_imports_itself_by_any_way_not_even_late() -> None:
    graph = figures.imports(also_late=True)
    assert figures.circles(graph) == []
    assert figures.circles(figures.of_rooms(graph)) == []


def test_no_two_classes_share_a_name_but_what_each_kind_of_server_has() -> None:
    places: dict[str, list[str]] = {}
    for module, tree in figures.trees().items():
        if figures.room_of(module) not in {"standins", "servers"}:
            for node in tree.body:
                if isinstance(node, ast.ClassDef) and not node.name.startswith("_"):
                    places.setdefault(node.name, []).append(module)
    assert {name: found for name, found in places.items() if len(found) > 1} == {}


def test_modules_stay_short() -> None:
    long = {str(file): count for file in MODULES if (count := len(file.read_text().splitlines())) > 400}
    assert long == {}


_WORDS = {"what", "where", "said", "advice", "findings", "step", "names", "lasting", "refused", "not_made"}


def test_no_error_is_changed_once_it_was_caught_since_others_may_hold_it() -> None:
    changed = [
        f"{file} line {node.lineno}: {handler.name}.{node.attr}"
        for file in MODULES
        for handler in ast.walk(tree_of(file))
        if isinstance(handler, ast.ExceptHandler)
        for node in ast.walk(handler)
        if isinstance(node, ast.Attribute) and isinstance(node.ctx, ast.Store) and node.attr in _WORDS
        and isinstance(node.value, ast.Name) and node.value.id == handler.name
    ]  # fmt: skip
    assert changed == []


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
            ["urllib3", "dns", "OpenSSL", "sqlite3", "tomllib"],
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


def test_the_parsers_need_the_standard_library_alone_since_the_build_and_the_tab_key_read_them() -> None:
    script = (
        "import sys, importlib\nfrom inkstamp.cli.main import COMMANDS\n"
        "for each in COMMANDS: importlib.import_module(f'inkstamp.cli.{each.replace(chr(45), chr(95))}')\n"
        "known = sys.stdlib_module_names | {'inkstamp', '__main__'}\n"
        "print({name.partition('.')[0] for name in sys.modules if not name.startswith('_')} - known)"
    )
    plain = [sys.executable, "-S", "-c", f"import sys; sys.path.insert(0, {str(SOURCE.parent)!r})\n{script}"]
    done = subprocess.run(plain, capture_output=True, text=True, check=False)
    assert (done.stdout, done.stderr) == ("set()\n", "")


@pytest.mark.parametrize("tool", ["draw_rooms.py", "draw_states.py"])
def test_the_drawings_in_the_documents_are_those_that_the_code_gives(tool: str) -> None:
    script = Path(__file__).resolve().parent.parent / "tools" / tool
    done = subprocess.run([sys.executable, str(script), "--check"], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr


def test_the_configuration_guide_names_every_key_and_the_json_guide_every_kind_of_error() -> None:
    from inkstamp import errors
    from inkstamp.config import recipe, section

    docs = Path(__file__).resolve().parent.parent / "docs"
    guide = (docs / "configuration.md").read_text()
    recipes = (docs / "recipes.md").read_text()
    for base, text in ((section.Section, guide), (recipe.RecipeTable, recipes)):
        for table in base.__subclasses__():
            for key in table.__struct_fields__ if table.__name__ != "Configuration" else ():
                assert f"`{key}`" in text, key
    told = (docs / "json.md").read_text()
    for name, kind in inspect.getmembers(errors, inspect.isclass):
        if issubclass(kind, InkStampError) and kind is not InkStampError:
            assert f"`{name}`" in told, name


def _face(room: str) -> set[str]:
    return set(importlib.import_module(f"inkstamp.{room.replace('/', '.')}").FACE)


def test_what_a_room_of_jobs_hands_on_is_its_face_and_other_rooms_take_nothing_else() -> None:
    taken: dict[str, set[str]] = {}
    for module, tree in figures.trees().items():
        for node in ast.walk(tree):
            parts = (node.module or "").split(".")[1:] if isinstance(node, ast.ImportFrom) else []
            depth = {"jobs": 2, "accounts": 1}.get(parts[0] if parts else "", 0)
            room = "/".join(parts[:depth])
            if isinstance(node, ast.ImportFrom) and depth and figures.room_of(module) != room:
                taken.setdefault(room, set()).update(".".join((*parts[depth:], each.name)) for each in node.names)
    rooms = {room for room in LEVEL if room.startswith("jobs/")} | {"accounts"}
    assert {room: _face(room) for room in rooms} == {room: taken.get(room, set()) for room in rooms}


def test_no_two_modules_share_a_name_but_where_each_room_has_one_and_a_command_its_job() -> None:
    places: dict[str, list[str]] = {}
    for module in figures.FILES:
        *rooms, name = module.split(".")[1:] or [""]
        if rooms and rooms[0] not in {"cli", "standins"} and not (rooms[0] == "servers" and len(rooms) > 1):
            places.setdefault(name, []).append(module)
    assert {name for name, found in places.items() if len(found) > 1} <= {"context", "interface", "pool"}
