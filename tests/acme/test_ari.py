"""How a CA knows a certificate when it is asked about renewal."""

from datetime import timedelta

from authority_of_tests import NOW, Signer
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec

from inkstamp.acme.ari import certificate_id


def certificate(serial: int, key_id: str) -> x509.Certificate:
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([])
    builder = x509.CertificateBuilder().subject_name(name).issuer_name(name).public_key(key.public_key())
    builder = builder.serial_number(serial).not_valid_before(NOW).not_valid_after(NOW + timedelta(days=1))
    known = x509.AuthorityKeyIdentifier(bytes.fromhex(key_id), None, None)
    return builder.add_extension(known, critical=False).sign(key, hashes.SHA256())


def test_the_example_of_rfc_9773_section_4_1() -> None:
    made = certificate(0x87654321, "69885b6b87464041e1b37b847ba0ae2cde01c8d4")
    assert certificate_id(made) == "aYhba4dGQEHhs3uEe6CuLN4ByNQ.AIdlQyE"


def test_a_serial_whose_first_bit_is_not_set_has_no_leading_zero_and_without_a_key_there_is_no_identifier() -> None:
    assert certificate_id(certificate(0x7F, "00ff")) == "AP8.fw"
    assert certificate_id(certificate(0x80, "00ff")) == "AP8.AIA"
    assert certificate_id(Signer("site.test").certificate) == ""
