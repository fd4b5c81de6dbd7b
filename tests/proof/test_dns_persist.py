"""Records that stay (draft-ietf-acme-dns-persist) and labels of accounts (draft-ietf-acme-dns-account-label)."""

import base64
import hashlib
import subprocess
from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from inkstamp.proof.dns01 import account_record_name
from inkstamp.proof.dns_persist import (
    WantedRecord,
    can_name,
    good_record,
    is_ours,
    read_record,
    reasons,
    record_name,
    usable_issuers,
    write_record,
)

NOW = datetime(2026, 11, 29, tzinfo=UTC)
ACCOUNT = "https://ca.tides.test/account/17"
WANTED = WantedRecord(issuers=("quayside.test", "alt.quayside.test"), account=ACCOUNT, wildcard=False)
WILD = WantedRecord(issuers=WANTED.issuers, account=ACCOUNT, wildcard=True)


def test_the_label_of_an_account_is_that_of_the_draft_by_openssl() -> None:
    done = subprocess.run(["openssl", "dgst", "-sha256", "-binary"], input=ACCOUNT.encode(), capture_output=True,
                          check=True)  # fmt: skip
    label = base64.b32encode(done.stdout[:10]).decode().lower()
    assert account_record_name(ACCOUNT, "*.shop.tides.test") == f"_{label}._acme-challenge.shop.tides.test"
    assert len(label) == 16
    assert hashlib.sha256(ACCOUNT.encode()).digest() == done.stdout


def test_what_is_written_is_read_as_it_was_meant() -> None:
    until = NOW + timedelta(days=400)
    text = write_record(WILD, until)
    assert text == f"quayside.test; accounturi={ACCOUNT}; policy=wildcard; persistUntil={int(until.timestamp())}"
    record = read_record(text)
    assert record is not None
    assert (record.issuer, record.account, record.wildcard, record.until) == ("quayside.test", ACCOUNT, True, until)
    assert good_record([text], WILD, NOW) == record
    assert good_record([text], WANTED, NOW) == record
    assert record_name("*.shop.tides.test") == "_validation-persist.shop.tides.test"


@pytest.mark.parametrize(
    ("text", "why"),
    [
        (f"other.test; accounturi={ACCOUNT}; policy=wildcard", "is for another CA, other.test"),
        (f"quayside.test; accounturi={ACCOUNT}8; policy=wildcard", "is for another account"),
        ("quayside.test; policy=wildcard", "is for another account, none"),
        ("quayside.test", "is for another account, none"),
        (f"quayside.test; accounturi={ACCOUNT}; policy=wildcard; persistUntil=1700000000", "ran out on 2023-11-14"),
        (f"quayside.test; accounturi={ACCOUNT}", "does not allow wildcards"),
        (f"quayside.test; accounturi={ACCOUNT}; policy=specific", "does not allow wildcards"),
    ],
)
def test_a_record_that_does_not_count_is_told_for_what_it_is(text: str, why: str) -> None:
    assert good_record([text], WILD, NOW) is None
    (told,) = reasons([text], WILD, NOW)
    assert why in told


@pytest.mark.parametrize(
    "text",
    [
        "", ";", "; accounturi=x", "quay side.test; accounturi=x", f"quayside.test accounturi={ACCOUNT}",
        f"quayside.test; accounturi={ACCOUNT}; accounturi={ACCOUNT}", f"quayside.test; accounturi={ACCOUNT}; policy",
        f"quayside.test; accounturi={ACCOUNT}; persistUntil=soon", "quayside.test; persistUntil=-1",
        f"quayside.test; accounturi={ACCOUNT}; persistUntil=" + "9" * 400, "-.test; accounturi=x",
        "quayside.test; accounturi=é", f"quayside.test; accounturi={ACCOUNT};; policy=wildcard",
    ],
)  # fmt: skip
def test_a_malformed_record_counts_for_nothing(text: str) -> None:
    assert read_record(text) is None
    assert "is malformed" in reasons([text], WANTED, NOW)[0]


def test_records_of_two_cas_stand_side_by_side_and_letters_do_not_matter() -> None:
    ours = f"QUAYSIDE.Test.;AccountURI={ACCOUNT}; Policy=Wildcard ;unknown=1"
    other = f"fogbell.test; accounturi={ACCOUNT}"
    short = f"alt.quayside.test; accounturi={ACCOUNT}; persistUntil={int(NOW.timestamp()) + 5}"
    record = good_record([other, "v=spf1 -all", short, ours], WILD, NOW)
    assert record is not None
    assert record.text == ours
    assert [is_ours(each, WANTED) for each in (ours, other, short, "x")] == [True, False, True, False]
    assert good_record([short], WANTED, NOW + timedelta(seconds=6)) is None


def test_what_a_ca_calls_itself_gets_into_a_record_only_as_a_domain_name() -> None:
    odd = ["Quayside.Test.", "a b.test", 'x.test"; policy=wildcard', "x.test; accounturi=https://evil.test/1", "",
           "é.test", "a" * 300 + ".test", "quayside.test"]  # fmt: skip
    assert usable_issuers(odd) == ("quayside.test",)
    assert [can_name(each) for each in (ACCOUNT, "https://ca.test/a;b", "https://ca.test/a b", "")] == [
        True, False, False, False,
    ]  # fmt: skip


@given(st.text(alphabet=st.sampled_from(" ;=\tabcACCOUNTURIpersistUntil.-0123456789/:é\x00"), max_size=80))
def test_whatever_is_in_dns_is_read_or_passed_over(text: str) -> None:
    record = read_record(text)
    assert record is None or record.issuer
    assert good_record([text], WANTED, NOW) is None
