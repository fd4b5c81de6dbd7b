"""Which edition servers on this machine are given: a link beside the editions, which can be made again.

HOME/shelf/CERTIFICATE/current -> 0003
"""

from contextlib import suppress
from pathlib import Path

from inkstamp.files import file_trouble, link_target, point_link
from inkstamp.home import Home


class LocalCopy:
    """The links of all certificates below one HOME."""

    def __init__(self, home: Home) -> None:
        self._folder = home.shelf

    def folder(self, certificate: str) -> Path:
        """Return the path that servers on this machine take the current edition's files from."""
        return self._folder / certificate / "current"

    def current(self, certificate: str) -> int | None:
        """Return the number of the current edition, None when there is none yet."""
        target = link_target(self.folder(certificate))
        return int(target) if target is not None and target.isdigit() else None

    def switch(self, certificate: str, number: int | None) -> None:
        """Make an edition the current one, in one step; None takes the link away."""
        link = self.folder(certificate)
        if number is None:
            with file_trouble("remove", link), suppress(FileNotFoundError):
                link.unlink()
        else:
            point_link(link, f"{number:04d}")
