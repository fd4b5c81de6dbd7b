"""Editions in the certificate stores of a Windows Server: imported, known again by their names, removed."""

import base64
import re
import secrets
from collections.abc import Iterable, Sequence
from typing import Any

import msgspec
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from msgspec.structs import asdict, replace

from inkstamp.config.model import Server
from inkstamp.decoding import from_json
from inkstamp.errors import ServerTrouble
from inkstamp.pki.keys import describe
from inkstamp.pki.kinds import KeyKind
from inkstamp.pki.packing import Goods, as_pkcs12
from inkstamp.reach.windows.host import WindowsHost
from inkstamp.reach.windows.state import StoreItem, WindowsState, issuers_of
from inkstamp.servers.iis.bindings import SiteBinding, https_bindings
from inkstamp.servers.interface import Supply


class Held(msgspec.Struct, frozen=True):
    """What a machine had before an install."""

    certificates: tuple[str, ...] = ()
    """Thumbprints of those with a place of their own."""
    intermediates: tuple[str, ...] = ()
    """Thumbprints of those in the store `CA`."""
    bindings: tuple[SiteBinding, ...] = ()
    """Those of HTTPS."""


def held_by(state: WindowsState) -> str:
    """Return what a machine has, as JSON for `read_held`."""
    held = Held(
        tuple(each.thumbprint.upper() for each in state.certificates),
        tuple(each.thumbprint.upper() for each in state.intermediates),
        tuple(https_bindings(state)),
    )
    return msgspec.json.encode(held).decode()


def read_held(text: str, server: str) -> Held:
    """Read what `held_by` returned; ServerTrouble when that cannot be."""
    try:
        return from_json(text, Held)
    except msgspec.MsgspecError as error:
        raise ServerTrouble(
            "what was kept of the machine's certificates cannot be read", where=server, said=str(error),
            advice="give its sites and services their earlier certificate by hand",
        ) from error  # fmt: skip


class OnWindows:
    """What servers have in common whose certificates lie in the stores of a Windows Server."""

    _windows: WindowsHost
    _editions: "EditionStore"

    def forget(self) -> None:
        """Read the machine anew when it is asked about next."""
        self._windows.forget()

    def holds(self, certificate: str) -> str:  # noqa: ARG002  all of it: others' is told apart when going back
        self.forget()
        return held_by(self._windows.state())

    def make_csr(self, certificate: str, edition: int, kind: KeyKind, names: Sequence[str]) -> bytes:
        return self._windows.make_csr(container_of(certificate, edition), kind, names)


