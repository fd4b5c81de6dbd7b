"""The ledger: typed questions and entries. Every entry is one transaction, durable when the method returns."""

from collections.abc import Sequence
from contextlib import AbstractContextManager
from datetime import datetime

import msgspec

from inkstamp.clock import Clock
from inkstamp.errors import LedgerTrouble
from inkstamp.ledger.check_results import CheckResults
from inkstamp.ledger.dns_proofs import DnsProofs
from inkstamp.ledger.event_log import EventLog
from inkstamp.ledger.failures import Failures
from inkstamp.ledger.file_proofs import FileProofs
from inkstamp.ledger.file_store import FileStore, OwnFiles
from inkstamp.ledger.installs import Installs
from inkstamp.ledger.interface import NOWHERE, Database, Here, among
from inkstamp.ledger.machine_records import Machines, announce
from inkstamp.ledger.observations import Observations
from inkstamp.ledger.portal_proofs import PortalProofs
from inkstamp.ledger.records import (
    ALL,
    OPEN_STATES,
    SENT_STATES,
    AccountRecord,
    EditionRecord,
    EventRecord,
    OrderRecord,
    OrderState,
    Selection,
    check_order_move,
)
from inkstamp.ledger.removals import Removals
from inkstamp.ledger.renaming import Renames
from inkstamp.ledger.revocations import Revocations
from inkstamp.ledger.roster import Roster, mark_changed
from inkstamp.ledger.rows import (
    as_edition,
    as_list,
    as_order,
    edition_row,
    from_moment,
    strings,
    telling_damage,
    to_moment,
)
from inkstamp.ledger.sent_notices import SentNotices
from inkstamp.ledger.staged_rollouts import StagedRollouts, open_here
from inkstamp.ledger.tlsa_changes import TlsaChanges

_OPEN = ", ".join(f"'{state.value}'" for state in OPEN_STATES)


