"""CAA read as RFC 8659 and RFC 8657 say: who may issue, how, and for which account."""

import pytest

from inkstamp.findings import Severity
from inkstamp.proof.caa import judge_caa
from inkstamp.view.records import CaaRecord, CaaSet

US = ("ca.org", "ca.net")


def records(*pairs: tuple[str, str], critical: bool = False) -> CaaSet:
    return CaaSet("a.org", tuple(CaaRecord(critical, tag, value) for tag, value in pairs))


@pytest.mark.parametrize(
    ("name", "found", "severity", "told"),
    [
        ("www.a.org", CaaSet("", ()), Severity.GOOD, "no CAA record limits"),
        ("www.a.org", records(("issue", "ca.org")), Severity.GOOD, "lets quayside issue"),
        ("www.a.org", records(("issue", " CA.net ; x=y")), Severity.GOOD, "lets quayside issue"),
        ("www.a.org", records(("issue", "other.org"), ("issue", "ca.org")), Severity.GOOD, "lets quayside issue"),
        ("www.a.org", records(("issue", "other.org")), Severity.BAD, 'add there: a.org. CAA 0 issue "ca.org"'),
        ("www.a.org", records(("issue", ";")), Severity.BAD, "lets only “;”"),
        ("www.a.org", records(("issue", "")), Severity.BAD, "does not let quayside issue"),
        ("www.a.org", records(("issuewild", "other.org")), Severity.GOOD, "no CAA record limits"),
        ("*.a.org", records(("issue", "ca.org"), ("issuewild", "other.org")), Severity.BAD, "CAA 0 issuewild"),
        ("*.a.org", records(("issue", "other.org"), ("issuewild", "ca.org")), Severity.GOOD, "lets quayside issue"),
        ("*.a.org", records(("issue", "ca.org")), Severity.GOOD, "lets quayside issue"),
        ("www.a.org", records(("iodef", "mailto:x@a.org")), Severity.GOOD, "no CAA record limits"),
        ("www.a.org", records(("tbs", "x"), critical=True), Severity.BAD, "critical CAA property"),
        ("www.a.org", records(("tbs", "x")), Severity.GOOD, "no CAA record limits"),
        ("www.a.org", records(("issue", "ca.org; validationmethods=dns-01,x-y")), Severity.BAD, "to dns-01, x-y"),
        ("www.a.org", records(("issue", "ca.org; validationmethods=http-01")), Severity.GOOD, "lets quayside issue"),
        ("www.a.org", records(("issue", "ca.org; accounturi=https://ca.org/acct/9")), Severity.BAD, "acct/9"),
        ("www.a.org", records(("issue", "ca.org;accounturi=https://ca.org/acct/1")), Severity.GOOD, "lets quayside"),
        ("www.a.org", CaaSet("", (), "the resolver failed"), Severity.BAD, "could not read CAA"),
    ],
)  # fmt: skip
def test_whether_the_ca_may_issue_is_told_with_the_record_that_says_so(
    name: str, found: CaaSet, severity: Severity, told: str
) -> None:
    finding = judge_caa(
        name, found, issuers=US, method="http-01", account="https://ca.org/acct/1", authority="quayside"
    )
    assert finding.severity is severity
    assert told in f"{finding.seen} {finding.remedy}"


def test_a_ca_whose_names_are_not_known_gets_a_note_with_who_may_issue() -> None:
    finding = judge_caa("a.org", records(("issue", "x.org")), issuers=(), method="", account="", authority="quayside")
    assert finding.severity is Severity.NOTE
    assert "“x.org”" in finding.seen
    assert "caa = […] under [authority.quayside]" in finding.remedy
