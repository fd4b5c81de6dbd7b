"""The subject of a request, and what people get wrong in it (RFC 5280 section 4.1.2.6 and appendix A)."""

import re

from msgspec import Struct

from inkstamp.findings import Finding, bad, note, warn
from inkstamp.pki.kinds import SUBJECT_WORDS

LIMITS = {
    "common_name": 64,
    "organisation": 64,
    "unit": 64,
    "locality": 128,
    "state": 128,
    "country": 2,
    "email": 255,
}
"""Most characters of each field (RFC 5280 appendix A.1, the upper bounds `ub-…`)."""

_STATES = {
    "US": "AL Alabama,AK Alaska,AZ Arizona,AR Arkansas,CA California,CO Colorado,CT Connecticut,DE Delaware,"
    "DC District of Columbia,FL Florida,GA Georgia,HI Hawaii,ID Idaho,IL Illinois,IN Indiana,IA Iowa,KS Kansas,"
    "KY Kentucky,LA Louisiana,ME Maine,MD Maryland,MA Massachusetts,MI Michigan,MN Minnesota,MS Mississippi,"
    "MO Missouri,MT Montana,NE Nebraska,NV Nevada,NH New Hampshire,NJ New Jersey,NM New Mexico,NY New York,"
    "NC North Carolina,ND North Dakota,OH Ohio,OK Oklahoma,OR Oregon,PA Pennsylvania,RI Rhode Island,"
    "SC South Carolina,SD South Dakota,TN Tennessee,TX Texas,UT Utah,VT Vermont,VA Virginia,WA Washington,"
    "WV West Virginia,WI Wisconsin,WY Wyoming",
    "CA": "AB Alberta,BC British Columbia,MB Manitoba,NB New Brunswick,NL Newfoundland and Labrador,NS Nova Scotia,"
    "NT Northwest Territories,NU Nunavut,ON Ontario,PE Prince Edward Island,QC Quebec,SK Saskatchewan,YT Yukon",
    "AU": "ACT Australian Capital Territory,NSW New South Wales,NT Northern Territory,QLD Queensland,"
    "SA South Australia,TAS Tasmania,VIC Victoria,WA Western Australia",
    "GB": "ENG England,NIR Northern Ireland,SCT Scotland,WLS Wales",
}
_ABBREVIATED = re.compile(r"[A-Z]{2,3}|[A-Z]\.[A-Z]|.*\w\.")
_WITH_STATES = ("US", "CA", "AU")
"""Where an organisation's address has a state, and CAs want to know it."""
_EMAIL = re.compile(r"[^@\s]+@[^@\s.]+(\.[^@\s.]+)+")


class Subject(Struct, frozen=True, kw_only=True):
    """Whom a request is for; empty fields are left out of it."""

    common_name: str = ""
    organisation: str = ""
    unit: str = ""
    locality: str = ""
    state: str = ""
    country: str = ""
    """Two letters, ISO 3166-1."""
    email: str = ""

    def given(self) -> list[tuple[str, str]]:
        """Return the fields that are not empty, as name and value, in the usual order."""
        pairs = [(each, getattr(self, each)) for each in self.__struct_fields__]
        return [(name, value) for name, value in pairs if value]


def examine_subject(subject: Subject) -> list[Finding]:
    """Find what a CA would refuse (`bad`) or ask about (`warn`, `note`) in a subject."""
    findings = []
    for name, value in subject.given():
        if name != "country" and len(value) > LIMITS[name]:
            findings.append(
                bad(
                    "subject",
                    SUBJECT_WORDS[name],
                    f"has {len(value)} characters; {LIMITS[name]} are allowed",
                    f"shorten “{value[:40]}…”",
                )
            )
        if any(not char.isprintable() for char in value):
            findings.append(bad("subject", SUBJECT_WORDS[name], "holds a control character", "type it again"))
    findings += _examine_country(subject.country)
    findings += _examine_state(subject)
    if subject.unit:
        findings.append(
            note("subject", "unit", "is left out by public CAs, which may not certify it since 2022", "leave it out")
        )
    if subject.email and not _EMAIL.fullmatch(subject.email):
        findings.append(bad("subject", "e-mail", f"“{subject.email}” is not an address", "write it as name@domain"))
    if subject.organisation and _missing(subject):
        findings.append(
            warn(
                "subject",
                "organisation",
                "is given without " + " and ".join(_missing(subject)),
                "CAs that certify an organisation want to know where it is",
            )
        )
    return findings


def _missing(subject: Subject) -> list[str]:
    place = [] if subject.locality or subject.state else ["a locality or state"]
    if not subject.state and subject.country in _WITH_STATES:
        place = ["a state"]
    return place + ([] if subject.country else ["a country"])


def _examine_country(country: str) -> list[Finding]:
    if not country:
        return []
    from inkstamp.pki.countries import CODES, country_meant  # noqa: PLC0415  a table that few commands need

    if country in CODES:
        return []
    meant = country_meant(country)
    remedy = f"write {meant}" if meant else "take the two capital letters of ISO 3166-1, as in DE or GB"
    return [bad("subject", "country", f"“{country}” is not a country's two-letter code", remedy)]


def _examine_state(subject: Subject) -> list[Finding]:
    if not _ABBREVIATED.fullmatch(subject.state):
        return []
    short = subject.state.replace(".", "")
    known = dict(each.split(" ", 1) for each in _STATES.get(subject.country, "").split(",") if each)
    begun = [each for each in known.values() if each.lower().startswith(short.lower())]
    meant = known.get(short) or (begun[0] if len(begun) == 1 else "")
    remedy = f"write {meant}" if meant else "spell it out in full"
    return [warn("subject", "state", f"“{subject.state}” is abbreviated; CAs want the full name", remedy)]
