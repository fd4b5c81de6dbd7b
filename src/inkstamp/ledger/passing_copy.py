"""A copy of a ledger that cannot be written to, to look at: where the data directory is mounted read-only."""

import os
import shutil
import tempfile
from contextlib import suppress
from pathlib import Path

from inkstamp.errors import LedgerTrouble

_TRIES = 5


def can_be_written(ledger: Path) -> bool:
    """Tell whether this user can write a ledger and beside it, as SQLite does."""
    return os.access(ledger, os.W_OK) and os.access(ledger.parent, os.W_OK | os.X_OK)


class PassingCopy:
    """A ledger's copy in a folder of its own, until `remove`; what is written into it is not kept."""

    def __init__(self, ledger: Path) -> None:
        """Copy a ledger with its journal.

        Raises:
            LedgerTrouble: It cannot be read, or changes all the time.

        """
        self._folder = tempfile.mkdtemp(prefix="inkstamp-ledger-")
        self.file = Path(self._folder, ledger.name)
        try:
            self._copy(ledger)
        except OSError as error:
            self.remove()
            raise LedgerTrouble(
                "the ledger cannot be read", where=str(ledger), said=error.strerror or str(error),
                advice="run the command as root, or as the user whom the data directory belongs to",
            ) from error  # fmt: skip

    def _copy(self, ledger: Path) -> None:
        pairs = [(ledger, self.file), (_journal(ledger), _journal(self.file))]
        for _ in range(_TRIES):
            before = [_state(each) for each, _ in pairs]
            for source, target in pairs:
                with suppress(FileNotFoundError):
                    shutil.copyfile(source, target)
            if [_state(each) for each, _ in pairs] == before:
                return
            _journal(self.file).unlink(missing_ok=True)
        self.remove()
        raise LedgerTrouble("the ledger changes while it is read", where=str(ledger), advice="run the command again")

    def remove(self) -> None:
        """Remove the copy."""
        shutil.rmtree(self._folder, ignore_errors=True)


def _journal(database: Path) -> Path:
    return database.with_name(f"{database.name}-wal")


def _state(file: Path) -> tuple[int, int] | None:
    try:
        found = file.stat()
    except FileNotFoundError:
        return None
    return found.st_mtime_ns, found.st_size
