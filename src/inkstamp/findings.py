"""A finding: one observation, how grave it is, and what to do about it."""

from msgspec import Struct

from inkstamp.severity import Severity


class Finding(Struct, frozen=True, kw_only=True):
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
