"""Which of a Windows Server's bindings answer a name, and which are to have a certificate: pure functions."""

from collections.abc import Iterator, Sequence

from msgspec import Struct
from msgspec.structs import replace

from inkstamp.errors import ServerTrouble
from inkstamp.pki.certificates import subject_names
from inkstamp.pki.names import as_address, uncovered
from inkstamp.reach.windows.state import CENTRAL, SNI, Binding, IisSite, WindowsState

_EXACT, _WILDCARD, _ANY = range(3)


class SiteBinding(Struct, frozen=True):
    """A binding of HTTPS as it is, or is to be."""

    site: str
    ip: str
    """The address as written, `*` for all."""
    port: int
    host: str
    flags: int
    thumbprint: str
    """Of its certificate; empty for one that is to be no more."""
    store: str

    @property
    def place(self) -> tuple[str, str, int, str]:
        """What tells it from others."""
        return self.site, self.ip, self.port, self.host


def https_bindings(state: WindowsState) -> list[SiteBinding]:
    """Return all bindings of HTTPS."""
    return [
        SiteBinding(site.name, each.address, each.port, each.host, each.flags, each.thumbprint.upper(), each.store)
        for site in state.sites
        for each in site.bindings
        if each.protocol == "https"
    ]


def answering(state: WindowsState, name: str, protocol: str) -> list[tuple[IisSite, Binding]]:
    """Return the bindings that answer a name: those of that host, else of a wildcard for it, else of any host."""
    found: dict[int, list[tuple[IisSite, Binding]]] = {}
    for site in state.sites:
        for each in site.bindings:
            rank = _rank(each, name)
            if each.protocol == protocol and each.port and rank is not None:
                found.setdefault(rank, []).append((site, each))
    return found[min(found)] if found else []


def _rank(binding: Binding, name: str) -> int | None:
    if not binding.host:
        return _ANY
    if binding.host == name:
        return _EXACT
    return _WILDCARD if binding.host.startswith("*.") and not uncovered([binding.host], [name]) else None


def targets(
    state: WindowsState, name: str, covered: Sequence[str], https_port: int, server: str
) -> Iterator[SiteBinding]:
    """Yield the bindings that are to have a certificate so that it is served for a name, without a certificate yet.

    A binding that other names need is left alone: the name gets one of its own beside it, told apart by SNI.

    Args:
        state: The machine.
        name: The name.
        covered: All names that the certificate covers.
        https_port: The port of HTTPS as the public sees it.
        server: The configured server, for what is wrong.

    Raises:
        ServerTrouble: Nothing answers the name, or its certificate comes from the central store.

    """
    with_tls, plain = answering(state, name, "https"), answering(state, name, "http")
    own = [(site, each) for site, each in with_tls if each.host == name]
    if own:
        yield from (_bound(site, each, state, server) for site, each in own)
        return
    named = [(site, each) for site, each in plain if each.host == name]
    shared = [(site, each) for site, each in with_tls if not named or site in [one for one, _ in named]]
    usable = [(site, each) for site, each in shared if not _others_need(state, each, covered)]
    if usable:
        yield from (_bound(site, each, state, server) for site, each in usable)
        return
    beside = named or with_tls or plain
    if not beside or as_address(name):
        raise not_found(name, server)
    for site, each in beside:
        host = "" if name.startswith("*.") else name
        yield SiteBinding(site.name, each.address, https_port, host, SNI if host else 0, "", "")


def not_found(name: str, server: str) -> ServerTrouble:
    """Make the error for a name that nothing answers."""
    return ServerTrouble(
        f"no site of server “{server}” answers {name}",
        where=server,
        advice=f"add a binding for {name} to its site in IIS; `inkstamp survey` shows what there is",
    )


def _bound(site: IisSite, binding: Binding, state: WindowsState, server: str) -> SiteBinding:
    if binding.flags & CENTRAL:
        raise ServerTrouble(
            f"the site “{site.name}” takes its certificate from the central certificate store",
            where=f"{server}: {binding.information}",
            advice=f"have the certificate copied there (kind = “files”, form = “pkcs12”): {state.central}; or give the "
            "binding a certificate of its own in IIS Manager",
        )
    return SiteBinding(site.name, binding.address, binding.port, binding.host, binding.flags, "", "")


def _others_need(state: WindowsState, binding: Binding, covered: Sequence[str]) -> bool:
    """Tell whether a binding serves a certificate that others believe, for names that the new one does not cover."""
    item = state.items.get(binding.place)
    leaf = item.certificate if item is not None else None
    if leaf is None or leaf.subject == leaf.issuer:
        return False
    return bool(uncovered(covered, subject_names(leaf)))


def brought_back(now: Sequence[SiteBinding], held: Sequence[SiteBinding], ours: frozenset[str]) -> list[SiteBinding]:
    """Return what brings bindings back that have a certificate of `ours` (thumbprints) now, to what they had.

    Those that somebody else has changed since, or that never were ours, stay as they are.
    """
    before = {each.place: each for each in held}
    found = []
    for each in now:
        was = before.get(each.place)
        if each.thumbprint in ours and was != each:
            found.append(was if was is not None else replace(each, thumbprint="", store=""))
    return found
