"""How grave a finding is; a module of its own, since the command line needs it before anything else is loaded."""

from collections.abc import Iterable
from enum import StrEnum
from typing import Protocol, TypeVar


class Severity(StrEnum):
    """How grave a finding is, from nothing to do to something is broken."""

    OK = "ok"
    NOTE = "note"
    WARN = "warn"
    BAD = "bad"


_RANK = {Severity.BAD: 0, Severity.WARN: 1, Severity.NOTE: 2, Severity.OK: 3}


def rank(severity: Severity) -> int:
    """Return a number to sort by, the gravest first."""
    return _RANK[severity]


class Graded(Protocol):
    """What is of some gravity, as a finding."""

    @property
    def severity(self) -> Severity:
        """How grave it is."""


_Graded = TypeVar("_Graded", bound=Graded)


def worst_first(findings: Iterable[_Graded]) -> list[_Graded]:
    """Sort by gravity, the gravest first, otherwise in the order given."""
    return sorted(findings, key=lambda finding: rank(finding.severity))


def worst(findings: Iterable[Graded]) -> Severity:
    """Return the gravest severity among `findings`, `ok` when there is none."""
    return min((f.severity for f in findings), key=rank, default=Severity.OK)
