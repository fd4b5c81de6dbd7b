"""Chains: sorted, verified to a root, and judged before a server sees them."""

import ipaddress
import subprocess
from collections.abc import Sequence
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from authority_of_tests import NOW, Signer
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.x509.oid import ExtendedKeyUsageOID
from hypothesis import given
from hypothesis import strategies as st

from inkstamp.findings import Finding
from inkstamp.pki import chain, csr, keys
from inkstamp.pki.certificates import short_name, to_pem
from inkstamp.pki.chain import arrange, choose_path, find_paths, judge_edition
from inkstamp.pki.constraints import why_forbidden
from inkstamp.pki.kinds import KeyKind
from inkstamp.severity import Severity

ROOT = Signer("New Root", days=3650)
OLDER = Signer("Old Root", days=3650)
MIDDLE = Signer("Middle", ROOT)
LOWER = Signer("Lower", MIDDLE)
CROSS = Signer("Middle", OLDER, key=MIDDLE.key)
LEAF = Signer("site.test", LOWER, ca=False, names=("site.test", "www.site.test"))
STRANGER = Signer("Stranger")
IMPOSTOR = Signer("Lower", STRANGER)
"""Has the name of an issuer and another key."""


@given(st.permutations([ROOT, OLDER, MIDDLE, CROSS, LOWER, STRANGER, IMPOSTOR]))
def test_cross_signed_issuers_come_out_the_same_in_any_order(pool: list[Signer]) -> None:
    certificates = [each.certificate for each in pool]
    usual = [each.certificate for each in (ROOT, OLDER, MIDDLE, CROSS, LOWER)]
    assert arrange(LEAF.certificate, certificates) == arrange(LEAF.certificate, usual)
    roots = [ROOT.certificate, OLDER.certificate]
    assert find_paths(LEAF.certificate, certificates, roots, NOW) == find_paths(LEAF.certificate, usual, roots, NOW)


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


SERVING = x509.ExtendedKeyUsage([ExtendedKeyUsageOID.SERVER_AUTH])
MAILING = x509.ExtendedKeyUsage([ExtendedKeyUsageOID.EMAIL_PROTECTION])


def limited(permitted: list[x509.GeneralName] | None = None, excluded: list[x509.GeneralName] | None = None) -> Signer:
    return Signer("Limited", ROOT, more=[x509.NameConstraints(permitted, excluded)])


def dns(name: str) -> list[x509.GeneralName]:
    return [x509.DNSName(name)]


def network(text: str) -> list[x509.GeneralName]:
    return [x509.IPAddress(ipaddress.ip_network(text))]


ADDRESS = x509.SubjectAlternativeName(
    [x509.DNSName("example.org"), x509.IPAddress(ipaddress.ip_address("192.31.196.9"))]
)


@pytest.mark.parametrize(
    ("issuer", "leaf", "told"),
    [
        (Signer("Short", ROOT, path_length=0), {}, ""),
        (Signer("Mail", ROOT, more=[MAILING]), {}, "not meant for servers"),
        (Signer("Web", ROOT, more=[SERVING]), {"more": [SERVING]}, ""),
        (MIDDLE, {"more": [MAILING]}, "not meant for servers"),
        (limited(dns("site.test")), {}, ""),
        (limited(dns("other.test")), {}, "limited to other.test"),
        (limited(dns("te.test")), {}, "limited to te.test"),
        (limited(None, dns("site.test")), {}, "is excluded"),
        (limited(None, dns("")), {}, "is excluded"),
        (limited(dns("org") + network("192.31.196.0/24")), {"names": (), "more": [ADDRESS]}, ""),
        (limited(dns("org") + network("198.18.0.0/15")), {"names": (), "more": [ADDRESS]}, "192.31.196.9"),
        (limited(None, network("192.31.196.0/24")), {"names": (), "more": [ADDRESS]}, "192.31.196.9"),
    ],
)
def test_what_an_issuer_may_not_certify_leads_to_no_root_and_openssl_agrees(
    issuer: Signer, leaf: dict[str, Any], told: str, tmp_path: Path
) -> None:
    made = Signer("site.test", issuer, **{"ca": False, "names": ("www.site.test",), **leaf}).certificate
    paths = find_paths(made, [issuer.certificate], [ROOT.certificate], NOW)
    assert bool(paths) is (told == "")
    assert told in why_forbidden([made, issuer.certificate, ROOT.certificate])
    assert verifies(tmp_path, made, [issuer.certificate]) is (told == "")


