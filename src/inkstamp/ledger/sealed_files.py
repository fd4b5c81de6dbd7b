"""The files of HOME that all machines share, as sealed rows of the shared ledger.

Each row has an owner, a certificate or `ACCOUNTS`, and the path below HOME. HOME itself is a copy of some of them:
what is there for servers of this machine or for a run that is under way, never the truth.
"""

import hashlib
from collections.abc import Iterator, Sequence

from msgspec import Struct

from inkstamp.bulkhead import apart
from inkstamp.errors import InkStampError
from inkstamp.ledger.interface import Database, Row, among
from inkstamp.ledger.rows import telling_damage
from inkstamp.ledger.sealing import SealKeys, opened, sealed

ACCOUNTS = "accounts/"
"""The owner of account keys; no certificate has a name with a slash."""
_MANY = 200


class StoredFile(Struct, frozen=True):
    """One file as the listing has it."""

    owner: str
    path: str
    """Below HOME."""
    mode: int
    digest: str
    """SHA-256 of the contents."""
    key_id: str


class Unsound(Struct, frozen=True):
    """A row that does not open, or is not what it says."""

    path: str
    why: str


def digest_of(data: bytes) -> str:
    """Return what a stored file is compared by."""
    return hashlib.sha256(data).hexdigest()


@telling_damage
class SealedFiles:
    """All of them; contents are sealed before they reach the database and opened where they are asked for."""

    def __init__(self, database: Database, keys: SealKeys) -> None:
        self._database = database
        self._keys = keys

    def expect_key(self) -> None:
        """Make sure that files can be sealed, before others wait for our turn: a program may have to be asked once."""
        sealed(self._keys, b"", "")

    def put(self, owner: str, files: Sequence[tuple[str, int, bytes]]) -> None:
        """Store files (path, mode, contents), in the place of what is there; all or none, durable when this returns."""
        rows = [
            (path, mode, data, *sealed(self._keys, data, _subject(owner, path, mode))) for path, mode, data in files
        ]
        if not rows:
            return
        columns = ("path", "mode", "key_id", "sealed", "digest")
        values = {
            f"{column}{at}": value
            for at, (path, mode, data, key_id, closed) in enumerate(rows)
            for column, value in zip(columns, (path, mode, key_id, closed, digest_of(data)), strict=True)
        }
        marks = ", ".join(f"(:owner, {', '.join(f':{each}{at}' for each in columns)})" for at in range(len(rows)))
        with self._database.writing():
            self._database.execute(
                f"INSERT INTO sealed_file (owner, {', '.join(columns)}) VALUES {marks} ON CONFLICT (owner, path)"  # noqa: S608  words of ours alone
                f" DO UPDATE SET {', '.join(f'{each} = excluded.{each}' for each in columns[1:])}",
                {"owner": owner, **values},
            )

    def get(self, owner: str, path: str) -> bytes | None:
        """Return a file's contents, None where there is none; LedgerTrouble where it does not open."""
        row = self._database.row("SELECT * FROM sealed_file WHERE owner = :owner AND path = :path",
                                 {"owner": owner, "path": path})  # fmt: skip
        return None if row is None else self._open(row)

    def _open(self, row: Row) -> bytes:
        subject = _subject(row["owner"], row["path"], row["mode"])
        return opened(self._keys, row["key_id"], bytes(row["sealed"]), subject)

    def of(self, owner: str, below: str = "") -> list[StoredFile]:
        """List the files of an owner, or those whose path begins so."""
        rows = self._database.rows(
            "SELECT owner, path, mode, digest, key_id FROM sealed_file WHERE owner = :owner"
            " AND substr(path, 1, :length) = :below ORDER BY path",
            {"owner": owner, "below": below, "length": len(below)},
        )
        return [StoredFile(row["owner"], row["path"], row["mode"], row["digest"], row["key_id"]) for row in rows]

    def with_path(self, owners: Sequence[str], name: str) -> set[tuple[str, str]]:
        """Return which of some owners have files of a name, as pairs of owner and path."""
        return {
            (row["owner"], row["path"])
            for where, values in among("owner", owners)
            for row in self._database.rows(
                f"SELECT owner, path FROM sealed_file WHERE {where} AND path LIKE :like",  # noqa: S608  words of ours
                {**values, "like": f"%/{name}"},
            )
        }

    def drop(self, owner: str, below: str) -> None:
        """Remove the files of an owner whose path begins so."""
        with self._database.writing():
            self.strike_out(owner, below)

    def strike_out(self, owner: str, below: str) -> None:
        """Do as `drop`, inside a transaction that writes."""
        self._database.execute(
            "DELETE FROM sealed_file WHERE owner = :owner AND substr(path, 1, :length) = :below",
            {"owner": owner, "below": below, "length": len(below)},
        )

    def each(self, after: tuple[str, str] = ("", "")) -> Iterator[Row]:
        """Yield all rows in the order of owner and path, some at a time."""
        while True:
            rows = self._database.rows(
                "SELECT * FROM sealed_file WHERE (owner, path) > (:owner, :path) ORDER BY owner, path LIMIT :most",
                {"owner": after[0], "path": after[1], "most": _MANY},
            )
            yield from rows
            if len(rows) < _MANY:
                return
            after = rows[-1]["owner"], rows[-1]["path"]

    def verify(self) -> Iterator[Unsound | None]:
        """Open every row; yields what is wrong with it, None for nothing."""
        for row in self.each():
            try:
                with apart():
                    found = self._open(row)
            except InkStampError as error:
                yield Unsound(row["path"], error.what)
                continue
            yield None if digest_of(found) == row["digest"] else Unsound(row["path"], "its digest is another")

    def reseal(self) -> Iterator[bool]:
        """Seal every row with the key that counts now, one at a time, while everything runs; yields whether it had to.

        A row that is written in between by another keeps what that one wrote.
        """
        current = self._keys.current()
        for row in self.each():
            if row["key_id"] == current:
                yield False
                continue
            key_id, closed = sealed(self._keys, self._open(row), _subject(row["owner"], row["path"], row["mode"]))
            with self._database.writing():
                self._database.execute(
                    "UPDATE sealed_file SET sealed = :sealed, key_id = :key"
                    " WHERE owner = :owner AND path = :path AND key_id = :before AND digest = :digest",
                    {"sealed": closed, "key": key_id, "owner": row["owner"], "path": row["path"],
                     "before": row["key_id"], "digest": row["digest"]},
                )  # fmt: skip
            yield True

    def keys_in_use(self) -> dict[str, int]:
        """Return how many rows each sealing key is needed for, by its id."""
        return keys_in_use(self._database)


def keys_in_use(database: Database) -> dict[str, int]:
    """Return how many files each sealing key is needed for, by its id."""
    rows = database.rows("SELECT key_id, count(*) AS many FROM sealed_file GROUP BY key_id ORDER BY key_id")
    return {row["key_id"]: row["many"] for row in rows}


def _subject(owner: str, path: str, mode: int) -> str:
    return f"{owner} {path} {mode:o}"
