"""Questions to the view's DNS resolver, with what went wrong told in words."""

from collections.abc import Sequence
from typing import Any

import dns.exception
import dns.flags
import dns.rdatatype
import dns.resolver
from msgspec import Struct

from inkstamp.deadline import time_left, within
from inkstamp.printable import one_line
from inkstamp.view.datagrams import ResolverReply, exchange
from inkstamp.view.point import View

_SHOWN = 200
_LIFETIME = 10.0
_STARTS = 2.0
"""Seconds, where nobody listens on the port of any resolver: as long as one takes to start again."""
"""Seconds that the questions about one name may take in all, retries included."""
_MOST = 64


class Answer(Struct, frozen=True):
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
    return ask_each(resolver, name, (kind,))[0]


def ask_each(
    resolver: dns.resolver.Resolver, name: str, kinds: Sequence[dns.rdatatype.RdataType]
) -> tuple[Answer, ...]:
    """Ask for the records of several types at `name` in one go; returns their answers in that order."""
    if not time_left():
        return tuple(Answer((), f"{name} was not looked up: no time was left", known=False) for _ in kinds)
    told: dict[dns.rdatatype.RdataType, ResolverReply] = {}
    flags = dns.flags.RD if resolver.flags is None else resolver.flags
    refused = 0
    with within(_LIFETIME):
        for server in resolver.nameservers:
            wanted = [kind for kind in kinds if kind not in told]
            left = time_left(resolver.timeout)
            if left and wanted and isinstance(server, str):
                try:
                    told |= exchange((server, resolver.port), name, wanted, flags, left)
                except ConnectionRefusedError:
                    refused += 1
        most = _STARTS if refused == len(resolver.nameservers) else _LIFETIME
        return tuple(
            _answer(told[kind], name) if kind in told else _persist(resolver, name, kind, most) for kind in kinds
        )


def _answer(reply: ResolverReply, name: str) -> Answer:
    if not reply.exists:
        return Answer((), f"{name} does not exist in DNS (NXDOMAIN)")
    return Answer(reply.records[:_MOST], secure=reply.secure)


def _persist(resolver: dns.resolver.Resolver, name: str, kind: dns.rdatatype.RdataType, most: float) -> Answer:
    """Ask by all means for `most` seconds: each server, several times, over TCP where an answer does not fit."""
    left = time_left(most)
    if not left:
        return Answer((), _silence(resolver, name), known=False)
    try:
        found = resolver.resolve(name + ".", kind, search=False, lifetime=left)
        reply = ResolverReply(True, tuple(found), bool(found.response.flags & dns.flags.AD))
    except (dns.resolver.NoAnswer, dns.resolver.NXDOMAIN) as error:
        reply = ResolverReply(isinstance(error, dns.resolver.NoAnswer), (), False)
    except (dns.exception.DNSException, OSError, ValueError) as error:  # no socket; a name that cannot be written
        return Answer((), _trouble(resolver, name, error), known=False)
    return _answer(reply, name)


def _trouble(resolver: dns.resolver.Resolver, name: str, error: Exception) -> str:
    """Say why the resolver gave no answer."""
    if isinstance(error, dns.resolver.NoNameservers):
        asked = error.kwargs.get("errors") or ()
        codes = sorted({each[4].rcode().name for each in asked if each[4] is not None})
        return f"the resolver failed for {name}: {', '.join(codes) or 'no usable answer'}"
    if isinstance(error, dns.exception.Timeout):
        return _silence(resolver, name)
    return f"{name} cannot be looked up: {one_line(str(error), _SHOWN)}"


def _silence(resolver: dns.resolver.Resolver, name: str) -> str:
    return f"the resolver {', '.join(map(str, resolver.nameservers))} gave no answer for {name}"
