"""CAA read as RFC 8659 and RFC 8657 say: who may issue, how, and for which account."""

import pytest

from inkstamp.proof.caa import judge_caa
from inkstamp.severity import Severity
from inkstamp.view.lookups import CaaRecord, CaaSet

US = ("ca.test", "ca.example.net")


def records(*pairs: tuple[str, str], critical: bool = False) -> CaaSet:
    return CaaSet("example.org", tuple(CaaRecord(critical, tag, value) for tag, value in pairs))


@pytest.mark.parametrize(
    ("name", "found", "severity", "told"),
    [
        ("www.example.org", CaaSet("", ()), Severity.OK, "no CAA record"),
        ("www.example.org", records(("issue", "ca.test")), Severity.OK, "allows quayside to issue"),
        ("www.example.org", records(("issue", " CA.example.net ; x=y")), Severity.OK, "allows quayside to issue"),
        (
            "www.example.org",
            records(("issue", "example.net"), ("issue", "ca.test")),
            Severity.OK,
            "allows quayside to issue",
        ),
        (
            "www.example.org",
            records(("issue", "example.net")),
            Severity.BAD,
            'add there: example.org. CAA 0 issue "ca.test"',
        ),
        ("www.example.org", records(("issue", ";")), Severity.BAD, "allows only “;”"),
        ("www.example.org", records(("issue", "")), Severity.BAD, "does not allow quayside to issue"),
        ("www.example.org", records(("issuewild", "example.net")), Severity.OK, "no CAA record"),
        ("*.example.org", records(("issue", "ca.test"), ("issuewild", "example.net")), Severity.BAD, "CAA 0 issuewild"),
        (
            "*.example.org",
            records(("issue", "example.net"), ("issuewild", "ca.test")),
            Severity.OK,
            "allows quayside to issue",
        ),
        ("*.example.org", records(("issue", "ca.test")), Severity.OK, "allows quayside to issue"),
        ("www.example.org", records(("iodef", "mailto:x@example.org")), Severity.OK, "no CAA record"),
        ("www.example.org", records(("tbs", "x"), critical=True), Severity.BAD, "critical CAA property"),
        ("www.example.org", records(("tbs", "x")), Severity.OK, "no CAA record"),
        (
            "www.example.org",
            records(("issue", "ca.test; validationmethods=dns-01,x-y")),
            Severity.BAD,
            "to dns-01, x-y",
        ),
        (
            "www.example.org",
            records(("issue", "ca.test; validationmethods=http-01")),
            Severity.OK,
            "allows quayside to issue",
        ),
        ("www.example.org", records(("issue", "ca.test; accounturi=https://ca.test/acct/9")), Severity.BAD, "acct/9"),
        (
            "www.example.org",
            records(("issue", "ca.test;accounturi=https://ca.test/acct/1")),
            Severity.OK,
            "allows quayside",
        ),
        (
            "www.example.org",
            records(("issue", "CA.test. ;accounturi = https://ca.test/acct/9")),
            Severity.BAD,
            "acct/9",
        ),
        ("www.example.org", records(("issue", "ca.test; AccountURI=https://ca.test/acct/9")), Severity.BAD, "acct/9"),
        ("www.example.org", records(("issue", "ca.test; validationmethods=http-01;")), Severity.OK, "allows quayside"),
        ("www.example.org", records(("issue", "ca.test; accounturi")), Severity.BAD, "malformed"),
        ("www.example.org", records(("issue", f"ca.test{'; accounturi=x' * 2}")), Severity.BAD, "malformed"),
        ("www.example.org", CaaSet("", (), "the resolver failed"), Severity.BAD, "could not read CAA"),
    ],
)
def test_whether_the_ca_may_issue_is_told_with_the_record_that_says_so(
    name: str, found: CaaSet, severity: Severity, told: str
) -> None:
    finding = judge_caa(
        name, found, issuers=US, method="http-01", account="https://ca.test/acct/1", authority="quayside"
    )
    assert finding.severity is severity
    assert told in f"{finding.seen} {finding.remedy}"


def test_a_ca_whose_names_are_not_known_gets_a_note_with_who_may_issue() -> None:
    finding = judge_caa(
        "example.org", records(("issue", "example.com")), issuers=(), method="", account="", authority="quayside"
    )
    assert finding.severity is Severity.NOTE
    assert "“example.com”" in finding.seen
    assert "caa = […] under [authority.quayside]" in finding.remedy
