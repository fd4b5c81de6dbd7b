"""Approval by e-mail: to which addresses a CA may write, and whether mail would arrive.

CA/Browser Forum Baseline Requirements sections 3.2.2.4.4 (constructed addresses), 3.2.2.4.13 and 3.2.2.4.14
(contacts that the domain publishes in DNS).
"""

from collections.abc import Sequence

from inkstamp.findings import Finding, bad, ok, warn
from inkstamp.pki.suffixes import registrable
from inkstamp.view.questions import Answer

_CONSTRUCTED = ("admin", "administrator", "hostmaster", "postmaster", "webmaster")


def domains_of(name: str) -> tuple[str, ...]:
    """Return the domains that may answer for a name: itself without `*.`, then those above it, the nearest first.

    The last one is the name that was bought (Baseline Requirements, Base Domain Name).
    """
    bare = name.removeprefix("*.")
    above = bare.removesuffix(registrable(bare) or bare).count(".")
    labels = bare.split(".")
    return tuple(".".join(labels[at:]) for at in range(above + 1))


def constructed(domain: str) -> tuple[str, ...]:
    """Return the five addresses at a domain that any CA may write to (section 3.2.2.4.4)."""
    return tuple(f"{local}@{domain}" for local in _CONSTRUCTED)


def is_allowed(address: str, name: str, published: Sequence[str]) -> bool:
    """Tell whether a CA may ask at `address` for control of `name`."""
    allowed = {each.lower() for each in published}
    for domain in domains_of(name):
        allowed.update(constructed(domain))
    return address.lower() in allowed


def judge_mail(domain: str, mx: Answer, has_address: bool) -> Finding:
    """Say whether a domain takes mail at all (RFC 5321 section 5.1, RFC 7505)."""
    hosts = [host for host in mx.records if host and host != "."]
    if hosts:
        return ok("mail", domain, f"takes mail at {hosts[0]}{f' and {len(hosts) - 1} more' if hosts[1:] else ''}")
    if mx.records:
        return bad("mail", domain, "says in DNS that it takes no mail (null MX)", "choose another domain or method")
    if not mx.known:
        return warn("mail", domain, f"unknown: {mx.trouble}", "try again in a moment")
    if has_address:
        return warn("mail", domain, "has no MX record; mail goes to its own address, if a mail server runs there")
    return bad("mail", domain, "takes no mail: it has neither an MX record nor an address", "choose another one")
