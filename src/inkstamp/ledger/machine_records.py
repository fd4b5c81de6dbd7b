"""The machines that share a ledger: which there are, what each has seen, and which editions they lack.

Every entry about a certificate gets a number that grows (`change`, in the transaction of the entry); a machine looks
at what has changed since the last number that it saw, at what it lacks, and at its servers once a day. So a run costs
each machine what has changed, however many certificates there are. All moments are the database's own.
"""

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime

import msgspec

from inkstamp.ledger.interface import Database, Here, Row
from inkstamp.ledger.rows import as_list, from_moment, strings, telling_damage
from inkstamp.printable import one_line

_SHOWN, _LONGEST_WORD = 500, 255
_MOST_READ = 65_536
"""Characters of what a machine wrote."""
CHANNEL = "inkstamp_edition"
"""What is notified (LISTEN, NOTIFY) when an edition was issued, or given to more machines."""
INSTALLED = "inkstamp_installed"
"""What is notified when a machine has installed: those that order lead roll-outs by it."""


class Machine(msgspec.Struct, frozen=True, kw_only=True):
    """A machine, as it was when it gave a sign of life last."""

    name: str
    release: str
    """Of Ink Stamp."""
    orders: bool
    """Whether it orders certificates."""
    servers: tuple[str, ...]
    """The servers on it."""
    seen: datetime
    """By the database's clock; aware, UTC."""
    silent: float
    """For how many seconds it has given no sign of life."""
    behind: int
    """How many certificates have changed since it looked last."""

    def is_away(self, hours: float) -> bool:
        """Tell whether it has given no sign of life for longer than so many hours."""
        return self.silent > hours * 3600.0


class Lack(msgspec.Struct, frozen=True, kw_only=True):
    """An edition that a machine has not installed."""

    machine: str
    certificate: str
    edition: int
    since: datetime
    """By the database's clock; aware, UTC."""
    hours: float
    """For how long."""
    why: str
    """What went wrong, in words; empty where nothing did."""


class Assignment(msgspec.Struct, frozen=True, order=True):
    """That a machine installs a certificate, or those of a group: by it a node is let see them."""

    machine: str
    kind: str
    """`certificate` or `group`."""
    name: str


def announce(database: Database) -> None:
    """Tell the other machines that an edition was issued, with the transaction that this is in."""
    if database.is_shared:
        database.execute("UPDATE announced SET number = number + 1")
        database.execute(f"NOTIFY {CHANNEL}")


def mark_question(here: Here) -> str:
    """Return the question for what tells a machine that there is something to look at: another answer than before.

    That is an edition that was issued or given to more machines; for one that orders also an install of what is rolled
    out in steps, and that the wait between two of them is over.
    """
    if not here.orders:
        return "SELECT number::text AS mark FROM announced"
    return (
        "SELECT concat_ws(' ', number, (SELECT count(*) FROM install JOIN rollout USING (certificate, edition)"
        " WHERE state = 'done'),"
        " (SELECT count(*) FROM rollout WHERE next_at <= clock_timestamp())) AS mark FROM announced"
    )


def lacks(database: Database, machine: str, certificate: str, why: str, edition: int = 0) -> None:
    """Write down, inside a transaction, that a machine lacks an edition; since when is kept of one it lacked before."""
    database.execute(
        "INSERT INTO machine_lack (machine, certificate, edition, why) VALUES (:machine, :certificate, :edition, :why)"
        " ON CONFLICT (machine, certificate) DO UPDATE SET"
        " edition = CASE WHEN excluded.edition = 0 THEN machine_lack.edition ELSE excluded.edition END,"
        " why = CASE WHEN excluded.why = '' THEN machine_lack.why ELSE excluded.why END",
        {"machine": machine, "certificate": certificate, "edition": edition, "why": why},
    )


