"""What every kind of server offers, and the data it speaks in."""

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Protocol, runtime_checkable

from msgspec import Struct

from inkstamp.findings import Finding
from inkstamp.reach.interface import Host, Ran, Rights
from inkstamp.servers.tls_policy import TlsChange
from inkstamp.view.upgrade import Upgrade

if TYPE_CHECKING:
    from inkstamp.pki.kinds import KeyKind
from inkstamp.pki.packing import Goods


class Listen(Struct, frozen=True, kw_only=True):
    """One address and port that a site answers on."""

    address: str
    """IP address, `*` for all of IPv4, `[::]` for all of IPv6, a path for a socket in the file system."""
    port: int
    """0 for a socket in the file system."""
    tls: bool
    default: bool = False
    """Whether the site answers here for names that no site has."""
    upgrade: Upgrade = ""
    """The protocol in which TLS is asked for, where it does not begin at once."""

    def __str__(self) -> str:
        end = f":{self.port}" if self.port else ""
        return f"{self.address}{end}{' tls' if self.tls else ''}{' default' if self.default else ''}"


class Site(Struct, frozen=True, kw_only=True):
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
    key_file: str = ""
    """Absolute; empty when it is not known."""
    chain_file: str = ""
    """Of the issuers, where they stand apart."""
    settings: tuple[str, ...] = ()
    """What the configuration says of TLS there, as written."""
    answers_for: str = ""
    """Thumbprint of the account key for which it answers `http-01` challenges by itself; empty where it needs files."""

    @property
    def tls(self) -> bool:
        """Whether it answers with TLS anywhere."""
        return any(listen.tls for listen in self.listens)


class Place(Struct, frozen=True):
    """Where a file lies that answers some path."""

    root: str
    """A folder that is there."""
    parts: tuple[str, ...]
    """The path below it, the file's name last; not the path of the URL where an alias leads elsewhere."""


class Obstacle(Struct, frozen=True):
    """What in a server's configuration keeps a path from being answered by a file."""

    where: str
    """File and line."""
    what: str
    """In a few words, as the end of “the path …”."""


ONLY_TLS = "has no virtual host for plain HTTP: this one has TLS alone"
"""An obstacle."""


class Supply(Struct, frozen=True, kw_only=True):
    """What a server is to serve: where it finds an edition's files, and what is in them where it takes copies."""

    certificate: str
    """Its short name."""
    served: str
    """Path of leaf and issuers."""
    key: str
    leaf: str
    issuers: str
    combined: str
    """Path of leaf, issuers and key in one file."""
    passphrase_file: str = ""
    """Path of the file with the passphrase of the key, which is encrypted then; empty for a plain key."""
    ours: tuple[str, ...] = ()
    """Folders below which the files of all certificates lie that are installed here, each with a slash at its end."""
    passphrase_program: str = ""
    """Where a program may lie that tells passphrases to the server."""
    algorithm: str = ""
    """Of its key: `rsa` or `ecdsa`."""
    keep: int = 3
    """How many editions stay, where it is handed over."""
    edition: int = 0
    """Its number; 0 while there is none yet."""
    names: tuple[str, ...] = ()
    """What it covers, or is going to cover."""
    others: "Callable[[], Sequence[str]]" = tuple
    """Looks up the names of other certificates that are installed on the same server."""
    own_site: bool = False
    """Whether names that share a virtual host with others, by a wildcard or as the default, get one of their own."""
    beside: "Callable[[], Sequence[Goods]]" = tuple
    """Loads the other editions that are on the shelf, the newest first."""
    goods: "Callable[[], Goods] | None" = None
    """Loads it; None while there is no edition yet: copies cannot be worked out then."""


class Endpoint(Struct, frozen=True):
    """Where a name is served with TLS, as reached from this machine."""

    address: str
    port: int
    upgrade: Upgrade = ""

    def __str__(self) -> str:
        host = f"[{self.address}]" if ":" in self.address else self.address
        return f"{host}:{self.port}"


class FileChange(Struct, frozen=True):
    """A file before and after a change."""

    path: str
    before: bytes | None
    """None when it is not there."""
    after: bytes | None
    """None when it is to be there no more."""
    rights: Rights | None = None
    """Of a copy of an edition's file; None for a configuration file, which keeps its own."""
    rights_before: Rights | None = None
    """Of what a copy replaces; None when there was nothing."""
    own_folder: bool = False
    """Whether its folder is one of ours, which goes with the last file in it."""
    shared: bool = False
    """Whether it has lines for several certificates, as a configuration has, though it is a file of ours."""

    @property
    def is_change(self) -> bool:
        """Whether anything is another afterwards."""
        before, after = self.rights_before, self.rights
        return self.before != self.after or (after is not None and (before is None or before.mode != after.mode))


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
class Reloadable(FileCarrier, Protocol):
    """One configured server that can be told to take what was changed."""

    def test(self) -> Ran:
        """Have the server's own program test the configuration on disk; status 0 when it is good."""
        ...

    def reload(self) -> Ran:
        """Have the running server take its configuration and certificates anew."""
        ...


