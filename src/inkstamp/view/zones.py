"""Who answers for a name with authority: aliases followed, the zone found, its nameservers with their addresses."""

import dns.rdatatype
from msgspec import Struct

from inkstamp.deadline import within
from inkstamp.errors import ProofFailed
from inkstamp.view.addresses import address_book
from inkstamp.view.point import View
from inkstamp.view.questions import ask, make_resolver

_MOST_ALIASES = 10
_ZONE_SECONDS = 30.0
"""For finding out who serves a zone."""
_MOST_HOSTS, _MOST_SERVERS = 16, 64
"""Nameservers of a zone that are asked: a delegation has thirteen at most, by what fits into an answer."""


class Zone(Struct, frozen=True):
    """A zone and who serves it."""

    apex: str
    primary: str
    """IP address of the primary that the SOA names; empty when it has none."""
    servers: tuple[tuple[str, str], ...]
    """Host name and IP address of each authoritative nameserver."""


def is_delegated(name: str, target: str) -> bool:
    """Tell whether a CNAME record delegates `name`, by the first label that `target` has in common with it."""
    return bool(target) and target != name and target.partition(".")[0] == name.partition(".")[0]


class Zones:
    """Asks the view's resolver, and remembers zones for the time of one run."""

    def __init__(self, view: View) -> None:
        self._resolver = make_resolver(view)
        self._book = address_book(view)
        self._known: dict[str, Zone | None] = {}

    def follow(self, name: str) -> str:
        """Return where a chain of CNAMEs from `name` ends; itself when there is none.

        Raises:
            ProofFailed: The chain goes in a circle or has too many links.

        """
        seen = [name]
        while len(seen) <= _MOST_ALIASES:
            found = ask(self._resolver, seen[-1], dns.rdatatype.CNAME)
            if not found.records:
                return seen[-1]
            target = found.records[0].target.to_text(omit_final_dot=True).lower()
            if target in seen:
                break
            seen.append(target)
        raise ProofFailed(
            f"the aliases that begin at {name} lead nowhere",
            where=name,
            said=" → ".join(seen),
            advice="correct those CNAME records",
        )

    def follow_delegated(self, name: str) -> str:
        """Return where a CNAME record of `name` is to be made: where aliases lead that keep its first label.

        Such an alias delegates the name to another zone. One that has another first label is what a CA asked for.

        Raises:
            ProofFailed: The chain has too many links.

        """
        current = name
        for _ in range(_MOST_ALIASES):
            found = ask(self._resolver, current, dns.rdatatype.CNAME)
            target = found.records[0].target.to_text(omit_final_dot=True).lower() if found.records else ""
            if not is_delegated(current, target):
                return current
            current = target
        raise ProofFailed(
            f"the aliases that begin at {name} lead nowhere",
            where=name,
            said=f"{current} leads on",
            advice="correct those CNAME records",
        )

    def of(self, name: str) -> Zone:
        """Return the zone that `name` is in: the nearest one above it that has an SOA record.

        Raises:
            ProofFailed: There is none, or none of its nameservers has an address.

        """
        with within(_ZONE_SECONDS):
            return self._find(name)

    def _find(self, name: str) -> Zone:
        labels = name.split(".")
        trouble = ""
        for at in range(len(labels)):
            apex = ".".join(labels[at:])
            if apex not in self._known:
                found = ask(self._resolver, apex, dns.rdatatype.SOA)
                trouble = trouble or ("" if found.known else found.trouble)
                primary = found.records[0].mname.to_text(omit_final_dot=True).lower() if found.records else ""
                zone = self._served(apex, primary) if primary else None
                if found.known:  # what could not be asked is asked again the next time
                    self._known[apex] = zone
            zone = self._known.get(apex)
            if zone is not None:
                return zone
        raise ProofFailed(
            f"no zone is found for {name}",
            where=name,
            said=trouble,
            advice="check that the domain is registered and delegated, and that the resolver answers",
        )

    def _served(self, apex: str, primary: str) -> Zone:
        found = ask(self._resolver, apex, dns.rdatatype.NS)
        hosts = sorted(record.target.to_text(omit_final_dot=True).lower() for record in found.records)[:_MOST_HOSTS]
        servers = [(host, address) for host in hosts for address in self._book.look_up(host).all][:_MOST_SERVERS]
        if not servers:
            raise ProofFailed(
                f"none of the nameservers of {apex} has an address",
                where=apex,
                said=", ".join(hosts) or found.trouble,
                advice="correct the NS records and the addresses of those hosts",
            )
        return Zone(apex, next(iter(self._book.look_up(primary).all), ""), tuple(dict.fromkeys(servers)))
