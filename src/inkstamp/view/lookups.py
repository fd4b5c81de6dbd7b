"""Records other than addresses, as text: what portals look for, and where a domain's mail goes."""

import functools
from typing import Any

import dns.exception
import dns.flags
import dns.rdata
import dns.rdataclass
import dns.rdatatype
import dns.resolver
from msgspec import Struct

from inkstamp.errors import ServerTrouble
from inkstamp.pki.tlsa import Tlsa
from inkstamp.printable import one_line
from inkstamp.view.point import View
from inkstamp.view.questions import Answer, ask, make_resolver


class CaaRecord(Struct, frozen=True):
    """One CAA record."""

    critical: bool
    tag: str
    value: str


class CaaSet(Struct, frozen=True):
    """The records that count for a name, and where they stand."""

    domain: str
    """The name itself or the nearest above it that has any; empty when none has."""
    records: tuple[CaaRecord, ...]
    trouble: str = ""
    """Why nothing is known, as a sentence: a CA must not issue then."""


class Records:
    """Asks the view's resolver; answers are not remembered, since they are watched for changes."""

    def __init__(self, view: View) -> None:
        self._view = view
        self._resolver = make_resolver(view)

    @functools.cached_property
    def _vouching(self) -> dns.resolver.Resolver:
        """A resolver that says whether signatures are good (RFC 6840 section 5.7)."""
        resolver = make_resolver(self._view)
        resolver.flags = dns.flags.RD | dns.flags.AD
        return resolver

    def cname(self, name: str) -> Answer:
        """Ask for the CNAME at `name`; its record is the target as text, without a dot at the end."""
        found = ask(self._resolver, name, dns.rdatatype.CNAME)
        targets = tuple(record.target.to_text(omit_final_dot=True).lower() for record in found.records)
        return Answer(targets, found.trouble, found.known)

    def txt(self, name: str) -> Answer:
        """Ask for TXT at `name`; each record's strings are put together (RFC 7208 section 3.3 does the same)."""
        found = ask(self._resolver, name, dns.rdatatype.TXT)
        texts = tuple(b"".join(record.strings).decode("utf-8", "replace") for record in found.records)
        return Answer(texts, found.trouble, found.known)

    def mx(self, domain: str) -> Answer:
        """Ask for MX: host names by preference, an empty one for the null MX (RFC 7505)."""
        found = ask(self._resolver, domain, dns.rdatatype.MX)
        ordered = sorted(found.records, key=lambda record: record.preference)
        return Answer(
            tuple(r.exchange.to_text(omit_final_dot=True).lower() for r in ordered), found.trouble, found.known
        )

    def caa(self, name: str) -> CaaSet:
        """Climb from a name (a wildcard's bare one) to the nearest domain with CAA records (RFC 8659 section 3)."""
        labels = name.removeprefix("*.").split(".")
        for at in range(len(labels)):
            domain = ".".join(labels[at:])
            found = ask(self._resolver, domain, dns.rdatatype.CAA)
            if not found.known:
                return CaaSet("", (), found.trouble)
            if found.records:
                return CaaSet(domain, tuple(map(_caa_record, found.records)))
        return CaaSet("", ())

    def tlsa(self, name: str) -> Answer:
        """Ask for TLSA at `name` (`_25._tcp.mail.example.test`), and whether its signatures are good."""
        found = ask(self._vouching, name, dns.rdatatype.TLSA)
        records = tuple(Tlsa(each.usage, each.selector, each.mtype, each.cert) for each in found.records)
        return Answer(records, found.trouble, found.known, found.secure)

    def is_broken_by_dnssec(self, name: str) -> bool:
        """Tell whether the resolver fails for `name` with its checks and not without: DNSSEC is what is wrong."""
        careless = make_resolver(self._view)
        careless.flags = dns.flags.RD | dns.flags.CD
        strict = ask(self._resolver, name, dns.rdatatype.SOA)
        return not strict.known and ask(careless, name, dns.rdatatype.SOA).known

    def caa_contacts(self, domain: str) -> Answer:
        """Ask for the CAA property `contactemail` (Baseline Requirements appendix A.1)."""
        found = ask(self._resolver, domain, dns.rdatatype.CAA)
        mails = [_plain(record.value) for record in found.records if record.tag == b"contactemail"]
        return Answer(tuple(mails), found.trouble, found.known)


def read_caa(text: str) -> CaaRecord:
    """Read a CAA record's data as zone files have it; ServerTrouble when it is none."""
    try:
        record = dns.rdata.from_text(dns.rdataclass.IN, dns.rdatatype.CAA, text)
    except (dns.exception.DNSException, ValueError) as error:
        raise ServerTrouble("a CAA record cannot be read", where=one_line(text, 200), said=str(error)) from error
    return _caa_record(record)


def _caa_record(record: Any) -> CaaRecord:
    return CaaRecord(bool(record.flags & 0x80), record.tag.decode("ascii", "replace").lower(), _plain(record.value))


@functools.cache
def records_of(view: View) -> Records:
    """Return what asks for the records of a view; one for the process, since its resolver is costly to set up."""
    return Records(view)


def _plain(value: bytes) -> str:
    return value.decode("utf-8", "replace")