class EditionStore:
    """The editions on one machine, in the store that a `[server.NAME]` table names."""

    def __init__(self, host: WindowsHost, entry: Server) -> None:
        self._host = host
        self._store = entry.store
        self._exportable = entry.exportable
        self._template = entry.friendly_name

    def editions(self, state: WindowsState, certificate: str) -> list[StoreItem]:
        """Return the editions of a certificate by their friendly names, the oldest first."""
        words = re.split(r"\{(certificate|edition)\}", self._template)
        known = {"certificate": re.escape(certificate), "edition": r"(?P<edition>\d+)"}
        pattern = re.compile("".join(known[each] if at % 2 else re.escape(each) for at, each in enumerate(words)))
        found = [
            (int(match["edition"]), each)
            for each in state.certificates
            if (match := pattern.fullmatch(each.friendly_name))
        ]
        return [each for _, each in sorted(found, key=lambda pair: pair[0])]

    def bring(self, state: WindowsState, supply: Supply, bindings: Sequence[SiteBinding] = ()) -> str:
        """Import an edition with its intermediates where they are not there yet, and bind it; returns its thumbprint.

        Args:
            state: What the machine has.
            supply: The edition, loaded.
            bindings: Those that are to have it.

        Raises:
            ServerTrouble: The machine refuses.

        """
        if supply.goods is None:
            return ""
        goods = supply.goods()
        known = {each.thumbprint.upper() for each in state.intermediates}
        thumbprint = thumbprint_of(goods.leaf)
        self._change(
            bindings=[replace(each, thumbprint=thumbprint, store=self._store) for each in bindings],
            intermediates=[_der(each) for each in goods.issuers if thumbprint_of(each) not in known],
            given={
                **self._with_key(goods, supply),
                "thumbprint": thumbprint,
                "store": self._store,
                "friendly_name": self._template.format(certificate=supply.certificate, edition=supply.edition),
            },
        )
        return thumbprint

    def _with_key(self, goods: Goods, supply: Supply) -> dict[str, Any]:
        """Say where an edition's key comes from: a PKCS#12, or a container of that machine."""
        if goods.key is None:
            container = container_of(supply.certificate, supply.edition)
            return {"der": _der(goods.leaf), "container": container, "kind": describe(goods.leaf.public_key())}
        password = secrets.token_urlsafe(24)
        # Triple DES and SHA-1, since Windows Server 2016 reads nothing newer: it is read in memory, behind SSH.
        pkcs12 = as_pkcs12(replace(goods, issuers=(), passphrase=password.encode(), legacy=True, friendly_name=""))
        data = base64.b64encode(pkcs12).decode("ascii")
        return {"pkcs12": data, "password": password, "exportable": self._exportable}

    def drop_older(self, supply: Supply, thumbprint: str) -> None:
        """Remove editions beyond those that are kept, but none that a binding of any site has."""
        state = self._host.state()
        used = {each.thumbprint for each in https_bindings(state)} | {thumbprint}
        old = self.editions(state, supply.certificate)[: -max(supply.keep, 2)]  # one to go back to stays in any case
        self._change(drop=[each for each in old if each.thumbprint.upper() not in used])

    def go_back(self, state: WindowsState, certificate: str, held: Held, back: Sequence[SiteBinding] = ()) -> None:
        """Bring bindings back, and remove editions and intermediates that were not there, unless a binding has them."""
        used = {each.thumbprint for each in {one.place: one for one in (*https_bindings(state), *back)}.values()}
        stay_in_any_case = used | set(held.certificates)
        mine = self.editions(state, certificate)
        gone = [each for each in mine if each.thumbprint.upper() not in stay_in_any_case]
        stay = [each for each in state.certificates if each not in gone]
        issuers = _issuers(state, gone) - set(held.intermediates) - _issuers(state, stay)
        self._change(bindings=back, drop=gone, drop_intermediates=sorted(issuers))

    def _change(
        self,
        *,
        bindings: Sequence[SiteBinding] = (),
        intermediates: Sequence[str] = (),
        given: dict[str, Any] | None = None,
        drop: Sequence[StoreItem] = (),
        drop_intermediates: Sequence[str] = (),
    ) -> None:
        if bindings or intermediates or given or drop or drop_intermediates:
            self._host.change(
                {
                    "import": given,
                    "intermediates": list(intermediates),
                    "bindings": [asdict(each) for each in bindings],
                    "drop": [{"store": each.store, "thumbprint": each.thumbprint} for each in drop],
                    "drop_intermediates": list(drop_intermediates),
                }
            )


def container_of(certificate: str, edition: int) -> str:
    """Return the name of the key that a machine makes for an edition."""
    return f"Ink Stamp {certificate} {edition}"


def thumbprint_of(certificate: x509.Certificate) -> str:
    """Return what Windows knows a certificate by: its SHA-1 digest in capitals."""
    return certificate.fingerprint(hashes.SHA1()).hex().upper()  # noqa: S303  a name, no proof


def _issuers(state: WindowsState, items: Iterable[StoreItem]) -> set[str]:
    """Return the thumbprints of the intermediates that some certificates need."""
    leaves = [each.certificate for each in items]
    return {thumbprint_of(each) for leaf in leaves if leaf is not None for each in issuers_of(state, leaf)}


def _der(certificate: x509.Certificate) -> str:
    return base64.b64encode(certificate.public_bytes(serialization.Encoding.DER)).decode("ascii")
