"""The value by which a record lets a CA issue (RFC 8659 section 4.2): a domain name of the CA, and parameters."""

import re
from collections.abc import Mapping

from msgspec import Struct

_PARAMETER = re.compile(r"([A-Za-z0-9](?:[A-Za-z0-9-]*[A-Za-z0-9])?)[ \t]*=[ \t]*([\x21-\x3a\x3c-\x7e]*)")


class IssueValue(Struct, frozen=True):
    """A value that is well formed."""

    issuer: str
    """As of `issuer_of`; whether it can be a domain name is not looked at."""
    parameters: Mapping[str, str]
    """By their tags, in lower case."""


def issuer_of(text: str) -> str:
    """Return the CA's name in a value, well formed or not: in lower case, without a final dot; empty for nobody's."""
    return text.partition(";")[0].strip(" \t").rstrip(".").lower()


def read_issue_value(text: str) -> IssueValue | None:
    """Read a value; None for one by which no CA may issue: malformed, or with a tag twice (RFC 8657 section 3)."""
    told = text.partition(";")[2].strip(" \t")
    parameters: dict[str, str] = {}
    for part in told.split(";") if told else ():
        found = _PARAMETER.fullmatch(part.strip(" \t"))
        if found is None or found[1].lower() in parameters:
            return None
        parameters[found[1].lower()] = found[2]
    return IssueValue(issuer_of(text), parameters)


def can_stand(tag: str, value: str) -> bool:
    """Tell whether a parameter can be written: blanks and semicolons have no place in its value."""
    return bool(value) and _PARAMETER.fullmatch(f"{tag}={value}") is not None
