"""A portal's rule for proofs, written once: text with placeholders, filled in for each order and name."""

import re
from collections.abc import Mapping

PLACEHOLDERS = ("domain", "md5", "sha1", "sha256", "sha256-front", "sha256-back", "token")
"""`domain` is the name to be proven, without `*.`; the digests are of the CSR's DER, in hexadecimal (capital letters
where the placeholder is in capitals; the two halves of SHA-256 fit into a DNS label each); `token` is what the portal
shows for this order."""

_PLACEHOLDER = re.compile(r"\{([^{}]*)\}")


def unknown_placeholders(template: str) -> list[str]:
    """Return the placeholders in `template` that there are not."""
    return [each for each in _PLACEHOLDER.findall(template) if each.lower() not in PLACEHOLDERS]


def wants(template: str, placeholder: str) -> bool:
    """Tell whether a placeholder stands in `template`, in small or capital letters."""
    return any(each.lower() == placeholder for each in _PLACEHOLDER.findall(template))


def placeholders(domain: str, md5: str, sha1: str, sha256: str, token: str) -> dict[str, str]:
    """Gather what placeholders stand for; digests in lower-case hexadecimal."""
    half = len(sha256) // 2
    values = (domain.removeprefix("*."), md5, sha1, sha256, sha256[:half], sha256[half:], token)
    return dict(zip(PLACEHOLDERS, values, strict=True))


def fill(template: str, values: Mapping[str, str]) -> str:
    """Put the values in; those of digests in capital letters where the placeholder is."""

    def value(found: re.Match[str]) -> str:
        name = found[1]
        text = values[name.lower()]
        return text.upper() if name.isupper() and name.lower() not in {"token", "domain"} else text

    return _PLACEHOLDER.sub(value, template)
