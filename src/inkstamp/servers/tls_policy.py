"""In which manner a site that had no TLS is given it: a named policy, a redirect, HSTS, client certificates."""

import tomllib
from functools import cache
from importlib import resources

from msgspec import Struct

_USUAL_PROTOCOLS = ("TLSv1.2", "TLSv1.3")
_DAY = 86_400
PROOF_PATH = "/.well-known/acme-challenge/"
"""Stays open to plain HTTP (RFC 8555 section 8.3)."""


USUAL_POLICY = "strict"
"""The one that is applied where nothing says which."""


def hsts_of(days: int) -> str:
    """Return the value of the HSTS header (RFC 6797 section 6.1) for a number of days."""
    return f"max-age={days * _DAY}"


class Policy(Struct, frozen=True, kw_only=True):
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


class TlsSettings(Struct, frozen=True, kw_only=True):
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
        return hsts_of(self.hsts_days)


@cache
def policies() -> dict[str, Policy]:
    """Return the named policies."""
    text = resources.files("inkstamp.servers").joinpath("policies.toml").read_text("utf-8")
    return {
        name: Policy(about=each["about"], protocols=tuple(each["protocols"]), ciphers=each["ciphers"])
        for name, each in tomllib.loads(text).items()
    }


class TlsChange(Struct, frozen=True, kw_only=True):
    """What is to be otherwise at sites that have TLS; None leaves it as it is."""

    policy: Policy | None = None
    redirect: bool | None = None
    """Whether plain HTTP is sent on to HTTPS, but for proofs."""
    hsts: str | None = None
    """Value of the header (RFC 6797 section 6.1); empty to send none."""
    http2: bool | None = None
    client_roots: str | None = None
    """File of the CA whose certificates clients must show; empty to ask for none."""
    replaces_ciphers: bool = False
    """Whether a cipher list that somebody chose is replaced by the policy's."""

    @property
    def beside_policy(self) -> list[str]:
        """What is wanted beside protocols and ciphers, in words."""
        wanted = {
            "a redirect": self.redirect,
            "HSTS": self.hsts,
            "HTTP/2": self.http2,
            "client certificates": self.client_roots,
        }
        return [told for told, value in wanted.items() if value is not None]


USUAL_CIPHERS = frozenset({"", "DEFAULT", "HIGH:!aNULL", "HIGH:!aNULL:!MD5", "HIGH:MEDIUM:!MD5:!RC4:!3DES"})
"""Lists that servers or distributions bring along, which nobody chose."""


def is_chosen(ciphers: str) -> bool:
    """Tell whether a cipher list is one that somebody chose, and no policy's or distribution's."""
    return ciphers not in USUAL_CIPHERS and ciphers not in {each.ciphers for each in policies().values()}
