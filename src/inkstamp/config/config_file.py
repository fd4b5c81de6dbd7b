"""The configuration file of a run: read once, added to, and gone on with as it then is."""

from collections.abc import Collection, Iterable, Mapping
from functools import cached_property
from pathlib import Path

from inkstamp.config.environment import settings_of
from inkstamp.config.load import load
from inkstamp.config.model import Authority, Configuration
from inkstamp.config.section import Section
from inkstamp.config.toml_file import read_file
from inkstamp.errors import UsageError
from inkstamp.locks import Locks
from inkstamp.wording import known_names


class ConfigFile:
    """A configuration file, read when it is first asked for."""

    def __init__(self, path: Path, cache: Path, locks: Locks) -> None:
        self.path = path
        self._cache = cache
        self._locks = locks
        self.leaves_out_mistakes = False
        """Whether servers, authorities and messengers with a mistake in their entries are left out too."""

    @property
    def current(self) -> Configuration:
        """The configuration as it was read, or written since.

        Certificates whose entries have a mistake are left out. A mistake in another entry is an error, but for an
        unattended run (`leaves_out_mistakes`): whoever is there fixes it before anything is decided without that entry.
        """
        found = self._here
        for mistake in () if self.leaves_out_mistakes else found.mistaken_beside.values():
            raise mistake.error
        return found

    @property
    def whole(self) -> Configuration:
        """What the file says for all machines that share it, with what has a mistake left out; empty for no file.

        `current` is what it means on this one.
        """
        return self._read if self._is_there() else Configuration()

    @cached_property
    def _here(self) -> Configuration:
        if not self._read.ledger.database:
            return self._read
        from inkstamp.config.sharing import for_this_machine  # noqa: PLC0415  where machines share a ledger

        return for_this_machine(self._read)

    @cached_property
    def _read(self) -> Configuration:
        without_file = not self.path.exists() and bool(settings_of())
        return load(b"" if without_file else read_file(self.path), self.path, self._cache)

    def _is_there(self) -> bool:
        """Tell whether anything is configured, by the file or by the environment."""
        return "_read" in self.__dict__ or self.path.exists() or bool(settings_of())

    def current_or_empty(self) -> Configuration:
        """Return the configuration, an empty one when there is no file yet."""
        return self.current if self._is_there() else Configuration()

    def use(self, config: Configuration) -> None:
        """Go on with a configuration that has just been written."""
        self.__dict__.pop("_here", None)
        self.__dict__["_read"] = config

    def add_entries(self, *entries: tuple[str, str, Section]) -> None:
        """Add entries (table, name, entry) to the file, and go on with what it then says.

        A server that is there already, as it was found, is not added again: several certificates may bring it along.
        """
        from inkstamp.config.write import has_entry, save, with_entry  # noqa: PLC0415  which few runs need

        with self._locks.configuration(self.path):
            data = self.path.read_bytes() if self.path.exists() else b""
            for table, name, entry in entries:
                if table == "server" and has_entry(data, self.path, table, name, entry):
                    continue
                data, grown = with_entry(data, self.path, table, name, entry)
            save(self.path, data)
        self.use(grown)

    def add_values(self, table: str, name: str, values: Mapping[str, object]) -> None:
        """Add an entry with these keys to the file, and go on with what it then says."""
        from inkstamp.config.write import save, with_new_values  # noqa: PLC0415  which few runs need

        with self._locks.configuration(self.path):
            present = self.path.read_bytes() if self.path.exists() else b""
            data, grown = with_new_values(present, self.path, (table, name), values)
            save(self.path, data)
        self.use(grown)

    def change_entry(self, table: str, name: str, values: Mapping[str, object]) -> None:
        """Set some keys of an entry in the file (None takes one out), and go on with what it then says."""
        from inkstamp.config.write import save, with_values  # noqa: PLC0415  which few runs need

        with self._locks.configuration(self.path):
            data, changed = with_values(self.path.read_bytes(), self.path, (table, name), values)
            save(self.path, data)
        self.use(changed)

    def rename_entry(self, table: str, old: str, new: str) -> None:
        """Give an entry of the file another name, and go on with what it then says."""
        from inkstamp.config.write import save, with_other_name  # noqa: PLC0415  which few runs need

        with self._locks.configuration(self.path):
            data, changed = with_other_name(self.path.read_bytes(), self.path, (table, old), new)
            save(self.path, data)
        self.use(changed)

    def remove_entry(self, table: str, name: str) -> None:
        """Take an entry out of the file, and go on with what it then says."""
        from inkstamp.config.write import save, without_entry  # noqa: PLC0415  which few runs need

        with self._locks.configuration(self.path):
            data, changed = without_entry(self.path.read_bytes(), self.path, table, name)
            save(self.path, data)
        self.use(changed)

    def authority(self, name: str) -> Authority:
        """Return a configured authority; UsageError when there is none of that name."""
        known = self.current_or_empty().authority
        expect_known("authority", known, [name], self.path)
        return known[name]


def expect_known(what: str, known: Collection[str], names: Iterable[str], file: Path) -> None:
    """Raise UsageError for the first of some names that is not in the configuration; it says which are."""
    for name in names:
        if name not in known:
            raise UsageError(
                f"there is no {what} “{name}” in the configuration", where=str(file), advice=known_names(known, name)
            )
