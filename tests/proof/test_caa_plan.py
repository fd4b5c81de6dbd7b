"""CAA records that would be right: they let the CA issue and no other, keep what is of others, and are stable."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from inkstamp.proof.caa import judge_caa
from inkstamp.proof.caa_plan import CaaIssuer, CaaPlan, in_zone_form, is_writable, plan_caa
from inkstamp.severity import Severity
from inkstamp.view.lookups import CaaRecord, CaaSet

NAME, ACCOUNT = "shop.saltmarsh.test", "https://ca.quayside.test/acct/7"
OURS = CaaIssuer(names=("quayside.test",), account=ACCOUNT, methods=("http-01", "dns-01"), wild_methods=("dns-01",))
LIMITED = f"accounturi={ACCOUNT}; validationmethods="
EMPTY = CaaSet("", ())


def issue(value: str, tag: str = "issue") -> CaaRecord:
    return CaaRecord(False, tag, value)


def may(
    name: str, records: tuple[CaaRecord, ...], method: str, ca: str = "quayside.test", account: str = ACCOUNT
) -> bool:
    found = CaaSet(NAME, records)
    judged = judge_caa(name, found, issuers=[ca], method=method, account=account, authority="it")
    return judged.severity is Severity.OK


@pytest.mark.parametrize(
    ("found", "plain", "wildcard", "wanted"),
    [
        (EMPTY, True, False, [issue(f"quayside.test; {LIMITED}http-01,dns-01"), issue(";", "issuewild")]),
        (EMPTY, True, True, [issue(f"quayside.test; {LIMITED}http-01,dns-01"),
                             issue(f"quayside.test; {LIMITED}dns-01", "issuewild")]),
        (CaaSet("saltmarsh.test", (issue("quayside.test"), issue("mailto:x@saltmarsh.test", "iodef"))), True, False,
         [issue("mailto:x@saltmarsh.test", "iodef"), issue(f"quayside.test; {LIMITED}http-01,dns-01"),
          issue(";", "issuewild")]),
        (CaaSet(NAME, (issue("fogbell.test"), issue("fogbell.test", "issuewild"))), True, False,
         [issue("fogbell.test"), issue("fogbell.test", "issuewild"),
          issue(f"quayside.test; {LIMITED}http-01,dns-01")]),
        (CaaSet(NAME, (issue(";", "issuewild"),)), False, True,
         [issue(f"quayside.test; {LIMITED}http-01,dns-01"), issue(f"quayside.test; {LIMITED}dns-01", "issuewild")]),
    ],
)  # fmt: skip
def test_the_ca_is_let_in_and_what_is_of_others_stays(
    found: CaaSet, plain: bool, wildcard: bool, wanted: list[CaaRecord]
) -> None:
    assert list(plan_caa(NAME, found, [OURS], plain=plain, wildcard=wildcard).wanted) == wanted


RECORDS = st.builds(
    CaaRecord, st.just(False), st.sampled_from(["issue", "issuewild", "iodef", "contactemail"]),
    st.sampled_from([";", "quayside.test", "Quayside.Test. ; policy=x", "fogbell.test", "mailto:x@saltmarsh.test"]),
)  # fmt: skip
FOUND = st.builds(
    CaaSet, st.sampled_from([NAME, "saltmarsh.test"]), st.lists(RECORDS, unique=True, max_size=5).map(tuple)
)


@given(FOUND, st.booleans())
def test_whatever_was_there_our_account_may_issue_by_our_methods_and_a_second_time_changes_nothing(
    found: CaaSet, wildcard: bool
) -> None:
    plan = plan_caa(NAME, found, [OURS], plain=True, wildcard=wildcard)
    assert may(NAME, plan.wanted, "http-01")
    assert not may(NAME, plan.wanted, "tls-alpn-01")
    assert not may(NAME, plan.wanted, "http-01", account="https://ca.quayside.test/acct/8")
    assert may(f"*.{NAME}", plan.wanted, "dns-01") is wildcard
    assert may(NAME, plan.wanted, "http-01", ca="fogbell.test") is any(
        (each.tag, each.value) == ("issue", "fogbell.test") for each in found.records
    )
    again = plan_caa(NAME, CaaSet(NAME, plan.wanted), [OURS], plain=True, wildcard=wildcard)
    assert (again.added, again.removed) == ((), ())


def test_what_a_ca_calls_itself_is_written_only_where_a_record_can_hold_it() -> None:
    assert is_writable(OURS)
    assert not is_writable(CaaIssuer(names=()))
    assert not is_writable(CaaIssuer(names=('quayside.test"; x',)))
    assert not is_writable(CaaIssuer(names=("quayside.test",), account='https://ca.test/"; issue=all'))
    assert in_zone_form(CaaRecord(True, "iodef", 'a"b\\c')) == r'128 iodef "a\"b\\c"'


def test_records_of_a_domain_above_are_none_of_the_names_own() -> None:
    plan: CaaPlan = plan_caa(
        NAME, CaaSet("saltmarsh.test", (issue("quayside.test"),)), [OURS], plain=True, wildcard=False
    )
    assert plan.present == ()
    assert plan.removed == ()
    assert plan.added == plan.wanted
