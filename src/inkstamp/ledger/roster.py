"""The ledger's pages on certificates that are configured here and not in the file.

What a run has to look at is kept in two indexed columns, so that a hundred thousand certificates cost it no more than
the few that something is to be done for. `ok_until` is the moment up to which a certificate is known to be as it
should be, 0 for one that has to be judged; `ask_at` when its CA or its servers are to be asked about it. Whatever is
written about a certificate anywhere in the ledger strikes `ok_until` out in the same transaction (`mark_changed`), and
grows its `revision`, by which a decision that was made from what was known before is refused.
"""

from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import datetime
from typing import Any

import msgspec
from msgspec import Struct

from inkstamp.clock import Clock
from inkstamp.files import write_bytes
from inkstamp.home import Home
from inkstamp.ledger.file_store import FileStore
from inkstamp.ledger.interface import Database, Row, among
from inkstamp.ledger.records import ALL, EnrolledRecord, Selection
from inkstamp.ledger.rows import as_list, from_moment, strings, telling_damage, to_moment

_UNSETTLED = "UPDATE enrolled SET ok_until = 0, revision = revision + 1 WHERE certificate = :certificate"
_CHANGED = (
    "WITH changed AS (INSERT INTO change (certificate, number) VALUES (:certificate, nextval('change_number'))"  # noqa: S608  words of ours alone
    f" ON CONFLICT (certificate) DO UPDATE SET number = excluded.number) {_UNSETTLED}"
)
_settings = msgspec.json.Decoder(dict[str, Any])


class NextLook(Struct, frozen=True):
    """When a certificate has to be looked at next, by what was known at one revision of it."""

    certificate: str
    revision: int
    ok_until: datetime | None
    """Up to when it is as it should be; aware, UTC. None for one that is not."""
    ask_at: datetime | None
    """When its CA or its servers are to be asked about it; None for now."""


class GroupCount(Struct, frozen=True):
    """How many certificates of a group there are."""

    group: str
    total: int


def mark_changed(database: Database, certificate: str) -> None:
    """Have a certificate judged anew, inside the transaction that changes something about it.

    Where machines share the ledger, each of them finds out by the number of the change (see `machines.py`).
    """
    if database.is_shared and not database.marks_changes:
        return  # what a machine does on its own servers is for no other to judge
    database.execute(_CHANGED if database.marks_changes else _UNSETTLED, {"certificate": certificate})


def _of_row(row: Row) -> EnrolledRecord:
    return EnrolledRecord(
        certificate=row["certificate"],
        group=row["group_name"],
        customer=row["customer"],
        names=strings.decode(row["names"]),
        settings=_settings.decode(row["settings"]),
        since=to_moment(row["since"]),
        revision=row["revision"],
    )


def _where(selection: Selection) -> tuple[str, dict[str, Any]]:
    """Return the condition that finds a selection, and its parameters."""
    parts = {"group_name = :group": selection.group, "customer = :customer": selection.customer}
    conditions = [condition for condition, value in parts.items() if value]
    return " AND ".join(conditions) or "1 = 1", {"group": selection.group, "customer": selection.customer}


def chosen(selection: Selection) -> str:
    """Return the question for the names of a selection; its parameters are `group` and `customer`."""
    return f"SELECT certificate FROM enrolled WHERE {_where(selection)[0]}"  # noqa: S608  words of ours alone


