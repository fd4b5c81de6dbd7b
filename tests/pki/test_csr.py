"""Requests: made as wanted, read whatever surrounds them, judged as a CA would."""

import base64
import hashlib
import subprocess
from contextlib import suppress

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec, ed25519, rsa
from cryptography.x509.oid import NameOID
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from inkstamp.errors import InkStampError, RequestUnreadable
from inkstamp.pki import csr, keys
from inkstamp.pki.certifiable import examine_names, why_address_not_public, why_not_public
from inkstamp.pki.countries import CODES, country_meant
from inkstamp.pki.kinds import KeyKind
from inkstamp.pki.subject import LIMITS, Subject, examine_subject
from inkstamp.severity import Severity

KEYS = {kind: keys.make(kind) for kind in (KeyKind.ECDSA_P256, KeyKind.ECDSA_P384, KeyKind.RSA_2048)}
LABELS = st.from_regex(r"[a-z0-9]([a-z0-9-]{0,20}[a-z0-9])?", fullmatch=True)
NAMES = st.builds(
    lambda star, labels: "*." * star + ".".join([*labels, "org"]),
    st.booleans(),
    st.lists(LABELS, min_size=1, max_size=4),
)
TEXT = st.text(st.characters(codec="utf-8", categories=("L", "N")), min_size=1, max_size=60)
SUBJECTS = st.builds(
    Subject,
    organisation=TEXT | st.just(""),
    unit=TEXT | st.just(""),
    locality=TEXT | st.just(""),
    state=TEXT | st.just(""),
    country=st.sampled_from(["", "GB", "DE"]),
    email=st.sampled_from(["", "a@example.net"]),
)
DER = csr.make(KEYS[KeyKind.ECDSA_P256], csr.for_names(["example.org", "www.example.org"]))
PEM = csr.to_pem(DER).decode()


def openssl(*arguments: str, data: bytes) -> str:
    done = subprocess.run(["openssl", *arguments], input=data, capture_output=True, check=False)
    assert done.returncode == 0, done.stderr
    return (done.stdout + done.stderr).decode()


@settings(max_examples=25, suppress_health_check=[HealthCheck.too_slow])
@given(
    st.sampled_from(list(KEYS)),
    st.lists(NAMES, min_size=1, max_size=5, unique=True),
    SUBJECTS,
    st.lists(st.ip_addresses().map(str), max_size=2, unique=True),
)
def test_every_request_is_read_back_the_same_and_verified_by_openssl(
    kind: KeyKind, names: list[str], subject: Subject, addresses: list[str]
) -> None:
    known = csr.for_names(names, subject)
    wanted = csr.Wanted(subject=known.subject, names=tuple(names), addresses=tuple(addresses))
    der = csr.make(KEYS[kind], wanted)
    pem = csr.to_pem(der)
    facts = csr.facts(csr.read(pem, "x"), "x", private=True)
    assert (facts.names, facts.addresses, facts.key) == (tuple(names), tuple(addresses), kind)
    assert dict(facts.subject) == dict(wanted.subject.given())
    assert "verify OK" in openssl("req", "-noout", "-verify", data=pem)


@pytest.mark.parametrize("kind", list(KEYS))
def test_openssl_finds_every_name_address_and_digest_of_a_request(kind: KeyKind) -> None:
    wanted = csr.Wanted(
        subject=Subject(common_name="example.org", organisation="Saltmarsh Hosting", country="GB", state="Kent"),
        names=("example.org", "*.example.org"),
        addresses=("192.31.196.5", "2620:4f:8000::5"),
    )
    der = csr.make(KEYS[kind], wanted)
    text = openssl("req", "-inform", "DER", "-noout", "-verify", "-text", data=der)
    assert "verify OK" in text
    assert "C = GB, ST = Kent, O = Saltmarsh Hosting, CN = example.org" in text
    for each in (
        "DNS:example.org",
        "DNS:*.example.org",
        "IP Address:192.31.196.5",
        "IP Address:2620:4F:8000:0:0:0:0:5",
    ):
        assert each in text
    facts = csr.facts(der, "x", private=False)
    for name in ("md5", "sha1", "sha256"):
        assert getattr(facts, name) == hashlib.new(name, der).hexdigest()


