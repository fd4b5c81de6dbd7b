"""Editions that machines are given in steps: which are under way, and who has been given them.

An edition under way has a row here from the transaction that issued it, so that no machine takes it before its turn: a
node's question for the newest edition passes over those that it has not been given. All moments are the database's own.
"""

from collections.abc import Iterable, Sequence

import msgspec

from inkstamp.ledger.interface import Database, Here
from inkstamp.ledger.machine_records import announce
from inkstamp.ledger.records import EditionRecord
from inkstamp.ledger.roster import mark_changed
from inkstamp.ledger.rows import as_edition, strings, telling_damage
from inkstamp.printable import one_line

_LONGEST_WORD = 500
_NEWEST = "SELECT max(edition.number) FROM edition WHERE edition.certificate = rollout.certificate"
_KEY = "certificate = :certificate AND edition = :edition"


class StagedRollout(msgspec.Struct, frozen=True, kw_only=True):
    """The newest edition of a certificate, under way to its machines."""

    certificate: str
    edition: int
    went_back: bool
    """Whether it was taken back from all machines, which have the edition before."""
    hours: float
    """For how long it has been under way."""
    seconds_left: float | None
    """In how many seconds the next step may begin; None while those of this step are not all known to serve it."""
    given: frozenset[str]
    """The machines that have been given it."""


class MachineTrouble(msgspec.Struct, frozen=True):
    """What went wrong on a machine with an edition."""

    machine: str
    certificate: str
    why: str


def open_here(database: Database, here: Here, table: str) -> str:
    """Return a condition on rows of editions, that this machine may have them; its `:machine` is this one's name."""
    if not database.is_shared or here.orders:
        return ""
    return (
        " AND (NOT EXISTS (SELECT 1 FROM rollout AS staged"  # noqa: S608  words of ours alone
        f" WHERE staged.certificate = {table}.certificate AND staged.edition = {table}.number)"
        " OR EXISTS (SELECT 1 FROM rollout_machine AS given WHERE given.machine = :machine"
        f" AND given.certificate = {table}.certificate AND given.edition = {table}.number))"
    )


