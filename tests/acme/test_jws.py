"""Signatures and thumbprints, by the RFCs' own examples and by a verifier of other make."""

import json

import pytest
from cryptography.hazmat.primitives.asymmetric import rsa

from inkstamp.acme.jws import b64url, key_authorization, public_jwk, sign, thumbprint, unb64url
from inkstamp.pki import keys
from inkstamp.pki.kinds import KeyKind
from inkstamp.standins.ca import verify_jws

RFC7638 = {
    "kty": "RSA",
    "n": "0vx7agoebGcQSuuPiLJXZptN9nndrQmbXEps2aiAFbWhM78LhWx4cbbfAAtVT86zwu1RK7aPFFxuhDR1L6tSoc_BJECPebWKRXjBZCiFV4n3ok"
    "njhMstn64tZ_2W-5JsGY4Hc5n9yBXArwl93lqt7_RN5w6Cf0h4QyQ5v-65YGjQR0_FDW2QvzqY368QQMicAtaSqzs8KJZgnYb9c7d0zgdAZHzu6qMQ"
    "vRL5hajrn1n91CbOpbISD08qNLyrdkt-bFTWhAI4vMQFh6WeZu0fM4lFd2NcRwr3XPksINHaQ-G_xBniIqbw0Ls1jF44-csFCur-kEgU8awapJzKnq"
    "DKgw",
    "e": "AQAB",
}

RFC7515_A2 = {
    "n": "ofgWCuLjybRlzo0tZWJjNiuSfb4p4fAkd_wWJcyQoTbji9k0l8W26mPddxHmfHQp-Vaw-4qPCJrcS2mJPMEzP1Pt0Bm4d4QlL-yRT-SFd2lZS-"
    "pCgNMsD1W_YpRPEwOWvG6b32690r2jZ47soMZo9wGzjb_7OMg0LOL-bSf63kpaSHSXndS5z5rexMdbBYUsLA9e-KXBdQOS-UTo7WTBEMa2R2CapHg6"
    "65xsmtdVMTBQY4uDZlxvb3qCo5ZwKh9kG4LT6_I5IhlJH7aGhyxXFvUK-DWNmoudF8NAco9_h9iaGNj8q2ethFkMLs91kzk2PAcDTW9gb54h4FRWyu"
    "XpoQ",
    "e": "AQAB",
    "d": "Eq5xpGnNCivDflJsRQBXHx1hdR1k6Ulwe2JZD50LpXyWPEAeP88vLNO97IjlA7_GQ5sLKMgvfTeXZx9SE-7YwVol2NXOoAJe46sui395IW_GO-"
    "pWJ1O0BkTGoVEn2bKVRUCgu-GjBVaYLU6f3l9kJfFNS3E0QbVdxzubSu3Mkqzjkn439X0M_V51gfpRLI9JYanrC4D4qAdGcopV_0ZHHzQlBjudU2Qv"
    "Xt4ehNYTCBr6XCLQUShb1juUO1ZdiYoFaFQT5Tw8bGUl_x_jTj3ccPDVZFD9pIuhLhBOneufuBiB4cS98l2SR_RQyGWSeWjnczT0QU91p1DhOVRuOo"
    "pznQ",
    "p": "4BzEEOtIpmVdVEZNCqS7baC4crd0pqnRH_5IB3jw3bcxGn6QLvnEtfdUdiYrqBdss1l58BQ3KhooKeQTa9AB0Hw_Py5PJdTJNPY8cQn7ouZ2KK"
    "DcmnPGBY5t7yLc1QlQ5xHdwW1VhvKn-nXqhJTBgIPgtldC-KDV5z-y2XDwGUc",
    "q": "uQPEfgmVtjL0Uyyx88GZFF1fOunH3-7cepKmtH4pxhtCoHqpWmT8YAmZxaewHgHAjLYsp1ZSe7zFYHj7C6ul7TjeLQeZD_YwD66t62wDmpe_Hl"
    "B-TnBA-njbglfIsRLtXlnDzQkv5dTltRJ11BKBBypeeF6689rjcJIDEz9RWdc",
}


def test_the_thumbprint_of_rfc_7638_section_3_1_comes_out() -> None:
    assert thumbprint(RFC7638) == "NzbLsXh8uDCcd-6MNwXF4W_7noWXFZAfHkxZsRGC9Xs"


def test_the_rs256_signature_of_rfc_7515_appendix_a_2_verifies_and_ours_by_that_key_too() -> None:
    d, p, q, n = (int.from_bytes(unb64url(RFC7515_A2[part]), "big") for part in ("d", "p", "q", "n"))
    numbers = rsa.RSAPrivateNumbers(
        p, q, d, rsa.rsa_crt_dmp1(d, p), rsa.rsa_crt_dmq1(d, q), rsa.rsa_crt_iqmp(p, q), rsa.RSAPublicNumbers(65537, n)
    )
    key = numbers.private_key()
    jwk = public_jwk(key)
    assert jwk["n"] == RFC7515_A2["n"]
    signed = (
        "eyJhbGciOiJSUzI1NiJ9.eyJpc3MiOiJqb2UiLA0KICJleHAiOjEzMDA4MTkzODAsDQogImh0dHA6Ly9leGFtcGxlLmNvbS9pc19yb290Ijp0"
        "cnVlfQ"
    )
    made = json.loads(sign(key, {}, unb64url(signed.partition(".")[2])))
    assert f"{made['protected']}.{made['payload']}" == signed
    assert made["signature"].startswith("cC4hiUPoj9Eetdgtv3hF80EGrhuB__dzERat0XF9g2VtQgr9PJbu3XOiZj5RZmh7")


@pytest.mark.parametrize(
    ("kind", "alg"),
    [(KeyKind.ECDSA_P256, "ES256"), (KeyKind.ECDSA_P384, "ES384"), (KeyKind.RSA_2048, "RS256")],
)
def test_each_kind_of_account_key_signs_so_that_a_ca_accepts_it(kind: KeyKind, alg: str) -> None:
    key = keys.make(kind)
    for _ in range(20):  # r and s are short now and then, and must be padded
        made = json.loads(sign(key, {"nonce": "n", "url": "https://ca.test/x"}, b'{"a":1}'))
        header = json.loads(unb64url(made["protected"]))
        assert header == {"alg": alg, "nonce": "n", "url": "https://ca.test/x"}
        verify_jws(public_jwk(key), alg, f"{made['protected']}.{made['payload']}".encode(), unb64url(made["signature"]))


def test_a_key_authorization_is_token_dot_thumbprint() -> None:
    """RFC 8555 section 8.1."""
    assert key_authorization("tok", thumbprint(RFC7638)) == "tok.NzbLsXh8uDCcd-6MNwXF4W_7noWXFZAfHkxZsRGC9Xs"


@pytest.mark.parametrize("text", ["a+b", "a/b", "YQ==", "é", "a b"])
def test_what_is_not_base64url_is_refused(text: str) -> None:
    with pytest.raises(ValueError, match="base64url"):
        unb64url(text)
    assert unb64url(b64url(b"\xff\xfe\x00")) == b"\xff\xfe\x00"
