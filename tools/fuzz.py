"""Throw mutated input at every parser and reader of strangers' bytes, for a bounded time, and keep the worst.

    python tools/fuzz.py [--seconds N] [--seed N] [--only NAME…] [--keep]

Each reader must end in a result or in one of our own errors, within its bounds of time and memory. What raises
anything else, or takes long, is printed; with --keep it goes into tests/fuzz/corpus/, which the tests replay. Inputs
are made from the corpus and from seeds: bytes changed, pieces doubled, swapped, cut, and tokens of the grammar put
in. What reaches lines that no input before it reached is mutated further (coverage by the interpreter's own tracing).
"""

import argparse
import hashlib
import random
import sys
import threading
import time
import warnings
from collections.abc import Callable
from pathlib import Path
from types import FrameType
from typing import Any

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT / "tests"))

from fuzzing import CORPUS, READERS, Reader, trouble_with  # noqa: E402

_SLOW = 2.0
"""Seconds; what takes longer is told."""
_LONGEST = 65_536


def mutated(chance: random.Random, data: bytes, tokens: tuple[bytes, ...]) -> bytes:
    """Return a neighbour of `data`."""
    grown = bytearray(data)
    for _ in range(chance.randint(1, 4)):
        at, end = sorted((chance.randint(0, len(grown)), chance.randint(0, len(grown))))
        match chance.randint(0, 6):
            case 0 if grown:
                grown[min(at, len(grown) - 1)] = chance.randrange(256)
            case 1:
                grown[at:at] = chance.choice(tokens)
            case 2:
                grown[at:at] = grown[at:end] * chance.choice((1, 2, 16))
            case 3:
                del grown[at:end]
            case 4:
                grown[at:at] = chance.choice(tokens) * chance.choice((2, 64, 1000))
            case 5:
                grown[at:end] = chance.randbytes(end - at)
            case _ if grown:
                grown[min(at, len(grown) - 1)] ^= 1 << chance.randrange(8)
    return bytes(grown[:_LONGEST])


def lines_reached(work: Callable[[], Any]) -> set[tuple[str, int]]:
    """Do the work, and return which lines of our own code it went through."""
    seen: set[tuple[str, int]] = set()

    def trace(frame: FrameType, event: str, _argument: Any) -> Any:
        if "inkstamp" not in frame.f_code.co_filename:
            return None
        if event == "line":
            seen.add((frame.f_code.co_filename, frame.f_lineno))
        return trace

    sys.settrace(trace)
    threading.settrace(trace)
    try:
        work()
    finally:
        sys.settrace(None)
    return seen


def fuzz(reader: Reader, seconds: float, chance: random.Random, *, keep: bool) -> int:
    """Throw mutated input at one reader; returns how much of it was not borne."""
    pool = [*reader.seeds, *(each.read_bytes() for each in sorted((CORPUS / reader.name).glob("*")))]
    reached: set[tuple[str, int]] = set()
    bad, count, end = 0, 0, time.monotonic() + seconds
    while time.monotonic() < end:
        data = mutated(chance, chance.choice(pool), reader.tokens)
        count += 1
        began = time.monotonic()
        trouble = ""

        def work(data: bytes = data) -> None:
            nonlocal trouble
            trouble = trouble_with(reader, data)

        new: set[tuple[str, int]] = set()
        if count % 4 == 0:
            new = lines_reached(work)
        else:
            work()
        took = time.monotonic() - began
        if new - reached:
            reached |= new
            pool.append(data)
        if took > _SLOW * (10 if count % 4 == 0 else 1):
            trouble = trouble or f"takes {took:.1f} s"
        if trouble:
            bad += 1
            print(f"{reader.name}: {trouble} ({len(data)} bytes)")
            if keep:
                folder = CORPUS / reader.name
                folder.mkdir(parents=True, exist_ok=True)
                (folder / hashlib.sha256(data).hexdigest()[:16]).write_bytes(data)
    print(f"{reader.name:<22}{count:>9} inputs, {len(reached):>5} lines, {bad} not borne")
    return bad


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--seconds", type=float, default=60.0, help="for all readers together")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--only", nargs="*", choices=sorted(READERS), default=sorted(READERS))
    parser.add_argument("--keep", action="store_true", help="keep what is not borne in the corpus")
    options = parser.parse_args()
    warnings.simplefilter("ignore")  # as the program does
    chance = random.Random(options.seed)
    share = options.seconds / len(options.only)
    sys.exit(1 if sum(fuzz(READERS[name], share, chance, keep=options.keep) for name in options.only) else 0)


if __name__ == "__main__":
    main()
