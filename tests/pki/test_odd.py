"""X.509 by strangers: what libraries give up on is one error at the rim; nothing fails in the middle of work."""

from datetime import timedelta

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509 import ocsp
from cryptography.x509.oid import NameOID
from fuzzing import CORPUS, NOW, pki

from inkstamp.pki.certificates import facts, from_der, key_kind, public_key_of
from inkstamp.pki.chain import Roots, issued_by, same_key
from inkstamp.pki.quality import judge_keys
from inkstamp.pki.revocation import ocsp_urls, read_ocsp
from inkstamp.pki.tlsa import Tlsa, matches
from inkstamp.pki.verifying import second_opinion


def test_a_key_of_a_kind_that_nobody_knows_is_told_of_and_breaks_nothing() -> None:
    certificate = from_der((CORPUS / "bundle" / "a-key-of-an-unknown-kind").read_bytes())
    good, key = pki()
    assert (public_key_of(certificate), key_kind(certificate), facts(certificate).key) == (None, "unknown", "unknown")
    assert not same_key(certificate, key.public_key())
    assert not issued_by(good, certificate)
    assert not matches(Tlsa(3, 1, 1, b"x"), [certificate])
    assert any("no browser knows" in each.seen for each in judge_keys("a.test", [certificate], ""))
    assert second_opinion("a.test", [certificate], Roots([good]), NOW)
    assert ocsp_urls(certificate, certificate) == ()


@pytest.mark.parametrize("file", ["pem/a-tls-feature-that-nobody-knows", "pem/an-extension-cut-short"])
def test_an_extension_that_cannot_be_read_is_an_error_where_the_certificate_is_read(file: str) -> None:
    certificate = x509.load_pem_x509_certificate((CORPUS / file).read_bytes())
    with pytest.raises(ValueError, match=r"."):
        from_der(certificate.public_bytes(serialization.Encoding.DER))


def test_an_ocsp_answer_by_a_signer_whose_certificate_names_no_purpose_counts_for_nothing() -> None:
    issuer, key = pki()
    other = ec.generate_private_key(ec.SECP256R1())
    signer = (
        x509.CertificateBuilder()
        .subject_name(x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "signer")]))
        .issuer_name(issuer.subject)
        .public_key(other.public_key())
        .serial_number(9)
        .not_valid_before(NOW - timedelta(days=1))
        .not_valid_after(NOW + timedelta(days=9))
        .sign(key, hashes.SHA256())
    )
    builder = ocsp.OCSPResponseBuilder().add_response(
        cert=issuer, issuer=issuer, algorithm=hashes.SHA1(), cert_status=ocsp.OCSPCertStatus.GOOD,  # noqa: S303
        this_update=NOW, next_update=NOW + timedelta(days=1), revocation_time=None, revocation_reason=None,
    )  # fmt: skip
    answer = builder.responder_id(ocsp.OCSPResponderEncoding.HASH, signer).certificates([signer])
    data = answer.sign(other, hashes.SHA256()).public_bytes(serialization.Encoding.DER)
    with pytest.raises(ValueError, match="may not sign"):
        read_ocsp(data, issuer, issuer, NOW)
