"""Which addresses a name has, asked of the view's resolver."""

import functools
import time

from dns.rdatatype import RdataType
from msgspec import Struct

from inkstamp.pki.names import as_address
from inkstamp.view.point import View
from inkstamp.view.questions import Answer, ask_each, make_resolver

_FRESH_SECONDS = 5.0
_MOST_ADDRESSES = 32


class Addresses(Struct, frozen=True):
    """What DNS says of a name's addresses."""

    ipv6: tuple[str, ...]
    ipv4: tuple[str, ...]
    trouble: str
    """Why there are none, or why one family is unknown, as a sentence; empty when all was answered."""

    silent: bool = False
    """Whether that is because nobody answered: the resolver, or the name's own nameservers."""

    def remedy(self, name: str) -> str:
        """Say what to do about having none."""
        if self.silent:
            return f"check that this machine's DNS resolver answers, and the nameservers of {name}; then try again"
        return f"make an A or AAAA record for {name} that leads to this server"

    @property
    def all(self) -> tuple[str, ...]:
        """IPv6 first, as most CAs try them."""
        return self.ipv6 + self.ipv4


class AddressBook:
    """Asks for addresses and remembers the answers for the time of one run."""

    def __init__(self, view: View) -> None:
        self._resolver = make_resolver(view)
        self._known: dict[str, tuple[float, Addresses]] = {}

    def look_up(self, name: str) -> Addresses:
        """Ask for AAAA and A of `name`; trouble is part of the answer, nothing is raised for it.

        An address is its own answer. A good answer is used again for some seconds: one run looks at a name several
        times in a row.
        """
        literal = as_address(name)
        if literal:
            return Addresses((literal,), (), "") if ":" in literal else Addresses((), (literal,), "")
        known = self._known.get(name)
        if known is not None and time.monotonic() - known[0] < _FRESH_SECONDS:
            return known[1]
        found = self._look_up(name)
        if found.all and not found.trouble:
            self._known[name] = (time.monotonic(), found)
        return found

    def _look_up(self, name: str) -> Addresses:
        six, four = ask_each(self._resolver, name, (RdataType.AAAA, RdataType.A))
        ipv6, ipv4 = _addresses(six), _addresses(four)
        trouble = four.trouble or six.trouble
        if not ipv4 and not ipv6:
            trouble = trouble or f"{name} exists in DNS and has no address"
        return Addresses(ipv6, ipv4, trouble, silent=not (four.known and six.known))


def _addresses(answer: Answer) -> tuple[str, ...]:
    return tuple(sorted(record.address for record in answer.records)[:_MOST_ADDRESSES])


@functools.cache
def address_book(view: View) -> AddressBook:
    """Return the address book of a view; one for the process, since its resolver is costly to set up."""
    return AddressBook(view)
