"""Draw docs/architecture.svg: the rooms by floor, and which imports which, read from the code.

python tools/draw_rooms.py            writes the file
python tools/draw_rooms.py --check    exits 1 when the file is not what the code gives
"""

import ast
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
SOURCE = ROOT / "src" / "inkstamp"
TARGET = ROOT / "docs" / "architecture.svg"
FLOORS = [
    ["cli", "demo", "standins"],
    ["jobs"],
    ["acme", "proof", "servers", "ledger", "renewal"],
    ["config"],
    ["reach", "view"],
    ["pki"],
    ["files", "transport", "bulkhead", "clock", "findings", "errors"],
]
ASIDE = {"config": 880.0, "jobs": 420.0}
"""Rooms that stand aside, so that lines do not hide behind them."""
WIDTH, HEIGHT, BOX, TALL = 1000, 96, 150, 46


def imports() -> dict[str, set[str]]:
    """Return for each room the rooms that it imports from."""
    rooms = {room for floor in FLOORS for room in floor}
    found: dict[str, set[str]] = {room: set() for room in rooms}
    for file in SOURCE.rglob("*.py"):
        room = file.relative_to(SOURCE).parts[0].removesuffix(".py")
        if room not in rooms:
            continue
        for node in ast.walk(ast.parse(file.read_text())):
            if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("inkstamp."):
                other = (node.module or "").split(".")[1]
                if other != room and other in rooms:
                    found[room].add(other)
    return found


def draw() -> str:
    """Return the drawing as SVG."""
    place: dict[str, tuple[float, float]] = {}
    for row, floor in enumerate(FLOORS):
        for column, room in enumerate(floor):
            place[room] = (ASIDE.get(room) or WIDTH * (column + 1) / (len(floor) + 1), 20 + row * HEIGHT)
    lines, boxes = [], []
    base = set(FLOORS[-1])  # everything stands on the ground floor; those lines would tell nothing
    for room, others in sorted(imports().items()):
        for other in sorted(others - base):
            (x1, y1), (x2, y2) = place[room], place[other]
            if y1 == y2:
                side = BOX / 2 if x2 > x1 else -BOX / 2
                middle = y1 + TALL / 2
                ends = f'x1="{x1 + side:.0f}" y1="{middle:.0f}" x2="{x2 - side:.0f}" y2="{middle:.0f}"'
                lines.append(f'<line {ends} marker-end="url(#head)"/>')
                continue
            lines.append(
                f'<line x1="{x1:.0f}" y1="{y1 + TALL:.0f}" x2="{x2:.0f}" y2="{y2:.0f}" marker-end="url(#head)"/>'
            )
    for room, (x, y) in sorted(place.items()):
        boxes.append(
            f'<rect x="{x - BOX / 2:.0f}" y="{y:.0f}" width="{BOX}" height="{TALL}" rx="6"/>'
            f'<text x="{x:.0f}" y="{y + TALL / 2 + 6:.0f}">{room}</text>'
        )
    high = 20 + len(FLOORS) * HEIGHT - HEIGHT + TALL + 20
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDTH} {high}" font-family="sans-serif" '
        'font-size="18" text-anchor="middle">\n<title>The rooms of Ink Stamp and their imports</title>\n'
        '<defs><marker id="head" markerWidth="8" markerHeight="8" refX="7" refY="3" orient="auto">'
        '<path d="M0,0 L7,3 L0,6 z" fill="#5a6b7b"/></marker></defs>\n'
        f'<rect width="{WIDTH}" height="{high}" fill="#fdfdf8"/>\n'
        '<g stroke="#8a9aa8" stroke-width="1.2">\n' + "\n".join(lines) + "\n</g>\n"
        '<g fill="#eef3ef" stroke="#2f4f4f">\n'
        + "\n".join(boxes).replace("<text", '<text fill="#202020" stroke="none"')
        + "\n</g>\n</svg>\n"
    )


if __name__ == "__main__":
    if "--check" in sys.argv:
        sys.exit(0 if TARGET.read_text() == draw() else "docs/architecture.svg is old: run tools/draw_rooms.py")
    TARGET.write_text(draw())
