"""Questions to the view's DNS resolver, with what went wrong told in words."""

from dataclasses import dataclass
from typing import Any

import dns.exception
import dns.flags
import dns.rdatatype
import dns.resolver

from inkstamp.deadline import time_left
from inkstamp.printable import one_line
from inkstamp.view.point import View

_SHOWN = 200
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
    left = time_left(_LIFETIME)
    if not left:
        return Answer((), f"{name} was not looked up: no time was left", known=False)
    try:
        answer = resolver.resolve(name + ".", kind, search=False, lifetime=left)
    except dns.resolver.NoAnswer:
        return Answer(())
    except dns.resolver.NXDOMAIN:
        return Answer((), f"{name} does not exist in DNS (NXDOMAIN)")
    except (dns.exception.DNSException, OSError, ValueError) as error:  # no socket; a name that cannot be written
        return Answer((), _trouble(resolver, name, error), known=False)
    return Answer(tuple(answer)[:_MOST], secure=bool(answer.response.flags & dns.flags.AD))


def _trouble(resolver: dns.resolver.Resolver, name: str, error: Exception) -> str:
    """Say why the resolver gave no answer."""
    if isinstance(error, dns.resolver.NoNameservers):
        asked = error.kwargs.get("errors") or ()
        codes = sorted({each[4].rcode().name for each in asked if each[4] is not None})
        return f"the resolver failed for {name}: {', '.join(codes) or 'no usable answer'}"
    if isinstance(error, dns.exception.Timeout):
        return f"the resolver {', '.join(map(str, resolver.nameservers))} gave no answer for {name}"
    return f"{name} cannot be looked up: {one_line(str(error), _SHOWN)}"
