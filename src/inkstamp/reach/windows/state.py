"""What a Windows Server says of itself: IIS's sites with their bindings, and its certificate stores."""

import base64
from functools import cached_property

import msgspec
from cryptography import x509

from inkstamp.pki.certificates import from_der, to_pem

SNI, CENTRAL = 1, 2
"""Of a binding's flags: it is chosen by the name that is asked for; its certificate is in the central store."""
_MOST_ISSUERS = 8


class Binding(msgspec.Struct, frozen=True):
    """One binding of a site."""

    protocol: str
    information: str
    """`address:port:host`; the address is `*` for all, the host is empty for any."""
    flags: int = 0
    thumbprint: str = ""
    store: str = ""

    @property
    def address(self) -> str:
        """Its address as written."""
        return self.information.rsplit(":", 2)[0] if self.information.count(":") > 1 else ""

    @property
    def port(self) -> int:
        """Its port; 0 where there is none."""
        words = self.information.rsplit(":", 2)
        return int(words[1]) if len(words) == 3 and words[1].isascii() and words[1].isdigit() else 0

    @property
    def host(self) -> str:
        """The host name that it is for, in lower case; empty for any."""
        return self.information.rsplit(":", 2)[-1].lower() if ":" in self.information else ""

    @property
    def place(self) -> str:
        """Store and thumbprint of its certificate; empty for none."""
        return f"{self.store or 'My'}/{self.thumbprint.upper()}" if self.thumbprint else ""


class IisSite(msgspec.Struct, frozen=True):
    """A site."""

    name: str
    state: str
    path: str
    """Its physical path, variables filled in; empty for none."""
    bindings: tuple[Binding, ...] = ()


class StoreItem(msgspec.Struct, frozen=True):
    """A certificate in a store."""

    store: str
    thumbprint: str
    der: str
    """In base64."""
    friendly_name: str = ""
    has_key: bool = False
    exportable: bool = False

    @property
    def place(self) -> str:
        """Store and thumbprint."""
        return f"{self.store}/{self.thumbprint.upper()}"

    @property
    def certificate(self) -> x509.Certificate | None:
        """The certificate; None where it cannot be read."""
        return _read(self.der)


class Intermediate(msgspec.Struct, frozen=True):
    """A certificate in the store `CA`."""

    thumbprint: str
    der: str
    """In base64."""


class WindowsState(msgspec.Struct, frozen=True, dict=True):
    """All that read.ps1 tells."""

    version: str = ""
    addresses: tuple[str, ...] = ()
    central: str = ""
    """The folder of the central certificate store; empty where that is not on."""
    sites: tuple[IisSite, ...] = ()
    certificates: tuple[StoreItem, ...] = ()
    intermediates: tuple[Intermediate, ...] = ()

    @cached_property
    def items(self) -> dict[str, StoreItem]:
        """The certificates with a place of their own, by that."""
        return {each.place: each for each in self.certificates}

    @cached_property
    def issuers(self) -> tuple[x509.Certificate, ...]:
        """The intermediates, as far as they can be read."""
        return tuple(found for each in self.intermediates if (found := _read(each.der)) is not None)


def pem_of(state: WindowsState, place: str) -> bytes | None:
    """Return a certificate by STORE/THUMBPRINT as PEM, and the intermediates of that machine; None for none."""
    item = state.items.get(place)
    leaf = item.certificate if item is not None else None
    if leaf is None:
        return None
    return b"".join(map(to_pem, [leaf, *issuers_of(state, leaf)]))


def issuers_of(state: WindowsState, leaf: x509.Certificate) -> list[x509.Certificate]:
    """Return the intermediates in the store `CA` that lead on from a certificate, the nearest first."""
    chain: list[x509.Certificate] = []
    last = leaf
    while len(chain) < _MOST_ISSUERS and last.subject != last.issuer:
        issuer = next((each for each in state.issuers if each.subject == last.issuer and each not in chain), None)
        if issuer is None:
            break
        chain.append(issuer)
        last = issuer
    return chain


def _read(text: str) -> x509.Certificate | None:
    try:
        return from_der(base64.b64decode(text))
    except ValueError:
        return None
