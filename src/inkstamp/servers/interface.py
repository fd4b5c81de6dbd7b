"""What every kind of server offers, and the data it speaks in."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol, runtime_checkable

from inkstamp.reach.interface import Host, Ran


@dataclass(frozen=True, slots=True, kw_only=True)
class Listen:
    """One address and port that a site answers on."""

    address: str
    """IP address, `*` for all of IPv4, `[::]` for all of IPv6, a path for a socket in the file system."""
    port: int
    """0 for a socket in the file system."""
    tls: bool
    default: bool = False
    """Whether the site answers here for names that no site has."""

    def __str__(self) -> str:
        end = f":{self.port}" if self.port else ""
        return f"{self.address}{end}{' tls' if self.tls else ''}"


@dataclass(frozen=True, slots=True, kw_only=True)
class Site:
    """One virtual host as its configuration says."""

    server: str
    """The configured server that it belongs to."""
    names: tuple[str, ...]
    """As written: names, wildcards, regular expressions."""
    listens: tuple[Listen, ...]
    root: str
    """Absolute document root; empty when there is none."""
    certificate_file: str
    """Absolute; empty when the site has none or names it by a variable."""
    file: str
    line: int

    @property
    def tls(self) -> bool:
        """Whether it answers with TLS anywhere."""
        return any(listen.tls for listen in self.listens)


@dataclass(frozen=True, slots=True)
class Place:
    """Where a file lies that answers some path."""

    root: str
    """A folder that is there."""
    parts: tuple[str, ...]
    """The path below it, the file's name last; not the path of the URL where an alias leads elsewhere."""


@dataclass(frozen=True, slots=True)
class Obstacle:
    """What in a server's configuration keeps a path from being answered by a file."""

    where: str
    """File and line."""
    what: str
    """In a few words, as the end of “the path …”."""


ONLY_TLS = "has no virtual host for plain HTTP: this one has TLS alone"
"""An obstacle."""


@dataclass(frozen=True, slots=True)
class EditionPaths:
    """Where a server finds the files of the edition that it is to serve."""

    served: str
    """Leaf and issuers."""
    key: str
    leaf: str
    issuers: str


@dataclass(frozen=True, slots=True)
class FileChange:
    """A file before and after a change."""

    path: str
    before: bytes | None
    """None when it is not there."""
    after: bytes | None
    """None when it is to be there no more."""
    mode: int = 0
    """Of a file of ours that is made; 0 for a configuration file, which keeps its own."""


class FileCarrier(Protocol):
    """One configured server, as far as it serves files."""

    name: str
    host: Host

    def sites(self) -> list[Site]:
        """Read the configuration and return all virtual hosts; ServerTrouble with file and line when it is broken."""
        ...

    def places(self, name: str, parts: tuple[str, ...]) -> tuple[Place, ...]:
        """Return where the files lie that answer the path `parts` at `name`; ServerTrouble when there is no place."""
        ...

    def obstacles(self, name: str, parts: tuple[str, ...]) -> tuple[Obstacle, ...]:
        """Say what in the configuration keeps files from answering the path `parts` at `name`, as far as it is seen."""
        ...

    def answers_at(self, name: str, address: str) -> bool:
        """Tell whether `name` is answered by this server at that IP address, as far as its configuration says."""
        ...

    def forget(self) -> None:
        """Read the configuration anew when it is asked about next."""
        ...


@runtime_checkable
class Configured(FileCarrier, Protocol):
    """One configured server whose configuration is read and changed here."""

    def plan_let_through(self, names: Sequence[str], folder: tuple[str, ...], root: str) -> list[FileChange]:
        """Work out the smallest edits that answer `folder` at these names with files below `root`.

        ServerTrouble when that cannot be done, or is done already.
        """
        ...

    def test(self) -> Ran:
        """Have the server's own program test the configuration on disk; status 0 when it is good."""
        ...

    def reload(self) -> Ran:
        """Have the running server take its configuration and certificates anew."""
        ...


@runtime_checkable
class ServerKind(Configured, Protocol):
    """One configured server that certificates are installed on."""

    def plan_install(self, names: Sequence[str], files: EditionPaths) -> list[FileChange]:
        """Work out the edits that make the sites of `names` serve these files; empty when they do already."""
        ...

    def tls_endpoints(self, name: str) -> list[tuple[str, int]]:
        """Return addresses and ports to connect to from this machine where `name` is served with TLS."""
        ...
