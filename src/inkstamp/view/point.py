"""The point of view: which resolver, ports and roots stand for the public."""

import errno
import ipaddress
import os
import socket
import ssl
from pathlib import Path

from cryptography import x509
from msgspec import Struct

from inkstamp.errors import ConfigurationError
from inkstamp.files import read_bytes
from inkstamp.pki.certificates import pem_certificates
from inkstamp.transport import bounded

_NO_WAY = frozenset({errno.EAFNOSUPPORT, errno.EADDRNOTAVAIL, errno.ENETUNREACH})
_ANY_PORT = 9


class View(Struct, frozen=True, kw_only=True):
    """How the public sees a name. The defaults are the real Internet."""

    resolver: tuple[str, int] | None = None
    """Address and port of the DNS resolver; None for the system's."""
    http_port: int = 80
    https_port: int = 443
    dns_port: int = 53
    """Where authoritative nameservers are asked."""
    roots: Path | None = None
    """PEM file of the roots that the public trusts; None for the system's."""

    @property
    def is_private(self) -> bool:
        """Whether it has roots of its own: a network whose names and addresses are not the public's."""
        return self.roots is not None

    def port_of(self, scheme: str, port: int | None) -> int:
        """Return the port to connect to for a URL of a site that the view is of."""
        return port if port is not None else self.https_port if scheme == "https" else self.http_port

    def is_internal(self, address: str) -> bool:
        """Tell whether no stranger may lead us to an address: it is not one of the public Internet."""
        return not self.is_private and not is_public(address)


_TRANSLATED = ipaddress.ip_network("64:ff9b::/96")
"""IPv6 addresses that a translator makes of IPv4 ones (RFC 6052 section 2.1)."""


def is_public(address: str) -> bool:
    """Tell whether an IP address is one of the public Internet, whatever it is written or wrapped in.

    Loopback, link-local, private, unique-local, shared, multicast and reserved addresses are not (RFC 6890), nor are
    they as IPv4-mapped, 6to4, Teredo or translated IPv6 addresses.
    """
    try:
        found = ipaddress.ip_address(address)
    except ValueError:
        return False
    if isinstance(found, ipaddress.IPv6Address):
        inner = [found.ipv4_mapped, found.sixtofour, *(found.teredo or ())]
        if found in _TRANSLATED:
            inner.append(ipaddress.IPv4Address(int(found) & 0xFFFFFFFF))
        carried = [each for each in inner if each is not None]
        if carried:
            return all(each.is_global and not each.is_multicast for each in carried)
    return found.is_global and not found.is_multicast


def is_without_way(address: str, number: int | None) -> bool:
    """Tell whether this machine has no route to that kind of address (no IPv6 here): nothing is known of it then.

    `number` is the errno with which a connection failed. “No route to host” may also come from a router, or be said of
    a neighbour that is down: whether it is this machine's own routes that say so shows without sending anything.
    """
    if number != errno.EHOSTUNREACH:
        return number in _NO_WAY
    family = socket.AF_INET6 if ":" in address else socket.AF_INET
    try:
        with socket.socket(family, socket.SOCK_DGRAM) as asked:
            asked.connect((address, _ANY_PORT))
    except OSError:
        return True
    return False


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
    context = bounded(ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT))
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
