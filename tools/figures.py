"""Print what can be counted about the house: rooms and lines, circles of imports, functions, docstrings.

python tools/figures.py            prints tables
"""

import ast
import functools
import statistics
import sys
from collections import defaultdict
from collections.abc import Iterator
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
SOURCE = ROOT / "src" / "inkstamp"
FILES = {
    ".".join(("inkstamp", *file.relative_to(SOURCE).with_suffix("").parts)).removesuffix(".__init__"): file
    for file in sorted(SOURCE.rglob("*.py"))
}
Function = ast.FunctionDef | ast.AsyncFunctionDef


@functools.cache
def trees() -> dict[str, ast.Module]:
    """Return the syntax trees of all modules, by their names."""
    return {name: ast.parse(file.read_text()) for name, file in FILES.items()}


def room_of(module: str) -> str:
    """Return the room of a module: the package at the top, or below `jobs`."""
    parts = module.split(".")[1:]
    if parts[:1] == ["jobs"] and len(parts) > 2:
        return f"jobs/{parts[1]}"
    return parts[0] if parts else "inkstamp"


def imports(*, also_late: bool) -> dict[str, set[str]]:
    """Return for each module those that it imports; without what is for types alone."""
    found: dict[str, set[str]] = {name: set() for name in FILES}
    for name, tree in trees().items():
        for_types = [node for node in ast.walk(tree) if isinstance(node, ast.If) and "TYPE_CHECKING" in ast.dump(node)]
        typing = {id(part) for node in for_types for part in ast.walk(node)}
        top = set(map(id, tree.body))
        for node in ast.walk(tree):
            if not isinstance(node, ast.ImportFrom) or id(node) in typing or not (also_late or id(node) in top):
                continue
            for alias in node.names:
                whole = f"{node.module}.{alias.name}"
                target = whole if whole in FILES else node.module or ""
                if target in FILES and target != name:
                    found[name].add(target)
    return found


def circles(graph: dict[str, set[str]]) -> list[list[str]]:
    """Return the strongly connected components with more than one node (Tarjan's algorithm)."""
    index: dict[str, int] = {}
    low: dict[str, int] = {}
    stack: list[str] = []
    found: list[list[str]] = []

    def visit(node: str) -> None:
        index[node] = low[node] = len(index)
        stack.append(node)
        for other in sorted(graph[node]):
            if other not in index:
                visit(other)
                low[node] = min(low[node], low[other])
            elif other in stack:
                low[node] = min(low[node], index[other])
        if low[node] == index[node]:
            part = stack[stack.index(node) :]
            del stack[stack.index(node) :]
            if len(part) > 1:
                found.append(sorted(part))

    sys.setrecursionlimit(5000)
    for node in sorted(graph):
        if node not in index:
            visit(node)
    return found


def of_rooms(graph: dict[str, set[str]]) -> dict[str, set[str]]:
    """Return which room imports from which."""
    found: dict[str, set[str]] = defaultdict(set)
    for module, others in graph.items():
        found[room_of(module)] |= {room_of(each) for each in others} - {room_of(module)}
    return {room: found[room] for room in {*found, *(each for others in found.values() for each in others)}}


def functions() -> Iterator[tuple[str, Function]]:
    """Yield every function with its module."""
    for name, tree in trees().items():
        for node in ast.walk(tree):
            if isinstance(node, Function):
                yield name, node


def takes_the_runtime(function: Function) -> bool:
    """Tell whether a function is handed all parts of a run."""
    arguments = [*function.args.posonlyargs, *function.args.args, *function.args.kwonlyargs]
    return any("Runtime" in ast.unparse(each.annotation) for each in arguments if each.annotation is not None)


def without_docstring() -> list[str]:
    """Return the public functions and classes that say nothing of themselves."""
    return [
        f"{name}.{node.name}"
        for name, tree in trees().items()
        for node in tree.body
        if isinstance(node, ast.ClassDef | Function) and not node.name.startswith("_") and not ast.get_docstring(node)
    ]


def main() -> None:
    lines: dict[str, list[int]] = defaultdict(list)
    for name, file in FILES.items():
        lines[room_of(name)].append(len(file.read_text().splitlines()))
    print(f"{'room':<22} modules  lines")
    for room, counts in sorted(lines.items()):
        if len(counts) > 1:
            print(f"{room:<22} {len(counts):>7}  {sum(counts):>5}")
    lengths = sorted((node.end_lineno or node.lineno) - node.lineno + 1 for _, node in functions())
    handed = sum(takes_the_runtime(node) for _, node in functions())
    print(f"\nfunctions              {len(lengths)}, median {statistics.median(lengths):.0f} lines, "
          f"95th percentile {lengths[len(lengths) * 95 // 100]}")  # fmt: skip
    print(f"handed the runtime   {handed}")
    print(f"without a docstring    {len(without_docstring())}")
    for title, late in (("when loaded", False), ("late ones too", True)):
        for what, graph in (("modules", imports(also_late=late)), ("rooms", of_rooms(imports(also_late=late)))):
            found = circles(graph)
            print(f"circles of {what:<8} {len(found)} ({title})")
            for each in found:
                print(f"    {', '.join(name.removeprefix('inkstamp.') for name in each)}")


if __name__ == "__main__":
    main()
