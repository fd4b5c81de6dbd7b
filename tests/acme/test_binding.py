"""Bindings and key changes (RFC 8555 sections 7.3.4 and 7.3.5), read by a library of another make."""

import json
from typing import Any

import pytest
from jwcrypto import jwk, jws

from inkstamp.acme.jws import b64url, binding, compact_json, public_jwk, signed, thumbprint
from inkstamp.pki import keys
from inkstamp.pki.kinds import KeyKind

SECRET = bytes(range(64))


def opened(flattened: dict[str, str], key: jwk.JWK, *, alg: str) -> tuple[dict[str, Any], Any]:
    """Have the other library check a JWS; returns its header and payload."""
    found = jws.JWS()
    found.allowed_algs = [alg]
    found.deserialize(json.dumps(flattened))
    found.verify(key, alg=alg)
    return found.jose_header, json.loads(found.payload)


@pytest.mark.parametrize("alg", ["HS256", "HS384", "HS512"])
@pytest.mark.parametrize("kind", [KeyKind.ECDSA_P256, KeyKind.ECDSA_P384, KeyKind.RSA_2048])
def test_a_binding_is_what_another_library_takes_for_one(alg: str, kind: KeyKind) -> None:
    key = keys.make(kind)
    made = binding(public_jwk(key), key_id="customer-7", mac_key=SECRET, alg=alg, url="https://ca.test/new-account")
    header, payload = opened(made, jwk.JWK(kty="oct", k=b64url(SECRET)), alg=alg)
    assert header == {"alg": alg, "kid": "customer-7", "url": "https://ca.test/new-account"}
    assert payload == public_jwk(key)
    other = jwk.JWK(kty="oct", k=b64url(SECRET[:-1] + b"x"))
    with pytest.raises(jws.InvalidJWSSignature):
        opened(made, other, alg=alg)


@pytest.mark.parametrize(
    ("kind", "alg"), [(KeyKind.ECDSA_P256, "ES256"), (KeyKind.ECDSA_P384, "ES384"), (KeyKind.RSA_2048, "RS256")]
)
def test_the_inner_part_of_a_key_change_proves_the_new_key_to_another_library(kind: KeyKind, alg: str) -> None:
    old, new = keys.make(KeyKind.ECDSA_P256), keys.make(kind)
    told = {"account": "https://ca.test/account/1", "oldKey": public_jwk(old)}
    header = {"jwk": public_jwk(new), "url": "https://ca.test/key-change"}
    inner = signed(new, header, compact_json(told))
    public = jwk.JWK(**public_jwk(new))
    found, payload = opened(inner, public, alg=alg)
    assert found == {"alg": alg, **header}
    assert payload == told
    assert public.thumbprint() == thumbprint(public_jwk(new))
