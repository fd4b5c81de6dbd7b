"""The `dns-01` proof: a TXT record (RFC 8555 section 8.4); and `dns-account-01`, at a label of the account's own."""

import base64
import hashlib

from inkstamp.acme.jws import b64url

PREFIX = "_acme-challenge."


def record_name(name: str) -> str:
    """Return where the record of a name stands; a wildcard and its bare name share the place."""
    return PREFIX + name.removeprefix("*.")


def account_record_name(account: str, name: str) -> str:
    """Return where the `dns-account-01` record of a name is, for an account by its URL.

    draft-ietf-acme-dns-account-label.
    """
    label = base64.b32encode(hashlib.sha256(account.encode("ascii")).digest()[:10]).decode("ascii").lower()
    return f"_{label}.{record_name(name)}"


def record_value(key_authorization: str) -> str:
    """Return the record's value: base64url of the key authorization's SHA-256 (section 8.4)."""
    return b64url(hashlib.sha256(key_authorization.encode("ascii")).digest())
