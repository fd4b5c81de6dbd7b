"""Records other than addresses, as text: what portals look for, and where a domain's mail goes."""

import dns.rdatatype

from inkstamp.view.point import View
from inkstamp.view.questions import Answer, ask, make_resolver


class Records:
    """Asks the view's resolver; answers are not remembered, since they are watched for changes."""

    def __init__(self, view: View) -> None:
        self._resolver = make_resolver(view)

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

    def caa_contacts(self, domain: str) -> Answer:
        """Ask for the CAA property `contactemail` (Baseline Requirements appendix A.1)."""
        found = ask(self._resolver, domain, dns.rdatatype.CAA)
        mails = [record.value.decode("utf-8", "replace") for record in found.records if record.tag == b"contactemail"]
        return Answer(tuple(mails), found.trouble, found.known)