@telling_damage
class Ledger:
    """One open ledger, written by one run; safe to share between threads."""

    def __init__(self, database: Database, clock: Clock, store: FileStore | None = None, here: Here = NOWHERE) -> None:
        """Open the books.

        Args:
            database: Where they are.
            clock: What tells the time of entries.
            store: Where the files are besides that orders and editions have in HOME; None where HOME has them alone.
            here: This machine, where several share the ledger.

        """
        self._database = database
        self._store = store or OwnFiles()
        self._clock = clock
        self._log = EventLog(database, clock, here)
        self._note = self._log.note
        self.portal = PortalProofs(self._database, clock)
        self.files = FileProofs(self._database, here)
        self.dns = DnsProofs(self._database, here)
        self.tlsa = TlsaChanges(self._database)
        self.failures = Failures(self._database, clock, here)
        self.observations = Observations(self._database, here)
        self.renames = Renames(self._database, self._note)
        self.removals = Removals(self._database, clock, self.observations, self._note)
        self.sent_notices = SentNotices(self._database, clock)
        self.check_results = CheckResults(self._database, clock, here)
        self.revocations = Revocations(self._database, clock)
        self.roster = Roster(self._database, clock, self._note)
        self.machines = Machines(self._database, here) if database.is_shared else None
        """The machines that share the ledger; None where it is this one's own."""
        self.rollouts = StagedRollouts(self._database) if database.is_shared else None
        """The editions that are given to them in steps; None where there are none."""
        self._here = here
        self.installs = Installs(self._database, clock, self._note, here)

    def snapshot(self) -> AbstractContextManager[None]:
        """Have all questions inside see one state, whatever other runs write meanwhile."""
        return self._database.snapshot()

    def close(self) -> None:
        """Close the database."""
        self._database.close()

    # Runs and events

    def begin_run(self, command: str) -> None:
        """Name the command that the following entries belong to; it is written with the first of them."""
        self._log.begin(command)

    def end_run(self, exit_status: int) -> None:
        """Record how the run ended, if it left anything in the ledger."""
        self._log.end(exit_status)

    def note(self, what: str, text: str, certificate: str = "") -> None:
        """Record that something happened."""
        with self._database.writing():
            self._note(what, text, certificate)

    def events(self, certificate: str = "", limit: int = 100, selection: Selection = ALL) -> list[EventRecord]:
        """Return the latest events, of one certificate, of a selection or of all, the oldest of them first."""
        return self._log.latest(certificate, limit, selection)

    def _now(self) -> int:
        return from_moment(self._clock.now())

    # Accounts

    def account(self, authority: str) -> AccountRecord | None:
        """Return the account at an authority."""
        row = self._database.row("SELECT * FROM account WHERE authority = :authority", {"authority": authority})
        if row is None:
            return None
        return AccountRecord(
            authority=row["authority"],
            directory=row["directory"],
            url=row["url"],
            contact=row["contact"],
            opened=to_moment(row["opened"]),
            caa=strings.decode(row["caa"]),
            retired=to_moment(row["retired"]) if row["retired"] else None,
        )

    def save_account(
        self, authority: str, *, directory: str, url: str, contact: str, caa: Sequence[str], what: str
    ) -> None:
        """Record the account at an authority, in the place of an earlier one; `what` says what was done with it."""
        with self._database.writing():
            self._database.upsert("account", {"authority": authority}, directory=directory, url=url, contact=contact,
                                  opened=self._now(), caa=as_list(caa), retired=0)  # fmt: skip
            self._note("account", f"account at {authority}: {what}", "")

    def retire_account(self, authority: str) -> None:
        """Record that the account at an authority is deactivated."""
        with self._database.writing():
            self._database.execute(
                "UPDATE account SET retired = :now WHERE authority = :authority",
                {"authority": authority, "now": self._now()},
            )
            self._note("account", f"account at {authority}: retired", "")

    # Orders

    def open_order(self, certificate: str) -> OrderRecord | None:
        """Return the order that is not ended yet, the newest if there should be several."""
        row = self._database.row(
            f"SELECT * FROM ca_order WHERE certificate = :certificate AND state IN ({_OPEN}) ORDER BY id DESC",  # noqa: S608
            {"certificate": certificate},
        )
        return None if row is None else as_order(row)

    def waiting_orders(self) -> list[OrderRecord]:
        """Return the orders that wait at portals, the oldest first."""
        rows = self._database.rows("SELECT * FROM ca_order WHERE state = 'waiting' ORDER BY id")
        return [as_order(row) for row in rows]

    def certificates_with_open_orders(self) -> set[str]:
        """Return the certificates whose order is not ended."""
        rows = self._database.rows(f"SELECT certificate FROM ca_order WHERE state IN ({_OPEN})")  # noqa: S608
        return {row["certificate"] for row in rows}

    def certificate_of_order(self, order_id: int) -> str:
        """Return which certificate an order is for."""
        row = self._database.row("SELECT certificate FROM ca_order WHERE id = :id", {"id": order_id})
        return "" if row is None else str(row["certificate"])

    def ended_orders(self, certificate: str) -> list[int]:
        """Return the ids of the certificate's orders that are ended."""
        rows = self._database.rows(
            f"SELECT id FROM ca_order WHERE certificate = :certificate AND state NOT IN ({_OPEN})",  # noqa: S608
            {"certificate": certificate},
        )
        return [row["id"] for row in rows]

    def certificates_of(self, authority: str, now: datetime) -> int:
        """Return how many certificates have an edition of an authority that has not expired."""
        row = self._database.row(
            "SELECT count(DISTINCT certificate) AS many FROM edition WHERE authority = :authority AND not_after > :now",
            {"authority": authority, "now": from_moment(now)},
        )
        return int(row["many"]) if row is not None else 0

    def renewals_since(self, authority: str, moment: datetime) -> int:
        """Return how many orders for a further edition were opened at an authority since some moment."""
        row = self._database.row(
            "SELECT count(*) AS orders FROM ca_order"
            " WHERE authority = :authority AND opened >= :moment AND edition > 1",
            {"authority": authority, "moment": from_moment(moment)},
        )
        return int(row["orders"]) if row is not None else 0

    def order_urls(self, authority: str) -> set[str]:
        """Return the URLs of all orders at an authority that are known here."""
        rows = self._database.rows("SELECT url FROM ca_order WHERE authority = :authority", {"authority": authority})
        return {row["url"] for row in rows}

    def newest_orders(self, only: Sequence[str] | None = None) -> dict[str, OrderRecord]:
        """Return the newest order of each certificate, or of some."""
        return {
            row["certificate"]: as_order(row)
            for where, names in among("certificate", only)
            for row in self._database.rows(
                "SELECT * FROM ca_order WHERE id IN"  # noqa: S608  names from our own code
                f" (SELECT max(id) FROM ca_order WHERE {where} GROUP BY certificate)",
                names,
            )
        }

    def newest_issued(self, only: Sequence[str]) -> dict[str, datetime]:
        """Return when the newest edition of some certificates was taken in."""
        return {
            row["certificate"]: to_moment(row["at"])
            for where, names in among("certificate", only)
            for row in self._database.rows(
                "SELECT certificate, max(changed) AS at FROM ca_order"  # noqa: S608  names from our own code
                f" WHERE state = 'issued' AND {where} GROUP BY certificate",
                names,
            )
        }

    def order_of_edition(self, certificate: str, number: int) -> OrderRecord | None:
        """Return the order that an edition came from."""
        row = self._database.row(
            "SELECT * FROM ca_order WHERE certificate = :certificate AND edition = :number",
            {"certificate": certificate, "number": number},
        )
        return None if row is None else as_order(row)

    def intend_order(self, certificate: str, authority: str, names: Sequence[str]) -> OrderRecord:
        """Record that an order is about to be opened, and reserve its edition's number."""
        now = self._now()
        with self._database.writing():
            number = self.next_edition(certificate)
            mark_changed(self._database, certificate)
            self.removals.forget(certificate)
            identity = self._database.insert_numbered(
                "ca_order", certificate=certificate, authority=authority, names=as_list(names),
                state=OrderState.INTENDED.value, url="", edition=number, opened=now, changed=now,
            )  # fmt: skip
        return OrderRecord(id=identity, certificate=certificate, authority=authority, names=tuple(names),
                           state=OrderState.INTENDED, url="", edition=number, opened=to_moment(now),
                           changed=to_moment(now))  # fmt: skip

    def next_edition(self, certificate: str) -> int:
        """Return the number that the next edition of a certificate has."""
        last = "SELECT max(edition) AS last FROM ca_order WHERE certificate = :certificate"
        row = self._database.row(last, {"certificate": certificate})
        return int((row["last"] if row else None) or 0) + 1

    def move_order(
        self, order: OrderRecord, state: OrderState, what: str = "", text: str = "", url: str | None = None
    ) -> OrderRecord:
        """Move an order to another state, with an event when `what` is given; returns the record as it now is."""
        check_order_move(order.state, state, order.id)
        moved = msgspec.structs.replace(order, state=state, url=order.url if url is None else url)
        with self._database.writing():
            if state in SENT_STATES:
                self._store.keep_order(order.certificate, order.id)
            mark_changed(self._database, order.certificate)
            self._move(order, moved)
            if what:
                self._note(what, text, order.certificate)
        return moved

    def _move(self, before: OrderRecord, after: OrderRecord) -> None:
        """Write a move; LedgerTrouble when the order is not as it was read: another run has moved it since."""
        changed = self._database.execute(
            "UPDATE ca_order SET state = :state, url = :url, changed = :now WHERE id = :id AND state = :before",
            {"state": after.state.value, "url": after.url, "now": self._now(), "id": after.id,
             "before": before.state.value},
        )  # fmt: skip
        if after.state not in OPEN_STATES:
            self._store.strike_out_order(after.certificate, after.id)
        if not changed:
            raise LedgerTrouble(
                f"order {after.id} is not “{before.state}” any longer: another run has changed it",
                where=f"order {after.id}", advice="run the command again",
            )  # fmt: skip

    def orders_with_proofs(self) -> list[int]:
        """Return the ids of the orders that have files or records standing somewhere, perhaps."""
        standing = [each.order_id for each in self.files.of()] + [each.order_id for each in self.dns.of()]
        return list(dict.fromkeys(standing))

    # Editions

    def add_edition(
        self,
        order: OrderRecord,
        edition: EditionRecord,
        text: str,
        *,
        in_steps: bool = False,
        renewal: datetime | None = None,
    ) -> None:
        """Record an issued certificate and from when it is to be renewed, and end its order, in one transaction.

        `in_steps` keeps it from all machines.
        """
        check_order_move(order.state, OrderState.ISSUED, order.id)
        with self._database.writing():
            self._store.keep_edition(edition.certificate, edition.number)
            mark_changed(self._database, order.certificate)
            self._database.insert("edition", **edition_row(edition))
            if in_steps and self.rollouts is not None:
                self.rollouts.begin(edition.certificate, edition.number)
            self._move(order, msgspec.structs.replace(order, state=OrderState.ISSUED))
            if renewal is not None:
                self.observations.plan(edition, renewal)
            self._note("issued", text, order.certificate)
            announce(self._database)

    def restore_edition(self, edition: EditionRecord, told: str = "", renewal: datetime | None = None) -> None:
        """Record an edition that lies on the shelf and that this ledger does not know, as if it came of an order.

        With an event where it is `told`, and from when it is to be renewed where that is known.
        """
        with self._database.writing():
            self._store.keep_edition(edition.certificate, edition.number)
            if told:
                self._note("adopted", told, edition.certificate)
            self.removals.forget(edition.certificate)
            mark_changed(self._database, edition.certificate)
            self._database.insert(
                "ca_order",
                certificate=edition.certificate,
                authority=edition.authority,
                names=as_list(edition.names),
                state=OrderState.ISSUED.value,
                url="",
                edition=edition.number,
                **dict.fromkeys(("opened", "changed"), from_moment(edition.not_before)),
            )
            self._database.insert("edition", **edition_row(edition))
            if renewal is not None:
                self.observations.plan(edition, renewal)

    def edition(self, certificate: str, number: int) -> EditionRecord | None:
        """Return one edition of a certificate."""
        row = self._database.row(
            "SELECT * FROM edition WHERE certificate = :certificate AND number = :number",
            {"certificate": certificate, "number": number},
        )
        return None if row is None else as_edition(row)

    def edition_of(self, sha256: str) -> EditionRecord | None:
        """Return the newest edition that a certificate is, by the digest of its DER."""
        newest = "SELECT * FROM edition WHERE sha256 = :sha256 ORDER BY number DESC"
        row = self._database.row(newest, {"sha256": sha256})
        return None if row is None else as_edition(row)

    def newest_edition(self, certificate: str) -> EditionRecord | None:
        """Return the newest edition of a certificate; of those that this machine may have, where they come in steps."""
        row = self._database.row(
            f"SELECT * FROM edition WHERE certificate = :certificate{open_here(self._database, self._here, 'edition')}"  # noqa: S608  names from our own code
            " ORDER BY number DESC LIMIT 1",
            {"certificate": certificate, "machine": self._here.machine},
        )
        return None if row is None else as_edition(row)

    def newest_editions_off_roster(self) -> dict[str, EditionRecord]:
        """Return the newest edition of each certificate that is neither on the roster nor removed from all servers."""
        rows = self._database.rows(
            "SELECT DISTINCT certificate FROM edition WHERE NOT EXISTS"
            " (SELECT 1 FROM enrolled WHERE enrolled.certificate = edition.certificate) AND NOT EXISTS"
            " (SELECT 1 FROM removed WHERE removed.certificate = edition.certificate AND servers = '[]')"
        )
        return self.newest_editions([row["certificate"] for row in rows])

    def newest_editions(self, only: Sequence[str] | None = None) -> dict[str, EditionRecord]:
        """Return the newest edition of each certificate, or of some; otherwise as `newest_edition`."""
        open_to_us = open_here(self._database, self._here, "other")
        return {
            row["certificate"]: as_edition(row)
            for where, names in among("edition.certificate", only)
            for row in self._database.rows(
                f"SELECT * FROM edition WHERE {where} AND number ="  # noqa: S608  names from our own code
                " (SELECT max(other.number) FROM edition AS other WHERE other.certificate = edition.certificate"
                f"{open_to_us})",
                {**names, "machine": self._here.machine},
            )
        }
