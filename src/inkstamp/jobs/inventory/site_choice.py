"""Sites to choose from by number, and what a person's choice means."""

from collections.abc import Iterator, Sequence

from inkstamp.errors import UsageError
from inkstamp.jobs.inventory.survey import Surveyed, WholeSite
from inkstamp.severity import rank

_ALL = "all"


def choices(found: Surveyed) -> tuple[WholeSite, ...]:
    """Return the sites that a certificate can be got for, those without a good one first; one for the same names."""
    named = {frozenset(each.names): each for each in reversed(found.whole_sites)}
    sites = [each for names, each in reversed(named.items()) if names]
    return tuple(sorted(sites, key=lambda each: (rank(each.worst), _days(each))))


def _days(site: WholeSite) -> int:
    days = site.report.days_left
    return -(1 << 30) if days is None else days


def picked(text: str, count: int) -> tuple[int, ...]:
    """Return the numbers, from 1, that were typed, each once: `2`, `1-3,7` or `all`; empty for nothing.

    Raises:
        UsageError: Something is no number, or none of `count`.

    """
    if text.strip().lower() == _ALL:
        return tuple(range(1, count + 1))
    words = text.replace(",", " ").split()
    return tuple(dict.fromkeys(number for word in words for number in _numbers(word, count)))


def _numbers(word: str, count: int) -> Iterator[int]:
    first, dash, last = word.partition("-")
    ends = [first, last] if dash else [first]
    if not all(each.isascii() and each.isdigit() and len(each) < 9 for each in ends):
        raise UsageError(f"“{word}” is no number", advice=f"type numbers from 1 to {count}, as 1-3,7, or {_ALL}")
    low, high = int(ends[0]), int(ends[-1])
    if not 1 <= low <= high <= count:
        raise UsageError(f"“{word}” is not from 1 to {count}", advice=f"type numbers as 1-3,7, or {_ALL}")
    yield from range(low, high + 1)


def names_of(sites: Sequence[WholeSite], numbers: Sequence[int]) -> list[tuple[str, ...]]:
    """Return for each number the names of its site, which one certificate covers."""
    return [sites[number - 1].names for number in numbers]
