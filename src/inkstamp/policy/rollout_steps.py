"""In which order machines are given a new edition, where it is rolled out in steps. Pure."""

from collections.abc import Sequence
from fnmatch import fnmatchcase


def steps_of(rollout: Sequence[str | int], machines: Sequence[str]) -> tuple[tuple[str, ...], ...]:
    """Return the machines of each step; each machine is in one, and no step is empty.

    Args:
        rollout: The steps as configured: names of machines, in which `*` stands for anything, or how many of those that
            are left. The last number counts until none is left; after names all that are left are one step.
        machines: All machines that are given the edition.

    """
    left, found = sorted(set(machines)), []
    for each in rollout:
        some = left[:each] if isinstance(each, int) else [name for name in left if fnmatchcase(name, each)]
        found.append(tuple(some))
        left = [name for name in left if name not in some]
    size = rollout[-1] if rollout and isinstance(rollout[-1], int) else len(left)
    found += [tuple(left[at : at + size]) for at in range(0, len(left), max(size, 1))]
    return tuple(each for each in found if each)