def test_a_path_length_counts_the_intermediates_below(tmp_path: Path) -> None:
    top = Signer("Top", ROOT, path_length=0)
    lower = Signer("Below", top)
    leaf = Signer("a.test", lower, ca=False, names=("a.test",)).certificate
    pool = [lower.certificate, top.certificate]
    assert find_paths(leaf, pool, [ROOT.certificate], NOW) == []
    assert "allows 0 intermediates below it and there are 1" in why_forbidden([leaf, *pool, ROOT.certificate])
    assert not verifies(tmp_path, leaf, pool)


def test_the_wanted_root_is_taken_by_name_or_fingerprint_and_the_shortest_path_otherwise() -> None:
    newer = Signer("New Root", days=3650)
    cross = Signer("New Root", OLDER, key=newer.key)
    middle = Signer("M", newer)
    leaf = Signer("a.test", middle, ca=False, names=("a.test",)).certificate
    pool = [cross.certificate, middle.certificate]
    paths = find_paths(leaf, pool, [OLDER.certificate, newer.certificate], NOW)
    assert [short_name(each.root.subject) for each in paths] == ["New Root", "Old Root"]
    assert [len(each.issuers) for each in paths] == [1, 2]
    digest = OLDER.certificate.fingerprint(hashes.SHA256()).hex(":").upper()
    for wanted, length in (("", 1), ("Old Root", 2), (digest, 2), ("Unknown", 1)):
        chosen = choose_path(paths, wanted)
        assert chosen is not None
        assert len(chosen.issuers) == length
    assert choose_path([], "Old Root") is None


def test_sorting_looks_at_namesakes_alone_however_many_certificates_there_are(monkeypatch: pytest.MonkeyPatch) -> None:
    tried = 0
    real = chain.issued_by

    def counted(certificate: x509.Certificate, issuer: x509.Certificate) -> bool:
        nonlocal tried
        tried += 1
        return real(certificate, issuer)

    monkeypatch.setattr(chain, "issued_by", counted)
    issuers = [Signer(f"CA {n}", ROOT) for n in range(20)]
    leaves = [Signer(f"{n}.test", issuers[n % 20], ca=False, key=LEAF.key).certificate for n in range(200)]
    pool = chain.Pool([*leaves, *(each.certificate for each in issuers)], [ROOT.certificate])
    for leaf in leaves:
        assert len(find_paths(leaf, pool, (), NOW)) == 1
    assert tried <= len(leaves) + 2 * len(issuers)


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

    assert {finding.severity for finding in judge(**given)} == {Severity.OK}  # type: ignore[arg-type]
    findings = judge(**(given | change))  # type: ignore[arg-type]
    faults = {finding.topic for finding in findings if finding.severity is Severity.BAD}
    assert topic in faults
    assert faults <= {topic, "chain"}  # past the dates of the leaf, its issuers have ended too


def test_openssl_agrees_that_the_arranged_chain_verifies(tmp_path: Path) -> None:
    pool = [STRANGER.certificate, MIDDLE.certificate, ROOT.certificate, LOWER.certificate]
    issuers = arrange(LEAF.certificate, pool)
    assert verifies(tmp_path, LEAF.certificate, issuers)


def verifies(folder: Path, leaf: x509.Certificate, issuers: Sequence[x509.Certificate]) -> bool:
    """What openssl says, for a server's certificate below ROOT."""
    files = {"leaf": [leaf], "root": [ROOT.certificate], "issuers": issuers}
    for name, content in files.items():
        (folder / name).write_bytes(b"".join(to_pem(each) for each in content))
    done = subprocess.run(
        ["openssl", "verify", "-purpose", "sslserver", "-attime", str(int(NOW.timestamp())),
         "-CAfile", "root", "-untrusted", "issuers", "leaf"],
        cwd=folder, capture_output=True, text=True, check=False,
    )  # fmt: skip
    return done.stdout.strip() == "leaf: OK"


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
