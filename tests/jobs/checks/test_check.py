"""What `check` says of a chain as served."""

from datetime import timedelta

import pytest
from authority_of_tests import NOW, Signer

from inkstamp.findings import warn
from inkstamp.jobs.checks.check import NameReport, together
from inkstamp.jobs.checks.served_chain import judge_chain
from inkstamp.pki.chain import Roots
from inkstamp.severity import Severity

ROOT = Signer("Root", days=3650)
MIDDLE = Signer("Middle", ROOT)
LOWER = Signer("Lower", MIDDLE)
LEAF = Signer("site.test", LOWER, ca=False, names=("site.test", "*.site.test"))
STRANGER = Signer("Stranger", ROOT)
ALONE = Signer("site.test", names=("site.test",))
GOOD = (LEAF, LOWER, MIDDLE)


def judge(name: str, chain: tuple[Signer, ...], later: timedelta = timedelta()) -> tuple[dict[str, Severity], str]:
    certificates = tuple(each.certificate for each in chain)
    judged = judge_chain(name, certificates, Roots([ROOT.certificate]), NOW + later)
    findings, root = judged.findings, judged.root
    assert all(each.remedy for each in findings if each.severity is Severity.BAD)
    return {each.topic: each.severity for each in findings}, root


def test_a_good_chain_is_good_in_every_point() -> None:
    seen, root = judge("www.site.test", GOOD)
    assert seen == {"name": Severity.OK, "dates": Severity.OK, "trust": Severity.OK}
    assert root == "Root"


@pytest.mark.parametrize(
    ("name", "chain", "later", "topic", "severity"),
    [
        ("other.test", GOOD, timedelta(), "name", Severity.BAD),
        ("a.b.site.test", GOOD, timedelta(), "name", Severity.BAD),
        ("site.test", GOOD, timedelta(days=60), "dates", Severity.WARN),
        ("site.test", GOOD, timedelta(days=81), "dates", Severity.BAD),
        ("site.test", GOOD, timedelta(days=-11), "dates", Severity.BAD),
        ("site.test", (LEAF,), timedelta(), "trust", Severity.BAD),
        ("site.test", (LEAF, LOWER), timedelta(), "trust", Severity.BAD),
        ("site.test", (ALONE,), timedelta(), "trust", Severity.BAD),
        ("site.test", (LEAF, MIDDLE, LOWER), timedelta(), "chain", Severity.WARN),
        ("site.test", (*GOOD, STRANGER), timedelta(), "chain", Severity.WARN),
        ("site.test", (*GOOD, ROOT), timedelta(), "chain", Severity.NOTE),
    ],
    ids=["other name", "too deep", "due", "expired", "not yet", "no intermediate", "one missing", "self-signed",
         "wrong order", "stranger", "root served"],
)  # fmt: skip
def test_each_fault_of_a_chain_is_found(
    name: str, chain: tuple[Signer, ...], later: timedelta, topic: str, severity: Severity
) -> None:
    seen, root = judge(name, chain, later)
    assert seen[topic] is severity
    if topic in {"name", "chain"}:
        assert root == "Root"


def test_a_bare_name_and_its_www_with_the_same_findings_are_told_once() -> None:
    def report(name: str, seen: str) -> NameReport:
        return NameReport(
            name=name, chain=(), root="R", days_left=9, findings=(warn("hsts", name, seen, f"see {name}"),)
        )

    bare, www, other = (report(name, "no HSTS header") for name in ("site.test", "www.site.test", "shop.test"))
    odd = report("odd.test", "no redirect from HTTP to HTTPS")
    assert together([bare, www, odd, other]) == [
        (("site.test", "www.site.test", "shop.test"), bare),
        (("odd.test",), odd),
    ]
