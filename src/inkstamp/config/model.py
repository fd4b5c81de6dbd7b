"""What `inkstamp.toml` can say, as data.

Paths are written relative to the file's own folder and made absolute when it is read.
"""

from typing import Literal

import msgspec

from inkstamp.pki.kinds import KeyKind


class Section(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Base of all tables of the file."""


class Authority(Section, frozen=True):
    """`[authority.NAME]`: one CA and our account with it."""

    directory: str
    """URL of the ACME directory (RFC 8555 section 7.1.1)."""
    kind: Literal["acme"] = "acme"
    email: str = ""
    """Contact of the account; empty for none."""
    agree_terms: bool = False
    """Whether the CA's terms of service are agreed to."""
    trust: str = ""
    """PEM file with the roots of the API's own certificate; empty for the system's."""
    account_key: KeyKind = KeyKind.ECDSA_P256
    root: str = ""
    """Common name of the root that chains should lead to; empty for the CA's own choice."""


class Server(Section, frozen=True):
    """`[server.NAME]`: something that serves TLS."""

    kind: Literal["nginx"]
    program: str = "nginx"
    """The server's program: a path, or a name found in PATH."""
    main_file: str = "/etc/nginx/nginx.conf"
    """The configuration file that the program is started with."""
    prefix: str = ""
    """The folder that relative paths start from; empty for the one the program was built with."""


class Certificate(Section, frozen=True):
    """`[certificate.NAME]`: a set of names that must always be served by a good certificate."""

    names: tuple[str, ...]
    authority: str
    via: str
    """The server whose document roots carry the proofs."""
    proof: Literal["http-01"] = "http-01"
    install: tuple[str, ...] = ()
    """The servers that are given the certificate."""
    key: KeyKind = KeyKind.ECDSA_P256


class View(Section, frozen=True):
    """`[view]`: how the public sees a name; left out in production."""

    resolver: str = ""
    """`address:port` of the DNS resolver; empty for the system's."""
    http_port: int = 80
    https_port: int = 443
    roots: str = ""
    """PEM file with the roots that the public trusts; empty for the system's."""


class Configuration(Section, frozen=True):
    """The whole file."""

    authority: dict[str, Authority] = {}
    server: dict[str, Server] = {}
    certificate: dict[str, Certificate] = {}
    view: View = View()
    home: str = ""
    """Folder of ledger, accounts and shelf, when it is not the default one."""
