"""The servers of a run, each made when it is first used, with one connection for all servers of a machine."""

import math
import threading
from collections.abc import Callable, Mapping
from functools import cached_property

from inkstamp.bulkhead import apart
from inkstamp.clock import Clock
from inkstamp.config.config_file import ConfigFile
from inkstamp.config.model import Server, ViewSettings
from inkstamp.config.server_kinds import WINDOWS
from inkstamp.config.sharing import is_here
from inkstamp.errors import ConfigurationError, InkStampError
from inkstamp.reach.interface import Host
from inkstamp.reach.local import LocalHost
from inkstamp.servers.handed import ProgramServer, StandingServer
from inkstamp.servers.interface import Configured, FileCarrier, Reloadable, ServerKind
from inkstamp.servers.registry import as_configured, as_installable, as_reloadable, make_host, make_server
from inkstamp.servers.reload import test_before
from inkstamp.servers.usual_places import found_beside
from inkstamp.view.point import View


class ServerPool:
    """The servers that are configured, or found in their usual places; safe to share between threads."""

    def __init__(self, file: ConfigFile, view: Callable[[], View], clock: Clock) -> None:
        self._file = file
        self._view = view
        self._clock = clock
        self._servers: dict[str, FileCarrier] = {}
        self._hosts: dict[tuple[bool, str, str, bool], Host] = {}
        self._tested: dict[str, tuple[float, InkStampError | None]] = {}
        self._testing: dict[str, threading.Lock] = {}
        self._making = threading.RLock()

    @cached_property
    def found(self) -> Mapping[str, Server]:
        """Servers in their usual places on this machine that were not configured when this run began, by name.

        None where the public comes by other ports: those in the usual places are not the ones that it reaches then.
        """
        config, usual = self._file.current_or_empty(), ViewSettings()
        if (config.view.http_port, config.view.https_port) != (usual.http_port, usual.https_port):
            return {}
        return found_beside(config)

    def get(self, name: str) -> FileCarrier:
        """Return a server that is configured, or found here; ConfigurationError when there is none of that name."""
        with self._making:
            if name not in self._servers:
                self._servers[name] = self._make(name)
            return self._servers[name]

    def _make(self, name: str) -> FileCarrier:
        entry = self._file.current_or_empty().server.get(name) or self.found.get(name)
        if entry is None and name in self._file.current.program:
            return ProgramServer(name, LocalHost(), self._file.current.program[name])
        if entry is None:
            raise ConfigurationError(
                f"there is no server “{name}”",
                where=str(self._file.path),
                advice=f"add a table [server.{name}]",
            )
        if entry.standing and not is_here(self._file.current_or_empty(), name):
            return StandingServer(name, LocalHost(), ())
        machine = (entry.kind in WINDOWS, entry.reach, entry.ssh_config, entry.sudo)
        if machine not in self._hosts:
            self._hosts[machine] = make_host(entry)
        return make_server(name, entry, self._view(), self._hosts[machine])

    def configured(self, name: str) -> Configured:
        """Return a server whose configuration can open the challenge path."""
        return as_configured(self.get(name))

    def reloadable(self, name: str) -> Reloadable:
        """Return a server that can be told to take what was changed."""
        return as_reloadable(self.get(name))

    def installable(self, name: str) -> ServerKind:
        """Return a server that certificates are installed on."""
        return as_installable(self.get(name))

    def test(self, name: str, since: float) -> None:
        """Have a server's configuration tested as it stands, unless this run did so after `since`, monotonic.

        Raises:
            ServerTrouble: It is broken, and nothing must be changed.
            ReachTrouble: Its machine is unreachable.

        """
        with self._testing.setdefault(name, threading.Lock()):
            tested, trouble = self._tested.get(name, (-math.inf, None))
            if tested < since:
                trouble = None
                try:
                    with apart():
                        test_before(self.installable(name))
                except InkStampError as error:
                    trouble = error
                self._tested[name] = self._clock.monotonic(), trouble
            if trouble is not None:
                raise trouble.amended()  # one for each thread, with a traceback of its own

    def close(self) -> None:
        """Close the connections to other machines."""
        for host in self._hosts.values():
            host.close()
