"""Have `inkstamp` killed behind one of its outside actions or durable writes."""

import os
from collections.abc import Sequence
from pathlib import Path

import forked
from forked import Ended

_KILLER = Path(__file__).parent / "killer.py"


def killed_at(place: int, counts: Path, config: Path, arguments: Sequence[str]) -> tuple[Ended, list[str]]:
    """Run a command, killed with SIGKILL behind the place of that number (never, for 0).

    Args:
        place: Counted from 1.
        counts: A file to write in what the places are.
        config: The configuration file.
        arguments: The command and what follows it.

    Returns:
        How it ended, and what the places were that it came to.

    """
    counts.unlink(missing_ok=True)
    command = [str(_KILLER), str(place), str(counts), "--config", str(config), *arguments]
    done = forked.run(command, os.environ, script=True)
    return done, counts.read_text().splitlines() if counts.exists() else []
