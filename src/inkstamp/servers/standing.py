"""A standing answer: what a server says to every `http-01` challenge for one account key.

The answer is the token, a dot, and the thumbprint of the account key (RFC 8555 sections 8.1 and 8.3), so that a server
which knows the thumbprint needs no file. It proves nothing for anybody else: only who has that account's key can make
use of it.
"""

REMARK = "# answers http-01 challenges for one ACME account key; put here by `inkstamp prove --standing`"
"""Stands above what makes a server answer."""
CHALLENGES = r"/\.well-known/acme-challenge/"
"""The challenge path, as a regular expression."""
TOKEN = "[A-Za-z0-9_-]{1,128}"  # noqa: S105  an expression
"""What a token looks like: base64url (RFC 8555 section 8.1), as a regular expression."""
