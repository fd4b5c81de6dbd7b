"""A service of a Windows Server with a certificate from the store: an administrator's own script tells it which."""

from collections.abc import Sequence

from inkstamp.config.model import Server
from inkstamp.reach.interface import Ran
from inkstamp.reach.windows.host import WindowsHost
from inkstamp.servers.handed import HandedServer
from inkstamp.servers.iis.store import EditionStore, OnWindows, read_held, thumbprint_of
from inkstamp.servers.interface import Supply


class WindowsService(OnWindows, HandedServer):
    """One service, as configured under `[server.NAME]` with `kind = "windows"`."""

    def __init__(self, name: str, host: WindowsHost, entry: Server) -> None:
        super().__init__(name, host, entry.look)
        self._windows = host
        self._script = entry.script
        self._store_name = entry.store
        self._editions = EditionStore(host, entry)

    def test(self) -> Ran:
        """See that the script is there."""
        self._windows.run_script(self._script, None)
        return Ran((), 0, "")

    def take(self, names: Sequence[str], supply: Supply) -> None:
        """Import the edition, tell the script of it, and drop older editions."""
        if supply.goods is None:
            return
        self.forget()
        thumbprint = self._editions.bring(self._windows.state(), supply)
        self._tell("install", supply.certificate, names=list(names), thumbprint=thumbprint)
        self._editions.drop_older(supply, thumbprint)

    def give_back(self, certificate: str, held: str, before: Supply | None) -> None:
        """Tell the script of the edition before, or that there is none, and remove the one that was brought."""
        if not held:
            return
        kept = read_held(held, self.name)
        self.forget()
        state = self._windows.state()
        if before is not None and before.goods is not None:
            thumbprint = thumbprint_of(before.goods().leaf)
            self._tell("install", certificate, names=list(before.names), thumbprint=thumbprint)
        else:
            self._tell("remove", certificate)
        self._editions.go_back(state, certificate, kept)

    def _tell(self, action: str, certificate: str, **more: object) -> None:
        told = {"format": 1, "action": action, "certificate": certificate, "store": self._store_name, **more}
        self._windows.run_script(self._script, told)
