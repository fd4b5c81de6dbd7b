"""In which manner a site that had no TLS is given it: a named policy, a redirect, HSTS, client certificates."""

import tomllib
from dataclasses import dataclass
from functools import cache
from importlib import resources

_USUAL_PROTOCOLS = ("TLSv1.2", "TLSv1.3")
_DAY = 86_400
PROOF_PATH = "/.well-known/acme-challenge/"
"""Stays open to plain HTTP (RFC 8555 section 8.3)."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Policy:
    """Which protocols and ciphers a site takes."""

    about: str
    protocols: tuple[str, ...]
    """As nginx writes them: `TLSv1.2`."""
    ciphers: str
    """Of TLS 1.2 (openssl-ciphers(1)); empty for those that the server was built with."""

    @property
    def least(self) -> str:
        """The oldest protocol."""
        return min(self.protocols)


@dataclass(frozen=True, slots=True, kw_only=True)
class TlsSettings:
    """What is added beside certificate and key."""

    policy: Policy = Policy(about="", protocols=_USUAL_PROTOCOLS, ciphers="")
    http2: bool = False
    """Whether HTTP/2 is offered (RFC 9113)."""
    redirect: bool = False
    """Whether plain HTTP is sent on to HTTPS, but for proofs."""
    hsts_days: int = 0
    """How long browsers shall ask by HTTPS alone (RFC 6797); 0 to say nothing of it."""
    client_roots: str = ""
    """File of the CA whose certificates clients must show; empty to ask for none."""

    @property
    def hsts(self) -> str:
        """The header's value (RFC 6797 section 6.1)."""
        return f"max-age={self.hsts_days * _DAY}"


@cache
def policies() -> dict[str, Policy]:
    """Return the named policies."""
    text = resources.files("inkstamp.servers").joinpath("policies.toml").read_text("utf-8")
    return {
        name: Policy(about=each["about"], protocols=tuple(each["protocols"]), ciphers=each["ciphers"])
        for name, each in tomllib.loads(text).items()
    }