@telling_damage
class Roster:
    """Who is enrolled, and when each has to be looked at next."""

    def __init__(self, database: Database, clock: Clock, note: Callable[[str, str, str], None]) -> None:
        self._database = database
        self._clock = clock
        self._note = note

    def is_empty(self) -> bool:
        """Tell whether nobody is enrolled."""
        return self._database.row("SELECT certificate FROM enrolled LIMIT 1") is None

    def some(self, certificates: Sequence[str]) -> dict[str, EnrolledRecord]:
        """Return those of some certificates that are enrolled, by name."""
        return {
            row["certificate"]: _of_row(row)
            for where, names in among("certificate", certificates)
            for row in self._database.rows(f"SELECT * FROM enrolled WHERE {where}", names)  # noqa: S608
        }

    def all(self, selection: Selection = ALL) -> list[EnrolledRecord]:
        """Return everybody, or a selection, by name."""
        where, values = _where(selection)
        query = f"SELECT * FROM enrolled WHERE {where} ORDER BY certificate"  # noqa: S608  words of ours alone
        return [_of_row(row) for row in self._database.rows(query, values)]

    def names(self, selection: Selection = ALL) -> list[str]:
        """Return the names of all certificates, or of a selection, in their order."""
        rows = self._database.rows(f"{chosen(selection)} ORDER BY certificate", _where(selection)[1])
        return [row["certificate"] for row in rows]

    def to_judge(self, now: datetime, selection: Selection = ALL) -> list[str]:
        """Return the certificates that are not known to be as they should be at that moment."""
        where, values = _where(selection)
        query = f"SELECT certificate FROM enrolled WHERE ok_until <= :now AND {where} ORDER BY certificate"  # noqa: S608
        return [row["certificate"] for row in self._database.rows(query, {"now": from_moment(now), **values})]

    def to_ask(self, now: datetime, selection: Selection = ALL) -> list[str]:
        """Return the certificates that somebody is to be asked about by that moment."""
        where, values = _where(selection)
        query = f"SELECT certificate FROM enrolled WHERE ask_at <= :now AND {where} ORDER BY certificate"  # noqa: S608
        return [row["certificate"] for row in self._database.rows(query, {"now": from_moment(now), **values})]

    def counts(self, selection: Selection = ALL) -> list[GroupCount]:
        """Count each group, by name."""
        where, values = _where(selection)
        rows = self._database.rows(
            f"SELECT group_name, count(*) AS total FROM enrolled WHERE {where}"  # noqa: S608  words of ours alone
            " GROUP BY group_name ORDER BY group_name",
            values,
        )
        return [GroupCount(row["group_name"], row["total"]) for row in rows]

    def total(self, selection: Selection = ALL) -> int:
        """Count everybody, or a selection."""
        where, values = _where(selection)
        rows = self._database.rows(f"SELECT count(*) AS total FROM enrolled WHERE {where}", values)  # noqa: S608  ours
        return int(rows[0]["total"])

    def group_names(self) -> list[str]:
        """Return the groups that somebody is enrolled in."""
        # From one to the next by the index: a table of a million rows is not read for forty names.
        rows = self._database.rows(
            "WITH RECURSIVE found (name) AS (SELECT min(group_name) FROM enrolled UNION ALL SELECT"
            " (SELECT min(group_name) FROM enrolled WHERE group_name > found.name) FROM found"
            " WHERE found.name IS NOT NULL)"
            " SELECT name FROM found WHERE name IS NOT NULL"
        )
        return [row["name"] for row in rows]

    def next_due(self, now: datetime, selection: Selection = ALL) -> tuple[str, datetime] | None:
        """Return the certificate that has to be judged next after that moment, and when; None for none."""
        where, values = _where(selection)
        row = self._database.row(
            f"SELECT certificate, ok_until FROM enrolled WHERE ok_until > :now AND {where} ORDER BY ok_until LIMIT 1",  # noqa: S608
            {"now": from_moment(now), **values},
        )
        return None if row is None else (row["certificate"], to_moment(row["ok_until"]))

    def covering(self, names: Sequence[str]) -> list[str]:
        """Return the certificates that are for any of some domain names."""
        found = (
            row["certificate"]
            for where, values in among("name", names)
            for row in self._database.rows(f"SELECT certificate FROM enrolled_name WHERE {where}", values)  # noqa: S608
        )
        return list(dict.fromkeys(found))

    def enrol(self, records: Sequence[EnrolledRecord], text: str) -> None:
        """Put certificates on the roster or change those that are there, all or none; `text` is noted as an event."""
        with self._database.writing():
            known = self.some([each.certificate for each in records])
            for each in records:
                self._put(each, known.get(each.certificate))
            self._note("enrolled", text, "")

    def _put(self, each: EnrolledRecord, known: EnrolledRecord | None) -> None:
        self._database.upsert(
            "enrolled",
            {"certificate": each.certificate},
            group_name=each.group,
            customer=each.customer,
            names=as_list(each.names),
            settings=msgspec.json.encode(each.settings).decode(),
            since=from_moment(known.since if known is not None else each.since),
            revision=known.revision + 1 if known is not None else 0,
            ok_until=0,
            ask_at=0,
        )
        if known is not None:
            self._forget_names(each.certificate)
        for name in each.names:
            self._database.insert("enrolled_name", name=name, certificate=each.certificate)

    def _forget_names(self, certificate: str) -> None:
        self._database.execute("DELETE FROM enrolled_name WHERE certificate = :name", {"name": certificate})

    def settle(self, looks: Iterable[NextLook]) -> None:
        """Write down when certificates are to be looked at next; not where something was written about one since."""
        with self._database.writing():
            for each in looks:
                self._database.execute(
                    "UPDATE enrolled SET ok_until = :until, ask_at = :ask"
                    " WHERE certificate = :certificate AND revision = :revision",
                    {
                        "until": from_moment(each.ok_until) if each.ok_until is not None else 0,
                        "ask": from_moment(each.ask_at) if each.ask_at is not None else 0,
                        "certificate": each.certificate,
                        "revision": each.revision,
                    },
                )

    def changed_groups(self, digests: Mapping[str, str]) -> list[str]:
        """Return the groups whose settings are not those of the last time.

        `digests` has one of each group's settings, by name; a group that is gone is one that has changed.
        """
        known = {row["name"]: row["digest"] for row in self._database.rows("SELECT * FROM enrolled_group")}
        return [name for name in {**known, **digests} if known.get(name) != digests.get(name)]

    def recompute(self, changed: Sequence[str], digests: Mapping[str, str]) -> None:
        """Have all certificates of some groups judged anew, and keep the digests of their settings."""
        with self._database.writing():
            for name in changed:
                self._database.execute(
                    "UPDATE enrolled SET ok_until = 0, ask_at = 0, revision = revision + 1 WHERE group_name = :name",
                    {"name": name},
                )
                if name in digests:
                    self._database.upsert("enrolled_group", {"name": name}, digest=digests[name])
                else:
                    self._database.execute("DELETE FROM enrolled_group WHERE name = :name", {"name": name})


def keep_copy(home: Home, store: FileStore, roster: Roster) -> None:
    """Write the roster beside a ledger in HOME, which one that is rebuilt takes it from."""
    if store.is_shared:
        return
    lines = [each.as_line() for each in roster.all()]
    write_bytes(home.roster_copy, b"\n".join([*lines, b""]), mode=0o600)