def test_an_encrypted_key_is_opened_by_openssl_with_its_passphrase_and_not_without() -> None:
    pem = keys.to_pem(KEYS[KeyKind.ECDSA_P256], b"tide table")
    assert keys.is_encrypted(pem)
    assert keys.from_pem(pem, "x", b"tide table").private_numbers() == KEYS[KeyKind.ECDSA_P256].private_numbers()
    for wrong in (None, b"other"):
        with pytest.raises(InkStampError, match="encrypted"):
            keys.from_pem(pem, "x", wrong)
    assert "P-256" in openssl("pkey", "-noout", "-text", "-passin", "pass:tide table", data=pem)
    # RFC 1421 style, as programs of the nineties and some routers still write it
    older = openssl("ec", "-aes128", "-passout", "pass:tide table", data=keys.to_pem(KEYS[KeyKind.ECDSA_P256]))
    assert keys.from_pem(older[older.index("-----") :].encode(), "x", b"tide table")


@pytest.mark.parametrize(
    "data",
    [
        DER,
        PEM.encode(),
        f"Dear CA,\n\nthis is it:\n{PEM}\nyours".encode(),
        PEM.replace("BEGIN CERT", "BEGIN NEW CERT").replace("END CERT", "END NEW CERT").encode(),
        b"\xef\xbb\xbf" + PEM.replace("\n", "\r\n").encode(),
        PEM.encode("utf-16"),
        PEM.encode("utf-16-be"),
        "".join(f"> {line}\n" for line in PEM.splitlines()).encode(),
        (PEM + PEM).encode(),
        base64.b64encode(DER),
    ],
    ids=["DER", "PEM", "mail", "older header", "Windows", "UTF-16", "UTF-16 without mark", "quoted", "twice", "bare"],
)
def test_a_request_is_found_whatever_surrounds_it(data: bytes) -> None:
    assert csr.read(data, "x") == DER


@pytest.mark.parametrize(
    ("data", "told"),
    [
        (b"", "holds no CSR"),
        (b"hello", "holds no CSR"),
        (DER[:-5], "malformed"),
        (PEM.replace("MII", "M*I").encode()[:200], "holds no CSR"),
        (keys.to_pem(KEYS[KeyKind.ECDSA_P256]), "holds no CSR"),
        (
            (PEM + csr.to_pem(csr.make(KEYS[KeyKind.RSA_2048], csr.for_names(["example.net"]))).decode()).encode(),
            "2 CSRs",
        ),
    ],
)
def test_what_is_no_single_request_is_refused_in_words(data: bytes, told: str) -> None:
    with pytest.raises(RequestUnreadable, match=told):
        csr.facts(csr.read(data, "x"), "x", private=False)


@settings(max_examples=300)
@given(st.integers(0, len(DER) - 1), st.integers(0, 255), st.booleans())
def test_no_mutated_request_gives_anything_but_an_answer_or_a_clean_error(at: int, value: int, cut: bool) -> None:
    mutated = DER[:at] + (b"" if cut else bytes([value])) + DER[at + 1 :]
    with suppress(RequestUnreadable):
        facts = csr.facts(csr.read(mutated, "x"), "x", private=False)
        assert facts.sha256 == hashlib.sha256(mutated).hexdigest()


def faults(**fields: str) -> list[str]:
    return [f"{f.severity} {f.subject} {f.seen} {f.remedy}" for f in examine_subject(Subject(**fields))]


@pytest.mark.parametrize(
    ("fields", "told"),
    [
        ({"country": "UK"}, "bad country “UK” is not a country's two-letter code write GB"),
        ({"country": "gb"}, "write GB"),
        ({"country": "Germany"}, "write DE"),
        ({"country": "USA"}, "write US"),
        ({"country": "XQ"}, "ISO 3166"),
        ({"state": "CA", "country": "US"}, "write California"),
        ({"state": "N.Y."}, "spell it out"),
        ({"organisation": "x" * 65}, "65 characters; 64 are allowed"),
        ({"locality": "x" * 129}, "128 are allowed"),
        ({"organisation": "a\nb"}, "control character"),
        ({"organisation": "Saltmarsh"}, "is given without a locality or state and a country"),
        ({"unit": "IT"}, "note unit"),
        ({"email": "nobody"}, "is not an address"),
    ],
)
def test_what_people_get_wrong_in_a_subject_is_told_with_its_remedy(fields: dict[str, str], told: str) -> None:
    assert any(told in each for each in faults(**fields)), faults(**fields)


def test_a_proper_subject_has_no_findings_and_every_country_code_is_taken() -> None:
    assert (
        faults(organisation="Saltmarsh Hosting", locality="Gull", state="Kent", country="GB", email="a@example.net")
        == []
    )
    assert len(CODES) == 249
    assert all(country_meant(code.lower()) == code for code in CODES if code.lower() not in {"uk"})
    assert set(LIMITS) == set(Subject.__struct_fields__)


