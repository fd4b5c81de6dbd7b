"""All certificates that are configured: those of the file, and those of the roster in the ledger.

Both are the same everywhere. Those of the file are in memory as a whole; those of the roster are read as they are
asked for, since there may be a hundred thousand of which a run is concerned with three.
"""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from inkstamp.config.config_file import ConfigFile, expect_known
from inkstamp.config.model import Certificate
from inkstamp.errors import ConfigurationError, UsageError
from inkstamp.ledger.records import ALL, Selection
from inkstamp.wording import known_names

if TYPE_CHECKING:
    from inkstamp.ledger.records import EnrolledRecord
    from inkstamp.ledger.roster import Roster

_MOST_HINTED = 1000
"""Names of the roster among which the one that was meant is looked for."""


class Certificates:
    """The entries of all certificates by name; safe to share between threads."""

    def __init__(self, configuration: ConfigFile, roster: "Callable[[], Roster | None]") -> None:
        """Read from a configuration file and from what `roster` returns, None where there is no ledger yet."""
        self._configuration = configuration
        self._open = roster
        self._enrolled: dict[str, Certificate | ConfigurationError | None] = {}
        """What was read of the roster, None for what is not on it."""
        self._records: dict[str, EnrolledRecord] = {}
        self._roster: Roster | None = None
        self._has_looked = False

    @property
    def in_file(self) -> Mapping[str, Certificate]:
        """Those of the file."""
        return self._configuration.current_or_empty().certificate

    @property
    def roster(self) -> "Roster | None":
        """The roster; None when nobody is on it."""
        if not self._has_looked:
            roster = self._open()
            self._roster = None if roster is None or roster.is_empty() else roster
            self._has_looked = True
        return self._roster

    def forget(self) -> None:
        """Read the roster anew: it was written to."""
        self._enrolled, self._records = {}, {}
        self._has_looked = False

    def entry(self, name: str) -> Certificate:
        """Return a certificate's entry.

        Raises:
            UsageError: There is none of that name.
            ConfigurationError: It has a mistake.

        """
        config = self._configuration.current
        if self.roster is None and name in config.certificate:  # of thousands in a row
            return config.certificate[name]
        mistake = config.mistaken.get(name)
        if mistake is not None:
            raise mistake.error
        found = self._of_roster(name) or self.in_file.get(name)
        if isinstance(found, ConfigurationError):
            raise found
        if found is None:
            raise UsageError(
                f"there is no certificate “{name}” in the configuration",
                where=str(self._configuration.path), advice=known_names(self._hints(), name),
            )  # fmt: skip
        return found

    def _hints(self) -> list[str]:
        roster = self.roster
        return [*self.in_file, *(roster.names()[:_MOST_HINTED] if roster is not None else ())]

    def get(self, name: str) -> Certificate | None:
        """Return a certificate's entry; None for one that is not configured, or has a mistake."""
        if self.roster is None:  # of thousands in a row
            return self.in_file.get(name)
        found = self._of_roster(name) or self.in_file.get(name)
        return found if isinstance(found, Certificate) else None

    def __getitem__(self, name: str) -> Certificate:
        """Return a certificate's entry, otherwise as `entry`."""
        return self.entry(name)

    def __contains__(self, name: object) -> bool:
        """Tell whether a certificate is configured, with or without a mistake."""
        if not isinstance(name, str):
            return False
        config = self._configuration.current_or_empty()
        return name in config.certificate or name in config.mistaken or self._of_roster(name) is not None

    def __iter__(self) -> Iterator[str]:
        """Return the names of all, those of the file first."""
        roster, of_file = self.roster, self.in_file
        yield from of_file
        yield from (each for each in roster.names() if each not in of_file) if roster is not None else ()

    def names(self, selection: Selection = ALL) -> list[str]:
        """Return the names of all, or of a selection of the roster.

        Raises:
            UsageError: There is no such group, or nobody is selected.

        """
        if not selection:
            return list(self)
        self.expect_group(selection)
        roster = self.roster
        found = roster.names(selection) if roster is not None else []
        if not found:
            of = " and ".join(filter(None, (selection.group and f"group “{selection.group}”",
                                            selection.customer and f"customer “{selection.customer}”")))  # fmt: skip
            raise UsageError(
                f"no certificate of {of} is enrolled", advice="inkstamp status shows which groups there are"
            )
        return found

    def items(self) -> Iterator[tuple[str, Certificate]]:
        """Return all that have no mistake, with their names."""
        return ((name, entry) for name in self.read(self) if (entry := self.get(name)) is not None)

    def is_installed_elsewhere(self, name: str) -> bool:
        """Tell whether a certificate is installed, and by other machines alone that share the ledger."""
        if not self._configuration.whole.ledger.database:
            return False
        entry = self.get(name)
        return entry is not None and not entry.install and bool(self.install_of_all(name))

    def install_of_all(self, name: str) -> tuple[str, ...]:
        """Return the servers of a certificate, on whichever machines that share the ledger they are."""
        whole, record = self._configuration.whole, self.record(name)
        if record is not None:
            group = whole.group.get(record.group)
            return tuple(record.settings.get("install") or (group.install if group is not None else ()))
        return whole.certificate[name].install if name in whole.certificate else ()

    def read(self, names: Iterable[str]) -> tuple[str, ...]:
        """Read those of some names that are on the roster, all at once; returns the names."""
        wanted = tuple(names)
        roster = self.roster
        unknown = [each for each in wanted if each not in self._enrolled] if roster is not None else []
        if roster is not None and unknown:
            found = roster.some(unknown)
            self._records |= found
            self._enrolled |= {name: self._made(found[name]) if name in found else None for name in unknown}
        return wanted

    def record(self, name: str) -> "EnrolledRecord | None":
        """Return what the roster says of a certificate; None for one that is not on it."""
        self.read([name])
        return self._records.get(name)

    def expect_group(self, selection: Selection) -> None:
        """Raise UsageError for a group that is neither configured nor anybody's."""
        if not selection.group:
            return
        roster = self.roster
        known = {*self._configuration.current_or_empty().group, *(roster.group_names() if roster is not None else ())}
        expect_known("group", known, [selection.group], self._configuration.path)

    def covering(self, names: Sequence[str]) -> dict[str, Certificate]:
        """Return the certificates that are for any of some domain names, without a mistake, by name."""
        wanted = set(names)
        found = {name: entry for name, entry in self.in_file.items() if not wanted.isdisjoint(entry.names)}
        roster = self.roster
        if roster is not None:
            for name in self.read(roster.covering(names)):
                entry = self.get(name)
                if entry is not None:
                    found[name] = entry
        return found

    def to_judge(self, now: datetime, selection: Selection = ALL) -> list[str]:
        """Return the certificates of the roster that are not known to be as they should be; changes nothing."""
        roster = self.roster
        if roster is None:
            return []
        changed = [Selection(group, selection.customer) for group in roster.changed_groups(self._digests())
                   if selection.group in {"", group}]  # fmt: skip
        anew = [name for each in changed for name in roster.names(each)]
        return list(dict.fromkeys((*roster.to_judge(now, selection), *anew)))

    def to_look_at(self, now: datetime, selection: Selection = ALL) -> list[str]:
        """Return those, and the ones that somebody is to be asked about; changes nothing."""
        roster = self.roster
        return [*self.to_judge(now, selection), *(roster.to_ask(now, selection) if roster is not None else ())]

    def take_in_settings(self) -> None:
        """Have all certificates of a group looked at again whose settings have changed since they were last."""
        roster = self.roster
        if roster is None:
            return
        digests = self._digests()
        changed = roster.changed_groups(digests)
        if changed:
            roster.recompute(changed, digests)

    def _digests(self) -> dict[str, str]:
        from inkstamp.config.enrolled import group_digests  # noqa: PLC0415  for those who have a roster

        return group_digests(self._configuration.whole)  # the same on all machines that share the file

    def _of_roster(self, name: str) -> Certificate | ConfigurationError | None:
        self.read([name])
        return self._enrolled.get(name)

    def _made(self, record: "EnrolledRecord") -> Certificate | ConfigurationError:
        from inkstamp.config.enrolled import enrolled_entry  # noqa: PLC0415  the file's copy is read without it

        config = self._configuration.current_or_empty()
        if record.certificate in config.certificate:
            return ConfigurationError(
                f"“{record.certificate}” is on the roster, in group “{record.group}”, and in the configuration file",
                where=str(self._configuration.path),
                advice="rename the one in the file, or take the other off the roster",
            )
        try:
            entry = enrolled_entry(config, record.certificate, record.group, record.names, record.settings)
        except ConfigurationError as error:
            return error
        if not config.ledger.database:
            return entry
        from inkstamp.config.sharing import installed_here  # noqa: PLC0415  where machines share a ledger

        return installed_here(config, entry)
