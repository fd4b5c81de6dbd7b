"""Draw docs/orders.svg: the life of an order, at the CA and with us, from the very tables that the code goes by.

python tools/draw_states.py            writes the file
python tools/draw_states.py --check    exits 1 when the file is not what the tables give
"""

import sys
from collections.abc import Mapping
from enum import StrEnum
from pathlib import Path
from typing import TypeVar

from inkstamp.acme.orders import MOVES
from inkstamp.ledger.records import ORDER_MOVES

TARGET = Path(__file__).resolve().parent.parent / "docs" / "orders.svg"
State = TypeVar("State", bound=StrEnum)
WIDTH, BOX, TALL = 1000, 112, 40
_STEP = 34
"""Pixels that a curve rises for each state that it passes over."""


def row(moves: Mapping[State, frozenset[State]], top: int, heading: str) -> list[str]:
    """Draw one table: its states from left to right, moves as curves over them, ends with a thick rim."""
    states = list(moves)
    gap = WIDTH / len(states)
    middle = {state: gap * (number + 0.5) for number, state in enumerate(states)}
    parts = [f'<text x="20" y="{top}" text-anchor="start" font-weight="bold">{heading}</text>']
    base = top + _STEP * (len(states) - 1) + 30
    for state, after in moves.items():
        others = sorted((each for each in after if each is not state), key=states.index)
        parts += [_curve(middle[state], middle[o], base, states.index(o) - states.index(state)) for o in others]
    for state, x in middle.items():
        rim = 3 if not moves[state] - {state} else 1.2
        parts.append(
            f'<rect x="{x - BOX / 2:.0f}" y="{base}" width="{BOX}" height="{TALL}" rx="6" fill="#eef3ef" '
            f'stroke="#2f4f4f" stroke-width="{rim}"/>'
            f'<text x="{x:.0f}" y="{base + TALL / 2 + 6:.0f}">{state.value}</text>'
        )
    return parts


def _high(states: int) -> int:
    """Return how much room a table takes."""
    return _STEP * (states - 1) + 30 + TALL + 50


def _curve(start: float, end: float, base: int, passed: int) -> str:
    """Draw a move over the boxes, higher the more states it passes over."""
    side = 14 if passed > 0 else -14
    high = base - _STEP * abs(passed)
    begin, stop = start + side, end - side
    return (
        f'<path d="M{begin:.0f},{base} C{begin:.0f},{high} {stop:.0f},{high} {stop:.0f},{base}" '
        'fill="none" stroke="#5a6b7b" stroke-width="1.2" marker-end="url(#head)"/>'
    )


def draw() -> str:
    """Return the drawing as SVG."""
    parts = row(MOVES, 30, "At the CA (RFC 8555 section 7.1.6), as one sees it who polls and misses some of it")
    second = 30 + _high(len(MOVES))
    parts += row(ORDER_MOVES, second, "In our ledger, written before the next thing that the outside hears of")
    top = second + _high(len(ORDER_MOVES))
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDTH} {top - 20}" font-family="sans-serif" '
        'font-size="16" text-anchor="middle" fill="#202020">\n<title>The life of an order</title>\n'
        '<defs><marker id="head" markerWidth="8" markerHeight="8" refX="7" refY="3" orient="auto">'
        '<path d="M0,0 L7,3 L0,6 z" fill="#5a6b7b"/></marker></defs>\n'
        f'<rect width="{WIDTH}" height="{top - 20}" fill="#fdfdf8"/>\n' + "\n".join(parts) + "\n</svg>\n"
    )


if __name__ == "__main__":
    if "--check" in sys.argv:
        sys.exit(0 if TARGET.read_text() == draw() else "docs/orders.svg is old: run tools/draw_states.py")
    TARGET.write_text(draw())
