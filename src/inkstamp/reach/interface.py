"""What every way of reaching a host offers."""

from collections.abc import Sequence
from typing import Literal, Protocol

from msgspec import Struct

from inkstamp.reach.ports import ListeningProgram


class Ran(Struct, frozen=True):
    """What a program answered."""

    command: tuple[str, ...]
    status: int
    """Exit status; negative for a signal."""
    output: str
    """Standard output and standard error, in that order."""


class Planted(Struct, frozen=True):
    """What placing a file in somebody's folder made there, so that just that can be taken away again."""

    root: str
    parts: tuple[str, ...]
    """Path below the root, the file's name last."""
    made: tuple[int, ...]
    """Which folders of `parts` (by index) were not there before."""


class Rights(Struct, frozen=True):
    """Whose a file is, and what others may do with it."""

    mode: int
    """Permission bits."""
    owner: str = ""
    """Name or number; empty for the user that writes."""
    group: str = ""

    def __str__(self) -> str:
        whose = ":".join(filter(None, (self.owner, self.group)))
        return " ".join(filter(None, (f"{self.mode:04o}", whose)))


Contents = Literal["none", "all", "certificates"]
"""What of files is wanted: with `certificates`, a key that stands in the same file does not leave its machine."""


class FoundFile(Struct, frozen=True):
    """A file that was found, links followed."""

    rights: Rights
    data: bytes | None
    """None when it was not asked for, or cannot be read."""


class Host(Protocol):
    """Files and commands on one host. Paths are absolute strings of that host."""

    @property
    def address(self) -> str:
        """Where the host is reached when a server answers on all of its addresses: an address or a name."""
        ...

    def close(self) -> None:
        """Give up what is held for the host."""
        ...

    def has_address(self, address: str) -> bool:
        """Tell whether an IP address belongs to the host."""
        ...

    def listeners(self, port: int) -> list[ListeningProgram]:
        """Return who listens on a TCP port of the host, as far as the user may know; empty when that cannot be told."""
        ...

    def read(self, path: str) -> bytes:
        """Return a whole file; FileTrouble when it cannot be read."""
        ...

    def replace(self, path: str, data: bytes) -> None:
        """Put `data` in the place of an existing file, atomically, with its mode and owner."""
        ...

    def read_if_there(self, path: str) -> bytes | None:
        """Return a whole file, None when there is none; FileTrouble when it cannot be read."""
        ...

    def put(self, path: str, data: bytes, rights: Rights) -> None:
        """Write a file whole or not at all; folders that are missing are made for our eyes alone.

        Its folder is reached through no symbolic link that a stranger controls, and a link in the file's own place is
        replaced, not followed. FileTrouble when that cannot be, or the owner is not known there.
        """
        ...

    def present(self, path: str) -> tuple[bytes, Rights] | None:
        """Return a file's contents with its mode, owner and group (by number), None when it is not there.

        No link that a stranger controls is followed, in the file's own place none at all, and the two belong together
        whatever is exchanged meanwhile. FileTrouble for what is no file.
        """
        ...

    def converse(self, socket_path: str, data: bytes, seconds: float) -> bytes:
        """Send `data` to a socket in the file system and return all that comes back until it is closed.

        ServerTrouble when nobody answers there; it may take `seconds` at most.
        """
        ...

    def remove(self, path: str) -> None:
        """Remove a file, if it is there."""
        ...

    def glob(self, pattern: str) -> list[str]:
        """Return the paths that match a shell pattern, sorted."""
        ...

    def gather(self, patterns: Sequence[str], *, contents: Contents) -> dict[str, FoundFile]:
        """Return the files (no folders) that match any of the shell patterns, all in one request.

        Links are followed. What is not there is left out; FileTrouble when the host does not answer rightly.
        """
        ...

    def read_certificates(self, path: str) -> bytes:
        """Return the PEM certificates of a file, and no key that stands beside them; FileTrouble as of `read`."""
        ...

    def run(self, command: Sequence[str], seconds: float, data: bytes = b"") -> Ran:
        """Run a program without a shell, with `data` on its standard input; ServerTrouble when it cannot be started.

        It may take `seconds` at most.
        """
        ...

    def have_folder(self, path: str) -> bool:
        """Make a folder that everybody may read, and those above it, where it is missing; tell whether it was."""
        ...

    def drop_folder(self, path: str) -> None:
        """Remove a folder if it is empty."""
        ...

    def missing_folders(self, root: str, parts: tuple[str, ...]) -> tuple[int, ...]:
        """Tell which folders of `parts` (by index) `plant` would have to make."""
        ...

    def plant(self, root: str, parts: tuple[str, ...], data: bytes) -> Planted:
        """Write a file below a folder that strangers own, following none of their symbolic links."""
        ...

    def check_root(self, root: str, parts: tuple[str, ...]) -> None:
        """Make sure that `plant` could write `parts` there, without writing; FileTrouble when it could not."""
        ...

    def uproot(self, root: str, parts: tuple[str, ...], made: Sequence[int]) -> None:
        """Take away a planted file and those folders (by index) that were made for it and are empty."""
        ...