@telling_damage
class StagedRollouts:
    """What is under way."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def begin(self, certificate: str, edition: int) -> None:
        """Keep an edition from all machines until each is given it; inside the transaction that records it."""
        self._database.insert("rollout", certificate=certificate, edition=edition)

    def under_way(self, certificate: str = "") -> list[StagedRollout]:
        """Return those whose edition is the newest of its certificate, the oldest first."""
        which = " AND rollout.certificate = :certificate" if certificate else ""
        rows = self._database.rows(
            "SELECT rollout.certificate, rollout.edition, went_back,"  # noqa: S608  words of ours alone
            " extract(epoch FROM clock_timestamp() - began)::float8 / 3600 AS hours,"
            " extract(epoch FROM next_at - clock_timestamp())::float8 AS seconds_left,"
            " coalesce(array_agg(machine) FILTER (WHERE machine IS NOT NULL), '{}') AS given"
            " FROM rollout LEFT JOIN rollout_machine USING (certificate, edition)"
            f" WHERE rollout.edition = ({_NEWEST}){which}"
            " GROUP BY rollout.certificate, rollout.edition ORDER BY rollout.began, rollout.certificate",
            {"certificate": certificate},
        )
        return [
            StagedRollout(certificate=row["certificate"], edition=row["edition"], went_back=row["went_back"],
                          hours=row["hours"], seconds_left=row["seconds_left"], given=frozenset(row["given"]))
            for row in rows
        ]  # fmt: skip

    def installed(self) -> dict[tuple[str, int], dict[str, set[str]]]:
        """Return which servers have an edition that is under way: by certificate and edition, by machine."""
        rows = self._database.rows(
            "SELECT certificate, edition, machine, servers FROM install JOIN rollout USING (certificate, edition)"
            " WHERE state = 'done' AND machine <> '' AND NOT EXISTS (SELECT 1 FROM install AS later"
            " WHERE later.certificate = install.certificate AND later.machine = install.machine"
            " AND later.servers = install.servers AND later.id > install.id)"
        )
        found: dict[tuple[str, int], dict[str, set[str]]] = {}
        for row in rows:
            servers = found.setdefault((row["certificate"], row["edition"]), {}).setdefault(row["machine"], set())
            servers.update(_servers(row["servers"]))
        return found

    def troubles(self) -> list[MachineTrouble]:
        """Return what went wrong with editions that are under way, as the machines said."""
        rows = self._database.rows(
            "SELECT machine, certificate, left(why, 1000) AS why FROM machine_lack JOIN rollout USING (certificate)"
            " WHERE why <> '' UNION SELECT machine, certificate, left(astray, 1000) FROM machine_look"
            " JOIN rollout USING (certificate, edition) WHERE astray <> '' ORDER BY machine, certificate"
        )
        return [
            MachineTrouble(one_line(row["machine"], _LONGEST_WORD), row["certificate"],
                           one_line(row["why"], _LONGEST_WORD))
            for row in rows
        ]  # fmt: skip

    def edition_before(self, certificate: str, edition: int) -> EditionRecord | None:
        """Return the newest edition before one that was given to all machines."""
        row = self._database.row(
            "SELECT * FROM edition WHERE certificate = :certificate AND number < :edition AND NOT EXISTS (SELECT 1"
            " FROM rollout WHERE rollout.certificate = edition.certificate AND rollout.edition = edition.number)"
            " ORDER BY number DESC LIMIT 1",
            {"certificate": certificate, "edition": edition},
        )
        return None if row is None else as_edition(row)

    def give(self, rollout: StagedRollout, machines: Iterable[str]) -> None:
        """Give an edition to more machines, unless it was taken back in this moment."""
        with self._database.writing():
            for machine in machines:
                self._database.execute(
                    "INSERT INTO rollout_machine (certificate, edition, machine) SELECT certificate, edition, :machine"  # noqa: S608  words of ours alone
                    f" FROM rollout WHERE {_KEY} AND NOT went_back ON CONFLICT DO NOTHING",
                    {**_key(rollout), "machine": machine},
                )
            self._database.execute(f"UPDATE rollout SET next_at = NULL WHERE {_KEY}", _key(rollout))  # noqa: S608  words of ours alone
            self._tell(rollout.certificate)

    def served(self, rollout: StagedRollout, wait: float) -> None:
        """Write down that all machines that were given an edition serve it; the next step begins in `wait` seconds."""
        with self._database.writing():
            self._database.execute(
                "UPDATE rollout SET next_at = clock_timestamp() + make_interval(secs => :wait)"  # noqa: S608  words of ours alone
                f" WHERE {_KEY} AND next_at IS NULL",
                {**_key(rollout), "wait": wait},
            )

    def end(self, rollout: StagedRollout, *, whatever: bool = False) -> None:
        """Give an edition to all machines; `whatever` also where it was taken back."""
        taken_back = "" if whatever else " AND NOT went_back"
        with self._database.writing():
            ended = self._database.execute(f"DELETE FROM rollout WHERE {_KEY}{taken_back}", _key(rollout))  # noqa: S608  words of ours alone
            if ended:
                for table in ("rollout", "rollout_machine"):
                    self._database.execute(
                        f"DELETE FROM {table} WHERE certificate = :certificate AND edition <= :edition",  # noqa: S608  words of ours alone
                        _key(rollout),
                    )
                self._tell(rollout.certificate)

    def go_back(self, certificate: str, edition: int) -> None:
        """Take an edition back from all machines: they install the one before it."""
        key = {"certificate": certificate, "edition": edition}
        with self._database.writing():
            self._database.upsert("rollout", key, went_back=True, next_at=None)
            self._database.execute(f"DELETE FROM rollout_machine WHERE {_KEY}", key)  # noqa: S608  words of ours alone
            self._tell(certificate)

    def _tell(self, certificate: str) -> None:
        mark_changed(self._database, certificate)
        announce(self._database)


def _key(rollout: StagedRollout) -> dict[str, str | int]:
    return {"certificate": rollout.certificate, "edition": rollout.edition}


def _servers(stored: str) -> Sequence[str]:
    """Return the servers that a machine wrote; none where that is no list."""
    try:
        return strings.decode(stored)
    except (msgspec.MsgspecError, ValueError):
        return ()
