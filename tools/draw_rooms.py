"""Draw docs/architecture.svg: the rooms in layers, each with its sentence, and what imports what, read from the code.

An arrow is drawn where no longer way of arrows says the same (the transitive reduction), and never through a box.

python tools/draw_rooms.py            writes the file
python tools/draw_rooms.py --check    exits 1 when the file is not what the code gives
"""

import ast
import sys
import textwrap
from collections import Counter
from dataclasses import dataclass
from html import escape
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
SOURCE = ROOT / "src" / "inkstamp"
TARGET = ROOT / "docs" / "architecture.svg"
LAYERS: list[dict[int, str]] = [
    {0: "demo", 2: "cli"},
    {0: "standins", 2: "jobs"},
    {2: "accounts"},
    {0: "acme", 1: "proof", 2: "servers", 3: "ledger", 4: "policy"},
    {2: "config"},
    {1: "reach", 3: "view"},
    {2: "pki"},
]
"""From the top down: what is in which column."""
BASE = (
    "parts, locks, home, progress, files, transport, urls, deadline, bulkhead, ownership, printable, errors, findings, "
    "wording, clock, key_files"
)
"""What every room may import, in a box of its own without arrows."""
COLUMNS, PITCH, BOX, TALL, GAP = 5, 236, 200, 80, 76
"""Boxes side by side; pixels from one to the next, and of a box; pixels between two layers."""
LANE = 6
"""Pixels between two lines that run side by side."""


@dataclass(frozen=True)
class Box:
    """A room, and where it is."""

    name: str
    layer: int
    column: int

    @property
    def x(self) -> int:
        return PITCH // 2 + self.column * PITCH

    @property
    def y(self) -> int:
        return 20 + self.layer * (TALL + GAP)


BOXES = [Box(name, row, column) for row, layer in enumerate(LAYERS) for column, name in layer.items()]
BOX_OF = {box.name: box for box in BOXES}


def sentence(box: Box) -> str:
    """Return the first sentence of a room's docstring."""
    file = SOURCE / box.name / "__init__.py"
    told = ast.get_docstring(ast.parse(file.read_text())) or ""
    return " ".join(told.split("\n\n")[0].split())


def imports() -> dict[Box, set[Box]]:
    """Return for each box those that it imports from."""
    found: dict[Box, set[Box]] = {box: set() for box in BOXES}
    for file in SOURCE.rglob("*.py"):
        mine = BOX_OF.get(file.relative_to(SOURCE).parts[0].removesuffix(".py"))
        for node in ast.walk(ast.parse(file.read_text())):
            if mine is not None and isinstance(node, ast.ImportFrom) and (node.module or "").startswith("inkstamp."):
                other = BOX_OF.get((node.module or "").split(".")[1])
                if other is not None and other != mine:
                    found[mine].add(other)
    return found


def reduced(edges: dict[Box, set[Box]]) -> list[tuple[Box, Box]]:
    """Return the edges that no longer way implies; those within a layer are not drawn, as its rooms are peers."""

    def reached(box: Box) -> set[Box]:
        below = {each for each in edges[box] if each.layer > box.layer}
        return below.union(*(reached(each) for each in below))

    kept = []
    for box, others in edges.items():
        below = {each for each in others if each.layer > box.layer}
        implied: set[Box] = set().union(*(reached(each) for each in below))
        kept += [(box, each) for each in below - implied]
    return sorted(kept, key=lambda each: (each[0].layer, each[0].column, each[1].layer, each[1].column))


def paths(edges: list[tuple[Box, Box]]) -> list[str]:
    """Return each edge as a polyline: into the gap below, down a channel between columns, and in from above."""
    used: Counter[tuple[str, int]] = Counter()

    def lane(kind: str, where: int) -> int:
        used[kind, where] += 1
        number = used[kind, where]
        return LANE * (number // 2) * (1 if number % 2 else -1)

    drawn = []
    for first, last in edges:
        begin = first.x + lane("out", BOXES.index(first))
        end = last.x + lane("in", BOXES.index(last))
        upper = first.y + TALL + GAP // 2 + lane("gap", first.layer)
        points = [(begin, first.y + TALL), (begin, upper)]
        if last.layer > first.layer + 1:
            channel = last.column + (0 if last.x >= first.x and last.column else 1)
            across = channel * PITCH + lane("channel", channel)
            lower = last.y - GAP // 2 + lane("gap", last.layer - 1)
            points += [(across, upper), (across, lower), (end, lower)]
        else:
            points.append((end, upper))
        points.append((end, last.y))
        told = " ".join(f"{x},{y}" for x, y in points)
        drawn.append(f'<polyline points="{told}" marker-end="url(#head)"/>')
    return drawn


def boxes() -> list[str]:
    """Return the boxes with their names and sentences."""
    drawn = []
    for box in BOXES:
        left = box.x - BOX // 2
        drawn.append(f'<rect x="{left}" y="{box.y}" width="{BOX}" height="{TALL}" rx="6"/>')
        drawn.append(f'<text x="{box.x}" y="{box.y + 20}" font-weight="bold" font-size="15">{box.name}</text>')
        drawn += [
            f'<text x="{box.x}" y="{box.y + 37 + 15 * number}" font-size="11.5">{escape(line)}</text>'
            for number, line in enumerate(textwrap.wrap(sentence(box), 30)[:4])
        ]
    base = 20 + len(LAYERS) * (TALL + GAP)
    drawn.append(f'<rect x="18" y="{base}" width="{COLUMNS * PITCH - 36}" height="{TALL // 2}" rx="6"/>')
    told = f"{BASE} (which every room may import)"
    drawn.append(f'<text x="{COLUMNS * PITCH // 2}" y="{base + TALL // 4 + 5}" font-size="13">{told}</text>')
    return drawn


def draw() -> str:
    """Return the drawing as SVG."""
    wide, high = COLUMNS * PITCH, 20 + len(LAYERS) * (TALL + GAP) + TALL // 2 + 20
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {wide} {high}" font-family="sans-serif" '
        'text-anchor="middle">\n<title>The rooms of Ink Stamp and their imports</title>\n'
        '<defs><marker id="head" markerWidth="8" markerHeight="8" refX="7" refY="3" orient="auto">'
        '<path d="M0,0 L7,3 L0,6 z" fill="#5a6b7b"/></marker></defs>\n'
        f'<rect width="{wide}" height="{high}" fill="#fdfdf8"/>\n'
        '<g stroke="#8a9aa8" stroke-width="1.3" fill="none">\n' + "\n".join(paths(reduced(imports()))) + "\n</g>\n"
        '<g fill="#eef3ef" stroke="#2f4f4f">\n'
        + "\n".join(boxes()).replace("<text", '<text fill="#202020" stroke="none"')
        + "\n</g>\n</svg>\n"
    )


if __name__ == "__main__":
    if "--check" in sys.argv:
        sys.exit(0 if TARGET.read_text() == draw() else "docs/architecture.svg is old: run tools/draw_rooms.py")
    TARGET.write_text(draw())