@pytest.mark.parametrize(
    ("name", "public"),
    [
        ("example.net", True),
        ("a.b.example.co.uk", True),
        ("*.example.net", True),
        ("intranet", False),
        ("rowing.saltmarsh.test", False),
        ("host.local", False),
        ("mail.corp", False),
        ("printer.lan", False),
        ("x.home.arpa", False),
        ("*.org", False),
        ("*.co.uk", False),
        ("short.onion", False),
        (f"{'a' * 56}.onion", True),
        ("localhost", False),
    ],
)
def test_a_name_that_no_public_ca_can_certify_is_known(name: str, public: bool) -> None:
    assert (why_not_public(name) == "") is public


@pytest.mark.parametrize(
    ("address", "public"),
    [
        ("192.31.196.9", True),
        ("2620:4f:8000::5", True),
        ("10.1.2.3", False),
        ("127.0.0.1", False),
        ("192.168.1.1", False),
        ("fe80::1", False),
        ("fd00::1", False),
        ("224.0.0.1", False),
        ("192.0.2.1", False),
    ],
)
def test_an_address_that_no_public_ca_can_certify_is_known(address: str, public: bool) -> None:
    assert (why_address_not_public(address) == "") is public


@pytest.mark.parametrize(
    ("common", "names", "told"),
    [
        (
            "example.org",
            ["example.net", "www.example.net"],
            "bad example.org is the common name and not among the names",
        ),
        ("", ["*.example.org"], "warn *.example.org does not cover example.org itself"),
        ("", ["www.example.org"], "note www.example.org is listed without example.org"),
        ("", ["example.org"], "note example.org is listed without www.example.org"),
        ("", ["example.co.uk"], "note example.co.uk is listed without www.example.co.uk"),
        (
            "",
            ["*.example.org", "example.org", "www.example.org"],
            "note www.example.org is covered by the wildcard already",
        ),
        ("", ["intern"], "bad intern no public CA may issue for it"),
    ],
)
def test_what_is_wrong_or_forgotten_among_the_names_is_told(common: str, names: list[str], told: str) -> None:
    found = [f"{f.severity} {f.subject} {f.seen}" for f in examine_names(common, names, (), private=False)]
    assert any(each.startswith(told) for each in found), found
    assert (
        examine_names(
            "Bücher.example.org", ["xn--bcher-kva.example.org", "www.xn--bcher-kva.example.org"], (), private=False
        )
        == []
    )


def test_for_a_private_ca_any_name_passes_with_a_note() -> None:
    found = examine_names("", ["intern", *(f"a{n}.x.test" for n in range(7))], ["10.0.0.1"], private=True)
    assert {each.severity for each in found} == {Severity.NOTE}
    assert [each.subject for each in found] == [
        "intern",
        "a0.x.test, a1.x.test, a2.x.test, a3.x.test, a4.x.test and 2 more",
        "10.0.0.1",
    ]


def foreign(key: object, digest: hashes.HashAlgorithm | None) -> dict[str, Severity]:
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "a.example.org")])
    names = x509.SubjectAlternativeName([x509.DNSName("a.example.org"), x509.RFC822Name("a@example.org")])
    request = x509.CertificateSigningRequestBuilder().subject_name(subject).add_extension(names, critical=False)
    der = request.sign(key, digest).public_bytes(serialization.Encoding.DER)  # type: ignore[arg-type]
    facts = csr.facts(der, "x", private=False)
    assert facts.others == ("RFC822Name a@example.org",)
    return {finding.topic: finding.severity for finding in facts.findings}


def test_keys_are_judged_by_what_public_cas_take() -> None:
    weak = foreign(rsa.generate_private_key(65537, 1024), hashes.SHA256())  # noqa: S505  that is the point
    assert weak == {"signature": Severity.OK, "key": Severity.BAD}
    assert foreign(ec.generate_private_key(ec.SECP521R1()), hashes.SHA512())["key"] is Severity.WARN
    assert foreign(ec.generate_private_key(ec.SECP256K1()), hashes.SHA256())["key"] is Severity.BAD
    assert foreign(ed25519.Ed25519PrivateKey.generate(), None)["key"] is Severity.BAD
    assert foreign(KEYS[KeyKind.RSA_2048], hashes.SHA256())["key"] is Severity.OK


def test_a_request_changed_after_it_was_signed_is_found_out() -> None:
    changed = DER.replace(b"example.org", b"exampl3.org")
    facts = csr.facts(changed, "x", private=False)
    assert [f.seen for f in facts.findings if f.topic == "signature"] == ["has a signature that is not right"]
