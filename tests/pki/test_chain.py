"""Chains: sorted, verified to a root, and judged before a server sees them."""

import subprocess
from datetime import datetime, timedelta
from pathlib import Path

import pytest
from authority_of_tests import NOW, Signer
from cryptography import x509
from hypothesis import given
from hypothesis import strategies as st

from inkstamp.findings import Finding, Severity
from inkstamp.pki import csr, keys
from inkstamp.pki.certificates import to_pem
from inkstamp.pki.chain import arrange, find_paths, judge_edition
from inkstamp.pki.kinds import KeyKind

ROOT = Signer("Root X1", days=3650)
OLDER = Signer("Root X2", days=3650)
MIDDLE = Signer("Middle", ROOT)
LOWER = Signer("Lower", MIDDLE)
CROSS = Signer("Middle", OLDER, key=MIDDLE.key)
LEAF = Signer("site.test", LOWER, ca=False, names=("site.test", "www.site.test"))
STRANGER = Signer("Stranger")
IMPOSTOR = Signer("Lower", STRANGER)
"""Has the name of an issuer and another key."""


@given(st.permutations([ROOT, MIDDLE, LOWER, STRANGER, IMPOSTOR, LOWER]))
def test_the_same_chain_comes_out_whatever_order_duplicates_and_strangers_come_in(pool: list[Signer]) -> None:
    certificates = [each.certificate for each in pool]
    assert arrange(LEAF.certificate, certificates) == (LOWER.certificate, MIDDLE.certificate)
    paths = find_paths(LEAF.certificate, certificates, [ROOT.certificate], NOW)
    assert paths
    assert all(path.root == ROOT.certificate for path in paths)


def test_both_paths_of_a_cross_signed_chain_are_found() -> None:
    pool = [LOWER.certificate, MIDDLE.certificate, CROSS.certificate]
    paths = find_paths(LEAF.certificate, pool, [ROOT.certificate, OLDER.certificate], NOW)
    assert {path.root.subject for path in paths} == {ROOT.subject, OLDER.subject}


def test_no_path_leads_through_an_expired_issuer_or_one_that_is_no_ca() -> None:
    expired = Signer("Expired", ROOT, start=NOW - timedelta(days=100), days=10)
    below_expired = Signer("a.test", expired, ca=False, names=("a.test",))
    no_ca = Signer("No CA", ROOT, ca=False)
    below_no_ca = Signer("b.test", no_ca, ca=False, names=("b.test",))
    for leaf, issuer in ((below_expired, expired), (below_no_ca, no_ca)):
        assert find_paths(leaf.certificate, [issuer.certificate], [ROOT.certificate], NOW) == []


def test_certificates_that_sign_each_other_in_a_circle_end_the_search() -> None:
    one = Signer("One")
    two = Signer("Two", one)
    circle = Signer("One", two, key=one.key)
    leaf = Signer("c.test", circle, ca=False, names=("c.test",))
    assert find_paths(leaf.certificate, [circle.certificate, two.certificate], [ROOT.certificate], NOW) == []


@pytest.mark.parametrize(
    ("topic", "change"),
    [
        ("key", {"public_key": STRANGER.key.public_key()}),
        ("names", {"names": ["site.test", "mail.site.test"]}),
        ("dates", {"moment": NOW + timedelta(days=85)}),
        ("chain", {"roots": [STRANGER.certificate]}),
    ],
)
def test_an_edition_that_must_not_be_served_is_told_by_its_one_fault(topic: str, change: dict[str, object]) -> None:
    given: dict[str, object] = {
        "public_key": LEAF.key.public_key(), "names": ["site.test"], "roots": [ROOT.certificate], "moment": NOW,
    }  # fmt: skip
    pool = [LOWER.certificate, MIDDLE.certificate]

    def judge(*, roots: list[x509.Certificate], moment: datetime, **known: object) -> list[Finding]:
        paths = find_paths(LEAF.certificate, pool, roots, moment)
        return judge_edition(LEAF.certificate, pool, paths=paths, moment=moment, **known)  # type: ignore[arg-type]

    assert {finding.severity for finding in judge(**given)} == {Severity.GOOD}  # type: ignore[arg-type]
    findings = judge(**(given | change))  # type: ignore[arg-type]
    faults = {finding.topic for finding in findings if finding.severity is Severity.BAD}
    assert topic in faults
    assert faults <= {topic, "chain"}  # past the dates of the leaf, its issuers have ended too


def test_openssl_agrees_that_the_arranged_chain_verifies(tmp_path: Path) -> None:
    pool = [STRANGER.certificate, MIDDLE.certificate, ROOT.certificate, LOWER.certificate]
    issuers = arrange(LEAF.certificate, pool)
    files = {"leaf": [LEAF.certificate], "root": [ROOT.certificate], "issuers": issuers}
    for name, content in files.items():
        (tmp_path / name).write_bytes(b"".join(to_pem(each) for each in content))
    done = subprocess.run(
        ["openssl", "verify", "-attime", str(int(NOW.timestamp())), "-CAfile", "root", "-untrusted", "issuers", "leaf"],
        cwd=tmp_path, capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.stdout.strip() == "leaf: OK", done.stderr


@pytest.mark.parametrize("kind", [KeyKind.ECDSA_P256, KeyKind.ECDSA_P384, KeyKind.RSA_2048])
def test_openssl_reads_the_request_we_make_and_finds_all_names(kind: KeyKind) -> None:
    names = ["site.test", "www.site.test", "*.site.test"]
    der = csr.make(keys.make(kind), csr.for_names(names))
    done = subprocess.run(
        ["openssl", "req", "-inform", "DER", "-noout", "-verify", "-text"], input=der, capture_output=True, check=True
    )
    assert b"verify OK" in done.stdout + done.stderr
    for name in names:
        assert f"DNS:{name}".encode() in done.stdout


def test_a_name_too_long_for_a_common_name_is_still_in_the_request() -> None:
    name = ".".join(["x" * 30] * 4) + ".test"
    der = csr.make(keys.make(KeyKind.ECDSA_P256), csr.for_names([name]))
    done = subprocess.run(
        ["openssl", "req", "-inform", "DER", "-noout", "-subject", "-text"], input=der, capture_output=True, check=True
    )
    assert f"DNS:{name}".encode() in done.stdout
    assert b"CN" not in done.stdout.splitlines()[0]
