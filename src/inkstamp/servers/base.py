"""What the kinds of server have in common whose configuration is text that is read here."""

import threading
from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from typing import Generic, Protocol, TypeVar

from msgspec import Struct, field

from inkstamp.errors import ServerTrouble
from inkstamp.reach.interface import Host, Ran
from inkstamp.servers.escalation import run_by_sudo
from inkstamp.servers.interface import AnswersChallenges, Obstacle, Place
from inkstamp.servers.tls_policy import TlsSettings

SECONDS = 60.0
"""How long a server's own program may take."""


class _Read(Protocol):
    """What all readings of a configuration have."""

    @property
    def texts(self) -> Mapping[str, str]:
        """Text of each file by path."""
        ...


R = TypeVar("R", bound=_Read)


class Fitting(Struct, frozen=True, kw_only=True):
    """How one configured server is read and told to take its configuration."""

    program: str
    main_file: str
    prefix: str = ""
    http_port: int = 80
    https_port: int = 443
    test: tuple[str, ...] = ()
    """The user's own command in the place of the usual one."""
    reload: tuple[str, ...] = ()
    manner: TlsSettings = field(default_factory=TlsSettings)
    """How sites that had no TLS are given it."""
    sudo: bool = False
    """Whether the commands that test, reload and start it go through sudo, on this machine."""


class Files:
    """Reads a configuration's files; those that a pattern names come in one request."""

    def __init__(self, host: Host) -> None:
        self._host = host
        self._fetched: dict[str, bytes] = {}

    def glob(self, pattern: str) -> list[str]:
        """Return the files that match a shell pattern, sorted."""
        found = self._host.gather([pattern], contents="all")
        self._fetched |= {path: each.data for path, each in found.items() if each.data is not None}
        return sorted(found)

    def read(self, path: str) -> bytes:
        """Return a whole file; FileTrouble when it cannot be read."""
        fetched = self._fetched.pop(path, None)
        return fetched if fetched is not None else self._host.read(path)


class TextServer(ABC, Generic[R]):
    """One server whose configuration is read once, until it is forgotten."""

    has_hosts = False
    sets_policy_only = False
    service: str
    """Its name to the system's service manager."""

    def __init__(self, name: str, host: Host, fitting: Fitting) -> None:
        self.name = name
        self.host = host
        self._fitting = fitting
        self._known: R | None = None
        self._forgotten = 0
        """How often what was known was forgotten."""
        self._lock = threading.Lock()

    @abstractmethod
    def _read(self) -> R:
        """Read the configuration; ServerTrouble when it is broken."""

    @abstractmethod
    def _usual_test(self) -> list[str]:
        """Return the command by which the server's own program tests its configuration."""

    @abstractmethod
    def _usual_start(self) -> list[str]:
        """Return the command that starts the server in the background."""

    @abstractmethod
    def _usual_reload(self) -> list[str]:
        """Return the command that has the running server take its configuration anew."""

    def _reading(self) -> R:
        with self._lock:
            known, forgotten = self._known, self._forgotten
        if known is None:
            known = self._read()
            with self._lock:
                if forgotten == self._forgotten:  # else it may be of before the change for which it was to be forgotten
                    self._known = known
        return known

    def forget(self) -> None:
        with self._lock:
            self._known = None
            self._forgotten += 1

    def doubt(self) -> None:
        """Take it that the running server may have another configuration than the files had when they were read."""

    def files_read(self) -> list[str]:
        """Return the files that the configuration consists of, in the order in which they are read."""
        return list(self._reading().texts)

    def test(self) -> Ran:
        return self._run(self._fitting.test or self._usual_test())

    def reload(self) -> Ran:
        return self._run(self._fitting.reload or self._usual_reload())

    def start(self) -> Ran:
        if self._fitting.main_file.startswith("/etc/"):  # else it is none that the service manager would start
            try:
                ran = self._run(self._service_start())
            except ServerTrouble:  # there is none
                return self._run(self._usual_start())
            if ran.status == 0:
                return ran
        return self._run(self._usual_start())

    def privileged_commands(self) -> list[Sequence[str]]:
        usual = [self._fitting.test or self._usual_test(), self._fitting.reload or self._usual_reload()]
        return [*usual, self._service_start(), self._usual_start()]

    def _service_start(self) -> list[str]:
        return ["systemctl", "start", self.service]

    def _run(self, command: Sequence[str]) -> Ran:
        return run_by_sudo(self.host, command, SECONDS) if self._fitting.sudo else self.host.run(command, SECONDS)


class FilelessServer(TextServer[R]):
    """One that serves TLS and shows no files, so that it carries no proofs."""

    def places(self, name: str, parts: tuple[str, ...]) -> tuple[Place, ...]:  # noqa: ARG002  there are none
        by_itself = f"have it answer challenges by itself: inkstamp prove --standing {self.name}; or "
        raise ServerTrouble(
            f"server “{self.name}” shows no files",
            where=self._fitting.main_file,
            advice=f"{by_itself if isinstance(self, AnswersChallenges) else ''}name with `via` the web server that "
            "shows them",
        )

    def obstacles(self, name: str, parts: tuple[str, ...]) -> tuple[Obstacle, ...]:  # noqa: ARG002  as above
        return ()

    def answers_at(self, name: str, address: str) -> bool:  # noqa: ARG002  whatever its name
        return self.host.has_address(address)
