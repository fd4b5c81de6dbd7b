"""A certificate that is called otherwise from now on: what the ledger has of it moves to its new name.

Where the configuration file has to be written in between, this is done in two steps: at every moment the name that the
file has is one of which all is known that decides about renewal.
"""

from collections.abc import Callable

from inkstamp.ledger.interface import Database

_COPIED = {
    "edition": "number, names, authority, issuer, root, serial, sha256, not_before, not_after, key_kind",
    "install": "edition, servers, state, at",
    "ca_order": "authority, names, state, url, edition, opened, changed",
    "tidings": "edition, window_start, window_end, explanation, ask_again, revoked, revoked_why, status_again, astray,"
    " look_again, planned, records, records_trouble, records_again",
    "revocation": "edition, begun, done, why",
}
"""What decides about renewal, by table: its columns, but for the certificate and numbers that it has by itself."""
_MOVED = ("event", "setback", "refused_method", "matter", "tlsa_change")


class Renames:
    """Moves records from one name to another."""

    def __init__(self, database: Database, note: Callable[[str, str, str], None]) -> None:
        self._database = database
        self._note = note

    def begin(self, old: str, new: str) -> None:
        """Have all that decides about renewal known by the new name too; done again, nothing happens."""
        with self._database.writing():
            self._copy(old, new)

    def _copy(self, old: str, new: str) -> None:
        names = {"old": old, "new": new}
        for table, columns in _COPIED.items():
            self._database.execute(
                f"INSERT INTO {table} (certificate, {columns}) SELECT :new, {columns} FROM {table}"  # noqa: S608  ours
                f" WHERE certificate = :old AND NOT EXISTS (SELECT 1 FROM {table} WHERE certificate = :new)",
                names,
            )

    def finish(self, old: str, new: str) -> None:
        """Forget the old name; what happened is told of the new one."""
        with self._database.writing():
            self._move(old, new)

    def _move(self, old: str, new: str) -> None:
        names = {"old": old, "new": new}
        for table in _COPIED:
            self._database.execute(f"DELETE FROM {table} WHERE certificate = :old", {"old": old})  # noqa: S608  ours
        for table in _MOVED:
            self._database.execute(f"UPDATE {table} SET certificate = :new WHERE certificate = :old", names)  # noqa: S608
        self._note("renamed", f"from “{old}” to “{new}”", new)

    def on_roster(self, old: str, new: str) -> None:
        """Do both for an enrolled certificate, and change its name on the roster, all in one transaction."""
        names = {"old": old, "new": new}
        with self._database.writing():
            self._copy(old, new)
            self._database.execute(
                "UPDATE enrolled SET certificate = :new, ok_until = 0, ask_at = 0, revision = revision + 1"
                " WHERE certificate = :old", names,
            )  # fmt: skip
            self._database.execute("UPDATE enrolled_name SET certificate = :new WHERE certificate = :old", names)
            self._move(old, new)
