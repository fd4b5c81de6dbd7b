"""Words of the configuration that the command line has to know, apart from what takes time to load."""

from typing import Literal

Method = Literal[
    "http-01", "dns-01", "tls-alpn-01", "dns-account-01", "dns-persist-01", "file", "cname", "txt", "email"
]
DRAFT_METHODS: tuple[Method, ...] = ("dns-account-01", "dns-persist-01")
"""draft-ietf-acme-dns-account-label and draft-ietf-acme-dns-persist."""
ACME_METHODS: tuple[Method, ...] = ("http-01", "dns-01", "tls-alpn-01", *DRAFT_METHODS)
"""RFC 8555 section 8, RFC 8737, and drafts."""
RECORD_METHODS: frozenset[Method] = frozenset({"dns-01", *DRAFT_METHODS})
"""Those by TXT records, at ACME CAs."""
BY_HAND = "by-hand"
"""In the place of a server: a person puts the proof up."""
LISTENER = "listener"
"""In the place of a server: Ink Stamp answers on the port itself, for as long as the CA looks."""

PortalStep = Literal["validation", "organisation", "call", "documents", "approval", "payment", "review"]
"""What an order at a portal goes through after the CSR was pasted; `validation` is domain control validation."""

CopyForm = Literal["leaf", "issuers", "served", "key", "combined", "pkcs12"]
"""What of an edition a file holds."""
SECRET_FORMS = frozenset({"key", "combined", "pkcs12"})
"""Those with the private key."""

Matter = Literal["renewed", "failing", "expiring", "not-installed", "waiting", "account"]
"""What people can be told about."""
