"""A portal's validation rule, written once: text with placeholders, filled in for each order and name."""

import re
from collections.abc import Mapping

from inkstamp.pki.suffixes import registrable

_LENGTHS = {"md5": 32, "sha1": 40, "sha256": 64}
"""Hexadecimal digits of each digest."""
PLACEHOLDERS = ("domain", *_LENGTHS, "token")
"""`domain` is the name to be validated, without `*.`; the digests are of the CSR's DER, in lower-case hexadecimal;
`token` is what the portal shows for this order."""
_REGISTRABLE = "registrable"
"""The registrable domain of the name, for a portal that validates that in the place of the host."""
KNOWN = (
    "{domain}, {registrable}, {token}, {md5}, {sha1}, {sha256}; of a digest also a part, {sha256:1-32}, and capitals, "
    "{md5:upper}"
)
_WRITE = {
    "sha256-front": "sha256:1-32",
    "sha256-back": "sha256:33-64",
    **{digest.upper(): f"{digest}:upper" for digest in _LENGTHS},
}
_PLACEHOLDER = re.compile(r"\{([^{}]*)\}")
_FORM = re.compile(r"(?P<name>[a-z0-9]+)(?::(?P<first>[1-9][0-9]?)-(?P<last>[1-9][0-9]?))?(?P<upper>:upper)?")


def template_fault(template: str) -> tuple[str, str] | None:
    """Return the first placeholder in `template` that cannot be filled in, and what to write; None where all can."""
    for each in _PLACEHOLDER.findall(template):
        if each in _WRITE:
            return each, f"write {{{_WRITE[each]}}}"
        form = _FORM.fullmatch(each)
        if form is None or form["name"] not in (*PLACEHOLDERS, _REGISTRABLE):
            return each, f"known: {KNOWN}"
        most = _LENGTHS.get(form["name"])
        if most is None and form["name"] != each:
            return each, f"parts and capitals are for digests; write {{{form['name']}}}"
        if form["last"] and most is not None and not int(form["first"]) <= int(form["last"]) <= most:
            return each, f"{form['name']} has the digits 1-{most}"
    return None


def wants(template: str, placeholder: str) -> bool:
    """Tell whether `template` has a placeholder, whole or a part of it."""
    return any(each.partition(":")[0] == placeholder for each in _PLACEHOLDER.findall(template))


def placeholders(domain: str, md5: str, sha1: str, sha256: str, token: str) -> dict[str, str]:
    """Gather what placeholders stand for; digests in lower-case hexadecimal."""
    return dict(zip(PLACEHOLDERS, (domain.removeprefix("*."), md5, sha1, sha256, token), strict=True))


def fill(template: str, values: Mapping[str, str]) -> str:
    """Put the values in; the template has no `template_fault`."""

    def value(found: re.Match[str]) -> str:
        form = _FORM.fullmatch(found[1])
        if form is None:
            return found[0]
        if form["name"] == _REGISTRABLE:
            return registrable(values["domain"]) or values["domain"]
        text = values[form["name"]]
        if form["last"]:
            text = text[int(form["first"]) - 1 : int(form["last"])]
        return text.upper() if form["upper"] else text

    return _PLACEHOLDER.sub(value, template)
