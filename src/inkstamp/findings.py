"""A finding: one observation, how grave it is, and what to do about it."""

from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum


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


@dataclass(frozen=True, slots=True, kw_only=True)
class Finding:
    """One observation about one subject."""

    severity: Severity
    topic: str
    """What was looked at, in one or two words that stay the same between releases (`chain`, `proof`)."""
    subject: str
    """The name, file, address or certificate that the finding is about."""
    seen: str
    """What was seen, as a sentence without a full stop."""
    remedy: str = ""
    """What to do about it; empty when there is nothing to do."""


def ok(topic: str, subject: str, seen: str) -> Finding:
    """Make a finding that all is well."""
    return Finding(severity=Severity.OK, topic=topic, subject=subject, seen=seen)


def note(topic: str, subject: str, seen: str, remedy: str = "") -> Finding:
    """Make a finding that is worth knowing and harms nothing."""
    return Finding(severity=Severity.NOTE, topic=topic, subject=subject, seen=seen, remedy=remedy)


def warn(topic: str, subject: str, seen: str, remedy: str = "") -> Finding:
    """Make a finding about something that works but should be fixed."""
    return Finding(severity=Severity.WARN, topic=topic, subject=subject, seen=seen, remedy=remedy)


def bad(topic: str, subject: str, seen: str, remedy: str = "") -> Finding:
    """Make a finding about something that is broken or would fail."""
    return Finding(severity=Severity.BAD, topic=topic, subject=subject, seen=seen, remedy=remedy)


def worst_first(findings: Iterable[Finding]) -> list[Finding]:
    """Sort by gravity, the gravest first, otherwise in the order given."""
    return sorted(findings, key=lambda finding: _RANK[finding.severity])


def worst(findings: Iterable[Finding]) -> Severity:
    """Return the gravest severity among `findings`, `ok` when there is none."""
    return min((f.severity for f in findings), key=_RANK.__getitem__, default=Severity.OK)