@telling_damage
class Machines:
    """Who they are."""

    def __init__(self, database: Database, here: Here) -> None:
        self._database = database
        self._here = here

    def appear(self, *, release: str, version: int, servers: Sequence[str]) -> None:
        """Give a sign of life; `version` is that of the tables which this release writes."""
        with self._database.writing():
            self._database.execute(
                "INSERT INTO machine (name, release, schema_version, orders, servers, began, seen) VALUES"
                " (:name, :release, :version, :orders, :servers, clock_timestamp(), clock_timestamp())"
                " ON CONFLICT (name) DO UPDATE SET release = excluded.release, servers = excluded.servers,"
                " schema_version = excluded.schema_version, orders = excluded.orders, seen = excluded.seen",
                {"name": self._here.machine, "release": release, "version": version, "orders": self._here.orders,
                 "servers": as_list(servers)},
            )  # fmt: skip

    def assign(self, wanted: Sequence[Assignment]) -> None:
        """Have just these machines be given just these certificates and groups; writes where something is another."""
        if self._assigned() == set(wanted):
            return
        with self._database.writing():
            known = self._assigned()  # another machine may have written it in this moment
            for each in known.difference(wanted):
                self._database.execute(
                    "DELETE FROM assigned WHERE machine = :machine AND kind = :kind AND name = :name",
                    msgspec.structs.asdict(each),
                )
            self._add(set(wanted) - known)

    def assign_also(self, wanted: Sequence[Assignment]) -> None:
        """Have machines be given certificates and groups besides what they are given."""
        if wanted and set(wanted) - self._assigned(wanted[0].name):
            with self._database.writing():
                self._add(set(wanted) - self._assigned(wanted[0].name))

    def _add(self, more: set[Assignment]) -> None:
        """Write assignments, and have the machines look at what they could not see before."""
        for each in more:
            self._database.execute("INSERT INTO assigned (machine, kind, name) VALUES (:machine, :kind, :name)",
                                   msgspec.structs.asdict(each))  # fmt: skip
        for kind, name in {(each.kind, each.name) for each in more}:
            meant = "group_name = :name" if kind == "group" else "certificate = :name"
            table = "enrolled" if kind == "group" else "edition"
            self._database.execute(
                f"INSERT INTO change (certificate, number) SELECT certificate, nextval('change_number') FROM {table}"  # noqa: S608
                f" WHERE {meant} GROUP BY certificate ON CONFLICT (certificate) DO UPDATE SET number = excluded.number",
                {"name": name},
            )
        if more:
            announce(self._database)

    def _assigned(self, name: str = "") -> set[Assignment]:
        where = " WHERE name = :name" if name else ""
        rows = self._database.rows(f"SELECT machine, kind, name FROM assigned{where}", {"name": name})  # noqa: S608
        return {Assignment(row["machine"], row["kind"], row["name"]) for row in rows}

    def latest_change(self) -> int:
        """Return the number of the last entry about a certificate."""
        row = self._database.row("SELECT max(number) AS last FROM change")
        return int(row["last"] or 0) if row is not None else 0

    def announced(self) -> str:
        """Return a mark that is another one when there is something to look at, for machines that are not notified."""
        row = self._database.row(mark_question(self._here))
        return str(row["mark"]) if row is not None else ""

    def to_look_at(self, now: datetime) -> list[str]:
        """Return the certificates that this machine has to look at: changed, lacking, or to be seen on its servers."""
        rows = self._database.rows(
            "SELECT certificate FROM change WHERE number >"
            " coalesce((SELECT change_seen FROM machine WHERE name = :machine), 0)"
            " UNION SELECT certificate FROM machine_lack WHERE machine = :machine"
            " UNION SELECT certificate FROM machine_look WHERE machine = :machine AND look_again <= :now"
            " ORDER BY certificate",
            {"machine": self._here.machine, "now": from_moment(now)},
        )
        return [row["certificate"] for row in rows]

    def settle(self, change: int, looked_at: Sequence[str], lacking: Mapping[str, int]) -> None:
        """Write down what this machine lacks after it has looked.

        Args:
            change: The number of the last entry before it looked.
            looked_at: The certificates.
            lacking: By certificate, the edition that it should have and has not.

        """
        machine = self._here.machine
        known = self._database.rows("SELECT certificate FROM machine_lack WHERE machine = :machine",
                                    {"machine": machine})  # fmt: skip
        over = {row["certificate"] for row in known}.intersection(looked_at) - lacking.keys()
        with self._database.writing():
            for certificate in over:
                self._database.execute(
                    "DELETE FROM machine_lack WHERE machine = :machine AND certificate = :certificate",
                    {"machine": machine, "certificate": certificate},
                )
            for certificate, edition in lacking.items():
                lacks(self._database, machine, certificate, "", edition)
            self._database.execute(
                "UPDATE machine SET change_seen = :change, seen = clock_timestamp() WHERE name = :machine",
                {"change": change, "machine": machine},
            )
            if not self._here.orders:
                self._database.execute(f"NOTIFY {INSTALLED}")

    def thumbprint(self, authority: str) -> str:
        """Return the thumbprint of an account's key, for machines that may not have the key; empty for none yet."""
        row = self._database.row("SELECT thumbprint FROM account_thumbprint WHERE authority = :authority",
                                 {"authority": authority})  # fmt: skip
        return str(row["thumbprint"]) if row is not None else ""

    def keep_thumbprint(self, authority: str, thumbprint: str) -> None:
        """Write down the thumbprint of an account's key, and have other machines look, where it is another one."""
        if self.thumbprint(authority) != thumbprint:
            with self._database.writing():
                self._database.upsert("account_thumbprint", {"authority": authority}, thumbprint=thumbprint)
                announce(self._database)

    def all(self) -> list[Machine]:
        """Return all machines, by name."""
        rows = self._database.rows(
            f"SELECT name, {_short('release')}, orders, {_short('servers')}, {_sane('seen')} AS seen,"  # noqa: S608  words of ours alone
            f" extract(epoch FROM clock_timestamp() - {_sane('seen')})::float8 AS silent,"
            " (SELECT count(*) FROM change WHERE number > machine.change_seen) AS behind FROM machine ORDER BY name"
        )
        return [_machine(row) for row in rows]

    def lacking(self) -> list[Lack]:
        """Return what machines lack, the longest first."""
        rows = self._database.rows(
            f"SELECT machine, certificate, edition, {_short('why')}, {_sane('since')} AS since,"  # noqa: S608  words of ours alone
            f" extract(epoch FROM clock_timestamp() - {_sane('since')})::float8 / 3600 AS hours FROM machine_lack"
            " ORDER BY since, machine, certificate"
        )
        return [
            Lack(machine=_word(row["machine"]), certificate=_word(row["certificate"]), edition=row["edition"],
                 since=row["since"].astimezone(UTC), hours=row["hours"], why=one_line(row["why"], _SHOWN))
            for row in rows
        ]  # fmt: skip

    def forget(self, name: str) -> bool:
        """Forget a machine that is gone for good, and what it lacks; returns whether there was one."""
        with self._database.writing():
            found = self._database.execute("DELETE FROM machine WHERE name = :name", {"name": name})
            for table in ("machine_lack", "machine_look"):
                self._database.execute(f"DELETE FROM {table} WHERE machine = :name", {"name": name})  # noqa: S608
        return found > 0


def _sane(column: str) -> str:
    """Return a moment of the database as one that is not in the future, and no infinity: a node wrote it."""
    return f"least(greatest({column}, timestamptz '2020-01-01 00:00:00+00'), clock_timestamp())"


def _short(column: str) -> str:
    """Return a text of the database as no more than is read: a node may have written any length."""
    return f"left({column}, {_MOST_READ}) AS {column}"


def _servers(stored: str) -> tuple[str, ...]:
    """Return the servers that a machine says it has; none where it wrote what is no list."""
    try:
        return tuple(_word(each) for each in strings.decode(stored))
    except (msgspec.MsgspecError, ValueError):
        return ()


def _word(text: str) -> str:
    """Return what a machine wrote of itself as it may be shown: whoever has a node can write there what he likes."""
    return one_line(text, _LONGEST_WORD)


def _machine(row: Row) -> Machine:
    return Machine(
        name=_word(row["name"]), release=_word(row["release"]), orders=row["orders"],
        servers=_servers(row["servers"]),
        seen=row["seen"].astimezone(UTC), silent=row["silent"], behind=row["behind"],
    )  # fmt: skip
