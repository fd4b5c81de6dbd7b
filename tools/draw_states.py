"""Draw docs/orders.svg: the life of an order, at the CA and in the ledger, with the event of each move.

The moves are those of the tables that the code goes by; one without an event, or an event without a move, is an error.

python tools/draw_states.py            writes the file
python tools/draw_states.py --check    exits 1 when the file is not what the tables give
"""

import sys
from collections.abc import Mapping
from html import escape
from pathlib import Path

from inkstamp.acme.order_states import MOVES
from inkstamp.ledger.records import ORDER_MOVES

TARGET = Path(__file__).resolve().parent.parent / "docs" / "orders.svg"
WIDTH, BOX, TALL = 1120, 116, 40
Events = Mapping[tuple[str, str], tuple[str, float]]
"""For each move its event, and where along the line that is written, from 0 to 1."""
Places = Mapping[str, tuple[int, int]]

AT_CA: Places = {"pending": (130, 60), "ready": (410, 60), "processing": (700, 60), "valid": (990, 60),
                 "invalid": (560, 200)}  # fmt: skip
CA_EVENTS: Events = {
    ("pending", "ready"): ("all authorizations valid", 0.5),
    ("ready", "processing"): ("finalize (CSR)", 0.5),
    ("processing", "valid"): ("certificate issued", 0.5),
    ("pending", "invalid"): ("a validation failed, or expired", 0.5),
    ("ready", "invalid"): ("expired", 0.5),
    ("processing", "invalid"): ("issuance failed", 0.5),
    ("valid", "invalid"): ("withdrawn by the CA", 0.5),
}
SEEN = {("pending", "processing"), ("pending", "valid"), ("ready", "valid")}
"""Moves that a client sees which polls and misses what lies between."""
IN_LEDGER: Places = {
    "waiting": (500, 40), "intended": (130, 190), "opened": (410, 190), "finalizing": (700, 190), "issued": (990, 190),
    "refused": (330, 370), "dropped": (650, 370),
}  # fmt: skip
LEDGER_EVENTS: Events = {
    ("intended", "opened"): ("newOrder accepted", 0.5),
    ("intended", "waiting"): ("CSR shown for the portal", 0.5),
    ("intended", "refused"): ("newOrder refused", 0.45),
    ("intended", "dropped"): ("cancelled", 0.3),
    ("opened", "finalizing"): ("CSR sent", 0.5),
    ("opened", "issued"): ("found issued after a kill", 0.45),
    ("opened", "refused"): ("validation failed", 0.62),
    ("opened", "dropped"): ("cancelled, expired", 0.6),
    ("finalizing", "issued"): ("certificate stored", 0.5),
    ("finalizing", "refused"): ("CSR rejected", 0.78),
    ("finalizing", "dropped"): ("cancelled", 0.4),
    ("waiting", "issued"): ("certificate imported", 0.35),
    ("waiting", "dropped"): ("cancelled", 0.22),
}


def check(moves: Mapping[str, frozenset[str]], events: Events, besides: set[tuple[str, str]]) -> None:
    """Raise ValueError when the events are not those of the table."""
    known = {(str(state), str(after)) for state, others in moves.items() for after in others if after != state}
    if known != set(events) | besides:
        raise ValueError(f"events and moves differ: {sorted(known ^ (set(events) | besides))}")


def drawn(places: Places, events: Events, top: int, heading: str) -> list[str]:
    """Draw one table below `top`: arrows first, then boxes and words over them."""
    lines, words, boxes = [], [], []
    for (first, last), (event, along) in events.items():
        (x1, y1), (x2, y2) = _rim(places, first, last, top), _rim(places, last, first, top)
        high = -46 if (first, last) == ("opened", "issued") else 0
        middle = f"{(x1 + x2) / 2:.0f},{(y1 + y2) / 2 + 2 * high:.0f}"
        lines.append(f'<path d="M{x1:.0f},{y1:.0f} Q{middle} {x2:.0f},{y2:.0f}" marker-end="url(#head)"/>')
        x, y = x1 + (x2 - x1) * along, y1 + (y2 - y1) * along + high
        wide = 6.4 * len(event) + 6
        words.append(
            f'<rect x="{x - wide / 2:.0f}" y="{y - 17:.0f}" width="{wide:.0f}" height="16" fill="#fdfdf8"/>'
            f'<text x="{x:.0f}" y="{y - 5:.0f}" font-size="12">{escape(event)}</text>'
        )
    ends = {last for _, last in events} - {first for first, _ in events}
    for name, (x, y) in places.items():
        boxes.append(
            f'<rect x="{x - BOX / 2:.0f}" y="{top + y - TALL / 2:.0f}" width="{BOX}" height="{TALL}" rx="6" '
            f'fill="#eef3ef" stroke="#2f4f4f" stroke-width="{3 if name in ends else 1.2}"/>'
            f'<text x="{x}" y="{top + y + 5}">{name}</text>'
        )
    title = f'<text x="20" y="{top}" text-anchor="start" font-weight="bold">{escape(heading)}</text>'
    return [title, '<g fill="none" stroke="#5a6b7b" stroke-width="1.2">', *lines, "</g>", *words, *boxes]


def _rim(places: Places, name: str, towards: str, top: int) -> tuple[float, float]:
    """Return where the line to another state leaves a state's box."""
    (x, y), (to_x, to_y) = places[name], places[towards]
    if (name, towards) in {("opened", "issued"), ("issued", "opened")}:
        return x + (30 if name == "opened" else -30), top + y - TALL / 2
    across, down = to_x - x, to_y - y
    share = min(BOX / 2 / abs(across) if across else 9, TALL / 2 / abs(down) if down else 9)
    return x + across * share, top + y + down * share


def draw() -> str:
    """Return the drawing as SVG."""
    check({str(k): frozenset(map(str, v)) for k, v in MOVES.items()}, CA_EVENTS, SEEN)
    check({str(k): frozenset(map(str, v)) for k, v in ORDER_MOVES.items()}, LEDGER_EVENTS, set())
    parts = drawn(AT_CA, CA_EVENTS, 30, "At the CA (RFC 8555 section 7.1.6); a client that polls may miss states")
    parts += drawn(IN_LEDGER, LEDGER_EVENTS, 300, "In the ledger, written before the next request to the outside")
    high = 300 + 410
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDTH} {high}" font-family="sans-serif" '
        'font-size="15" text-anchor="middle" fill="#202020">\n<title>The life of an order</title>\n'
        '<defs><marker id="head" markerWidth="8" markerHeight="8" refX="7" refY="3" orient="auto">'
        '<path d="M0,0 L7,3 L0,6 z" fill="#5a6b7b"/></marker></defs>\n'
        f'<rect width="{WIDTH}" height="{high}" fill="#fdfdf8"/>\n' + "\n".join(parts) + "\n</svg>\n"
    )


if __name__ == "__main__":
    if "--check" in sys.argv:
        sys.exit(0 if TARGET.read_text() == draw() else "docs/orders.svg is old: run tools/draw_states.py")
    TARGET.write_text(draw())
