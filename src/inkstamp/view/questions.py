"""Questions to the view's DNS resolver, with what went wrong told in words."""

from dataclasses import dataclass
from typing import Any

import dns.exception
import dns.flags
import dns.rdatatype
import dns.resolver

from inkstamp.view.point import View

_LIFETIME = 10.0
"""Seconds that one question may take in all, retries included."""
_MOST = 64


@dataclass(frozen=True, slots=True)
class Answer:
    """What DNS says of one name and type."""

    records: tuple[Any, ...]
    """The library's record data; of the type that was asked for."""
    trouble: str = ""
    """Why nothing is known, or that the name does not exist, as a sentence; empty when it was answered."""
    known: bool = True
    """Whether the answer is one: False when the resolver failed or kept silent."""
    secure: bool = False
    """Whether the resolver found its signatures good (AD, RFC 4035 section 3.2.3), where it was asked to say so."""


def make_resolver(view: View) -> dns.resolver.Resolver:
    """Make the resolver of a view; it is costly to set up."""
    resolver = dns.resolver.Resolver(configure=view.resolver is None)
    if view.resolver is not None:
        resolver.nameservers = [view.resolver[0]]
        resolver.port = view.resolver[1]
    resolver.lifetime = _LIFETIME
    return resolver


def ask(resolver: dns.resolver.Resolver, name: str, kind: dns.rdatatype.RdataType) -> Answer:
    """Ask for the records of one type at `name`; nothing is raised for trouble."""
    try:
        answer = resolver.resolve(name + ".", kind, search=False)
    except dns.resolver.NoAnswer:
        return Answer(())
    except dns.resolver.NXDOMAIN:
        return Answer((), f"{name} does not exist in DNS (NXDOMAIN)")
    except dns.resolver.NoNameservers as error:
        asked = error.kwargs.get("errors") or ()
        codes = sorted({each[4].rcode().name for each in asked if each[4] is not None})
        return Answer((), f"the resolver failed for {name}: {', '.join(codes) or 'no usable answer'}", known=False)
    except dns.exception.Timeout:
        servers = ", ".join(map(str, resolver.nameservers))
        return Answer((), f"the resolver {servers} gave no answer for {name}", known=False)
    except dns.exception.DNSException as error:
        return Answer((), f"{name} cannot be looked up: {error}", known=False)
    return Answer(tuple(answer)[:_MOST], secure=bool(answer.response.flags & dns.flags.AD))
