"""How numbers and lists of names are said."""

from collections.abc import Iterable, Sequence
from difflib import SequenceMatcher

_MOST_NAMED = 20


def counted(number: int, noun: str) -> str:
    """Return a number with its noun, in the plural where it is not one."""
    return f"{number} {noun}" if number in {1, -1} else f"{number} {noun}s"


def known_names(known: Iterable[str], given: str) -> str:
    """Return an advice that lists names, those most like `given` first; none is left out in silence."""
    names = sorted(known, key=lambda each: (-SequenceMatcher(None, given, each).ratio(), each))
    more = f" and {len(names) - _MOST_NAMED} more" if len(names) > _MOST_NAMED else ""
    return f"known: {', '.join(names[:_MOST_NAMED]) or 'none'}{more}"


def first_and_count(names: Sequence[str]) -> str:
    """Name the first of several, and say how many more there are."""
    return names[0] if len(names) == 1 else f"{names[0]} and {len(names) - 1} more"


def header_of(table: str, name: str) -> str:
    """Return the header of an entry as it stands in the configuration file (TOML), a name with dots in quotes."""
    return f"[{table}.{name}]" if name.replace("-", "").replace("_", "").isalnum() else f'[{table}."{name}"]'


def some_of(names: Sequence[str], most: int = 5) -> str:
    """Name the first of several, at most so many, and say how many more there are."""
    more = f" and {len(names) - most} more" if len(names) > most else ""
    return f"{', '.join(names[:most])}{more}"
