"""An IIS as a server kind: it is handed certificates by way of the machine's own stores, and binds them to sites."""

from collections.abc import Sequence

from inkstamp.config.model import Server
from inkstamp.errors import ServerTrouble
from inkstamp.reach.interface import Host, Ran
from inkstamp.reach.windows.host import WindowsHost
from inkstamp.reach.windows.state import CENTRAL, Binding, IisSite, WindowsState
from inkstamp.servers.common import endpoints
from inkstamp.servers.iis.bindings import answering, brought_back, https_bindings, not_found, targets
from inkstamp.servers.iis.store import EditionStore, OnWindows, read_held
from inkstamp.servers.interface import Endpoint, FileChange, Listen, Obstacle, Place, Site, Supply

_DONE = Ran((), 0, "")
_ANYWHERE = {"*", "0.0.0.0"}  # noqa: S104  compared, not bound


class IisServer(OnWindows):
    """One IIS, as configured under `[server.NAME]`."""

    points_at: frozenset[str] = frozenset()
    has_hosts = True

    def __init__(self, name: str, host: WindowsHost, entry: Server, https_port: int) -> None:
        self.name = name
        self.host: Host = host
        self._windows = host
        self._editions = EditionStore(host, entry)
        self._https_port = https_port

    def sites(self) -> list[Site]:
        state = self._windows.state()
        return [made for site in state.sites for made in self._parts(state, site)]

    def _parts(self, state: WindowsState, site: IisSite) -> list[Site]:
        """Return a site as the virtual hosts that it is: its plain HTTP, and those with a certificate each."""
        groups: dict[tuple[str, str], list[Binding]] = {}
        for each in site.bindings:
            if each.protocol in {"http", "https"} and each.port:
                groups.setdefault((each.protocol, each.place), []).append(each)
        return [
            Site(
                server=self.name,
                names=tuple(dict.fromkeys(each.host for each in bindings if each.host)),
                listens=tuple(_listen(each) for each in bindings),
                root=site.path,
                certificate_file=place,
                file=f"site “{site.name}”",
                line=number,
                settings=_told(state, bindings, place),
            )
            for number, ((_, place), bindings) in enumerate(groups.items(), 1)
        ]

    def places(self, name: str, parts: tuple[str, ...]) -> tuple[Place, ...]:
        state = self._windows.state()
        found = answering(state, name, "http") or answering(state, name, "https")
        if not found:
            raise not_found(name, self.name)
        lost = next((site for site, _ in found if not site.path), None)
        if lost is not None:
            raise ServerTrouble(
                f"the site “{lost.name}” has no physical path", where=self.name, advice="give it one in IIS Manager"
            )
        return tuple(dict.fromkeys(Place(site.path, parts) for site, _ in found))

    def obstacles(self, name: str, parts: tuple[str, ...]) -> tuple[Obstacle, ...]:  # noqa: ARG002  rules are not read
        stopped = [site for site, _ in answering(self._windows.state(), name, "http") if site.state != "Started"]
        return tuple(Obstacle(f"is not answered: the site “{each.name}” is stopped", self.name) for each in stopped)

    def answers_at(self, name: str, address: str) -> bool:
        state = self._windows.state()
        bound = {each.address for kind in ("http", "https") for _, each in answering(state, name, kind)}
        wanted = f"[{address}]" if ":" in address else address
        return wanted in bound or (bool(_ANYWHERE & bound) and self.host.has_address(address))

    def serves(self, name: str) -> bool:
        state = self._windows.state()
        return any(answering(state, name, kind) for kind in ("https", "http"))

    def plan_install(self, names: Sequence[str], supply: Supply) -> list[FileChange]:
        """Make sure that each name has a place; no file is changed."""
        state = self._windows.state()
        for name in names:
            list(targets(state, name, supply.names or names, self._https_port, self.name))
        return []

    def tls_endpoints(self, name: str) -> list[Endpoint]:
        found = answering(self._windows.state(), name, "https")
        return endpoints([_listen(each) for _, each in found], self.host)

    def test(self) -> Ran:
        self._windows.state()
        return _DONE

    def reload(self) -> Ran:
        """There is nothing to take anew: http.sys serves what a binding has at once."""
        return _DONE

    def take(self, names: Sequence[str], supply: Supply) -> None:
        """Import the edition with its intermediates where they are not there yet, bind it, and drop older editions."""
        if supply.goods is None:
            return
        self.forget()
        state = self._windows.state()
        bound = {
            each.place: each
            for name in names
            for each in targets(state, name, supply.names, self._https_port, self.name)
        }
        thumbprint = self._editions.bring(state, supply, list(bound.values()))
        self._editions.drop_older(supply, thumbprint)

    def give_back(self, certificate: str, held: str, before: Supply | None) -> None:  # noqa: ARG002  `held` says it
        """Bind again what was bound, and remove what that install brought."""
        if not held:
            return
        kept = read_held(held, self.name)
        self.forget()
        state = self._windows.state()
        ours = {each.thumbprint.upper() for each in self._editions.editions(state, certificate)}
        back = brought_back(https_bindings(state), kept.bindings, frozenset(ours))
        self._editions.go_back(state, certificate, kept, back)


def _listen(binding: Binding) -> Listen:
    address = "*" if binding.address in _ANYWHERE else binding.address
    return Listen(address=address, port=binding.port, tls=binding.protocol == "https", default=not binding.host)


def _told(state: WindowsState, bindings: Sequence[Binding], place: str) -> tuple[str, ...]:
    """Say what a store has beside a certificate: the key, the name that people know it by, the central store."""
    item = state.items.get(place)
    told = []
    if item is not None:
        key = "exportable" if item.exportable else "not exportable"
        told.append(f"private key: {key}" if item.has_key else "private key: missing")
        told += [f"friendly name: {item.friendly_name}"] if item.friendly_name else []
    if any(each.flags & CENTRAL for each in bindings):
        told.append(f"central certificate store: {state.central or 'not configured'}")
    return tuple(told)