@runtime_checkable
class Escalates(Protocol):
    """One whose commands can go through sudo, where `sudo` is set for a server on this machine."""

    def privileged_commands(self) -> list[Sequence[str]]:
        """Return the commands that test, reload and start it."""
        ...


@runtime_checkable
class Startable(Protocol):
    """One that can be started when it does not run."""

    def start(self) -> Ran:
        """Start it, by the system's service manager where that has it."""
        ...


@runtime_checkable
class Configured(Reloadable, Protocol):
    """One configured server whose configuration can open the challenge path."""

    def plan_let_through(self, names: Sequence[str], folder: tuple[str, ...], root: str) -> list[FileChange]:
        """Work out the smallest edits that answer `folder` at these names with files below `root`.

        ServerTrouble when that cannot be done, or is done already.
        """
        ...


class StandingAnswer(Struct, frozen=True, kw_only=True):
    """What a server is to answer `http-01` challenges with, whatever their token (RFC 8555 section 8.1)."""

    thumbprint: str
    """Of the account key, base64url (RFC 7638)."""
    names: tuple[str, ...] = ()
    """The names whose sites answer so; empty for all sites."""
    sites: tuple[str, ...] = ()
    """Names that are known to be of sites, for a server whose configuration does not name its sites."""
    default_hosts: bool = False
    """Whether names that no site has are answered too."""
    replaces: str = ""
    """Thumbprint of the key that the same account had before; empty where it has the same."""


@runtime_checkable
class AnswersChallenges(Reloadable, Protocol):
    """One configured server that can answer every challenge for an account by itself."""

    def plan_standing(self, wanted: StandingAnswer) -> list[FileChange]:
        """Work out the edits that put a standing answer there; empty where it is there already.

        ServerTrouble when it cannot be put there, or a name has no site.
        """
        ...

    def standing(self, name: str) -> frozenset[str]:
        """Return the thumbprints for which challenges of `name` are answered by plain HTTP; none where it needs files.

        Several where virtual hosts at different addresses differ.
        """
        ...


@runtime_checkable
class ServerKind(Reloadable, Protocol):
    """One configured server that certificates are installed on."""

    points_at: frozenset[str]
    """Which paths of a `Supply` its configuration can name: those files are there when it is changed."""
    has_hosts: bool
    """Whether it has virtual hosts with a certificate each: a wildcard goes to every one that it covers."""

    def serves(self, name: str) -> bool:
        """Tell whether the configuration has a place for a certificate of `name`; ServerTrouble when it is broken."""
        ...

    def plan_install(self, names: Sequence[str], supply: Supply) -> list[FileChange]:
        """Work out the changes that make the sites of `names` serve an edition; empty when they do already.

        `names` are of sites; what the edition covers is in `supply`. ServerTrouble when one has no place.
        """
        ...

    def tls_endpoints(self, name: str) -> list[Endpoint] | None:
        """Return where `name` is served with TLS, None where that is not known."""
        ...


class Hardening(Struct, frozen=True):
    """What changes the TLS settings of sites."""

    changes: tuple[FileChange, ...]
    findings: tuple[Finding, ...]
    """What stays as it is, and why; and whom a change concerns beside."""


@runtime_checkable
class Hardenable(ServerKind, Protocol):
    """One configured server whose sites' TLS settings can be changed."""

    sets_policy_only: bool
    """Whether protocols and ciphers are all that it can be given from here."""

    def plan_hardening(self, names: Sequence[str], wanted: TlsChange) -> Hardening:
        """Work out the edits that give the sites of `names` these settings; no changes when they have them.

        ServerTrouble when one has no site with TLS, or a line is also read by sites that are not meant.
        """
        ...


@runtime_checkable
class SharesPassphrases(Protocol):
    """One configured server whose passphrases all come from one program."""

    def check_undo(self, certificate: str, changes: Sequence[FileChange]) -> None:
        """Refuse to take an install back while the keys of other certificates need what it brought; ServerTrouble."""
        ...


@runtime_checkable
class MakesKeys(FileCarrier, Protocol):
    """One whose machine makes keys that never leave it."""

    def make_csr(self, certificate: str, edition: int, kind: "KeyKind", names: Sequence[str]) -> bytes:
        """Make a new key for an edition, in the place of one made for it before, and return a CSR (DER) for names.

        ServerTrouble when that cannot be done.
        """
        ...


@runtime_checkable
class Taker(ServerKind, Protocol):
    """One that is handed an edition, where others are given files in the place of those they read."""

    def holds(self, certificate: str) -> str:
        """Say what it has of a certificate, for `give_back`; ServerTrouble when it cannot be asked."""
        ...

    def take(self, names: Sequence[str], supply: Supply) -> None:
        """Take an edition, and serve it; harmless when it has it. ServerTrouble when it refuses."""
        ...

    def give_back(self, certificate: str, held: str, before: Supply | None) -> None:
        """Serve again what it had.

        Args:
            certificate: Its short name.
            held: What `holds` said.
            before: The edition that the others go back to; None for none.

        """
        ...
