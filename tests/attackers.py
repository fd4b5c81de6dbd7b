"""A customer who owns a folder, and does to the names in it what he likes, quickly, while root works there."""

import os
import signal
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

CUSTOMER = 12345
SECRET = b"precious: root's alone"


@contextmanager
def attacker(strike: Callable[[], None]) -> Iterator[None]:
    """Have a process of the customer's strike again and again for the time of the block."""
    child = os.fork()
    if child == 0:
        try:
            os.setgroups([])
            os.setgid(CUSTOMER)
            os.setuid(CUSTOMER)
            while True:
                with suppress(OSError):
                    strike()
        finally:
            os._exit(0)
    try:
        yield
    finally:
        os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)


class Ground:
    """A customer's folder with a file in it, and what of root's the customer is after."""

    def __init__(self, top: Path) -> None:
        self.prize = top / "prize"
        self.prize.mkdir()
        self.victim = self.prize / "file"
        self.victim.write_bytes(SECRET)
        self.victim.chmod(0o600)
        self.home = top / "home"
        self.folder = self.home / "site" / "keys"
        self.folder.mkdir(parents=True)
        self.file = self.folder / "file"
        self.file.write_bytes(b"old")
        for each in (self.home, self.home / "site", self.folder, self.file):
            os.chown(each, CUSTOMER, CUSTOMER)
        self.before = self.state()

    def state(self) -> list[tuple[str, bytes, int, int, int]]:
        found = []
        for each in sorted([self.prize, *self.prize.rglob("*")]):
            known = each.lstat()
            data = each.read_bytes() if each.is_file() else b""
            found.append((str(each), data, known.st_mode, known.st_uid, known.st_gid))
        return found

    def spam_links(self) -> None:
        """Put links to root's file and root's folder in the place of everything that appears in the folder."""
        for name in {*os.listdir(self.folder), "file", ".file.part"}:
            for target in (self.victim, self.prize):
                beside = self.folder / f"spam{target == self.prize}"
                with suppress(OSError):
                    os.symlink(target, beside)
                with suppress(OSError):
                    os.rename(beside, self.folder / name)

    def exchange(self) -> None:
        """Exchange the file, its folder and the one above for links and back; rename what root makes there."""
        for each, target in ((self.file, self.victim), (self.folder, self.prize), (self.home / "site", self.prize)):
            aside = each.with_name(f"{each.name}.aside")
            with suppress(OSError):
                os.rename(each, aside)
            with suppress(OSError):
                os.symlink(target, each)
            with suppress(OSError):
                os.unlink(each)
            with suppress(OSError):
                os.rename(aside, each)
        for name in os.listdir(self.folder):
            if name.startswith(".inkstamp"):
                with suppress(OSError):
                    os.rename(self.folder / name, self.folder / f"moved{name}")
