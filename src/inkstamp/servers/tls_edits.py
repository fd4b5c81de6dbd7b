"""What all kinds of server do alike when the TLS settings of their sites are changed."""

from collections.abc import Iterable

from msgspec import Struct, field

from inkstamp.findings import Finding, note
from inkstamp.servers.text import Directive, Splice
from inkstamp.servers.tls_policy import Policy, is_chosen

HSTS = "strict-transport-security"
"""The header, as names of headers are compared."""


class Edits(Struct):
    """What is collected while the sites of a server are gone through."""

    splices: list[Splice] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)

    def tell(self, topic: str, subject: str, seen: str, remedy: str = "") -> None:
        """Tell what stays as it is, once."""
        found = note(topic, subject, seen, remedy)
        if found not in self.findings:
            self.findings.append(found)

    def keeps_ciphers(self, subject: str, present: str, policy: Policy, *, replaces: bool) -> bool:
        """Tell whether a site keeps the cipher list that it has: it is the policy's, or somebody's choice."""
        if present == policy.ciphers:
            return True
        if replaces or not is_chosen(present):
            return False
        self.tell("ciphers", subject, "has a cipher list of its own, which stays", "replace it with --replace-ciphers")
        return True


def at(directive: Directive) -> str:
    """Say where a directive stands."""
    return f"{directive.file}, line {directive.line}"


def without(directive: Directive, text: str) -> Splice:
    """Return the edit that takes a directive out, with its line where nothing else is on it."""
    start = text.rfind("\n", 0, directive.start) + 1
    end = text.find("\n", directive.end)
    end = len(text) if end < 0 else end + 1
    if text[start : directive.start].strip() or text[directive.end : end].strip():
        return Splice(directive.file, directive.start, directive.end, "")
    return Splice(directive.file, start, end, "")


def told_lacking(edits: Edits, wanted: Iterable[str], product: str) -> None:
    """Tell which wishes are not for a kind of server."""
    for each in wanted:
        edits.tell(
            "settings", product, f"{each} cannot be set on {product} from here", "write it by hand where it is due"
        )
