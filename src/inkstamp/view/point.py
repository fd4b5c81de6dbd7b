"""The point of view: which resolver, ports and roots stand for the public."""

import errno
import os
import socket
import ssl
from dataclasses import dataclass
from pathlib import Path

from cryptography import x509

from inkstamp.errors import ConfigurationError
from inkstamp.files import read_bytes
from inkstamp.pki.certificates import pem_certificates

NO_ROUTE = frozenset({errno.EAFNOSUPPORT, errno.EADDRNOTAVAIL, errno.ENETUNREACH})
"""Errors that say that this machine has no way to that kind of address (no IPv6 here): nothing is known of it then."""


@dataclass(frozen=True, slots=True, kw_only=True)
class View:
    """How the public sees a name. The defaults are the real Internet."""

    resolver: tuple[str, int] | None = None
    """Address and port of the DNS resolver; None for the system's."""
    http_port: int = 80
    https_port: int = 443
    dns_port: int = 53
    """Where authoritative nameservers are asked."""
    roots: Path | None = None
    """PEM file of the roots that the public trusts; None for the system's."""


def read_resolver(text: str) -> tuple[str, int] | None:
    """Read `address`, `address:port` or `[v6]:port`; None for an empty text.

    Raises:
        ConfigurationError: It is none of them.

    """
    if not text:
        return None
    bracketed, bare = text.startswith("["), text.count(":") != 1
    if (bracketed and text.endswith("]")) or (bare and not bracketed):
        host, port = text, "53"
    else:
        host, _, port = text.rpartition(":")
    host = host.strip("[]")
    for family in (socket.AF_INET, socket.AF_INET6):
        try:
            socket.inet_pton(family, host)
        except OSError:
            continue
        if port.isdigit() and 0 < int(port) < 65536:
            return host, int(port)
    raise ConfigurationError(
        f"the resolver “{text}” is not an address with a port",
        where="key `resolver` under [view]",
        advice='write it like "192.0.2.53:53"',
    )


CERTIFI = "certifi"


def roots_file(text: str) -> Path:
    """Return the file of roots that a person means: a path, or `certifi` for Mozilla's list as that package has it."""
    if text != CERTIFI:
        return Path(text)
    import certifi  # noqa: PLC0415  needed where the system has no store of its own, or where it is asked for

    return Path(certifi.where())


def load_roots(file: Path | None) -> list[x509.Certificate]:
    """Load the roots that stand for the public's trust: from `file`, the system's store, or where it has none, certifi.

    Raises:
        ConfigurationError: The file is missing or holds no certificate.

    """
    path = file or system_roots_file() or roots_file(CERTIFI)
    if path is None or not path.is_file():
        raise ConfigurationError(
            f"no trusted roots are found in {path or 'the system store'}",
            where=str(path or "system store"),
            advice="install the package ca-certificates, or name a PEM file with `roots` under [view]",
        )
    try:
        roots = pem_certificates(read_bytes(path))
    except ValueError as error:
        raise ConfigurationError(
            f"{path} holds a malformed certificate",
            where=str(path),
            said=str(error),
            advice="put a PEM file of root certificates there",
        ) from error
    if not roots:
        raise ConfigurationError(
            f"{path} holds no PEM certificate", where=str(path), advice="put a PEM file of root certificates there"
        )
    return roots


def careless_context() -> ssl.SSLContext:
    """Return a context that takes any certificate: what is served is looked at, and not relied on."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    return context


def system_roots_file() -> Path | None:
    """Return the file of roots that programs on this machine trust, None when there is none."""
    paths = ssl.get_default_verify_paths()
    for candidate in (
        os.environ.get("SSL_CERT_FILE"),
        paths.cafile,
        paths.openssl_cafile,
        "/etc/ssl/certs/ca-certificates.crt",
        "/etc/pki/tls/certs/ca-bundle.crt",
    ):
        if candidate and Path(candidate).is_file():
            return Path(candidate)
    return None


def is_own_address(address: str) -> bool:
    """Tell whether an IP address belongs to this machine: only then can a socket be bound to it."""
    family = socket.AF_INET6 if ":" in address else socket.AF_INET
    with socket.socket(family, socket.SOCK_DGRAM) as probe:
        try:
            probe.bind((address, 0))
        except OSError:
            return False
    return True
