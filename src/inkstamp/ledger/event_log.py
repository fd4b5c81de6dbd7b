"""The ledger's pages on runs and what happened in them; a run is written with its first event."""

from contextlib import suppress

from inkstamp.clock import Clock
from inkstamp.errors import LedgerTrouble
from inkstamp.ledger.interface import Database, Here
from inkstamp.ledger.records import ALL, EventRecord, Selection
from inkstamp.ledger.roster import chosen
from inkstamp.ledger.rows import from_moment, telling_damage, to_moment
from inkstamp.printable import printable


@telling_damage
class EventLog:
    """Written by one run."""

    def __init__(self, database: Database, clock: Clock, here: Here) -> None:
        self._database = database
        self._clock = clock
        self._machine = here.machine
        self._run: int | None = None
        self._command = ""

    def begin(self, command: str) -> None:
        """Name the command that the following entries belong to; it is written with the first of them."""
        self._command = command

    def note(self, what: str, text: str, certificate: str) -> None:
        """Record that something happened, inside a transaction."""
        now = from_moment(self._clock.now())
        if self._run is None or not self._database.rows("SELECT 1 FROM run WHERE id = :id", {"id": self._run}):
            # The first entry of a run may have been undone with its transaction, and this run's row with it.
            command = printable(self._command)
            self._run = self._database.insert_numbered("run", began=now, command=command, machine=self._machine)
        self._database.insert("event", at=now, run=self._run, certificate=certificate, what=what, text=printable(text))

    def end(self, exit_status: int) -> None:
        """Record how the run ended, if it left anything in the ledger."""
        if self._run is not None:
            with suppress(LedgerTrouble), self._database.writing():  # the run's own error is told already
                self._database.execute(
                    "UPDATE run SET ended = :ended, exit_status = :status WHERE id = :id",
                    {"ended": from_moment(self._clock.now()), "status": exit_status, "id": self._run},
                )

    def latest(self, certificate: str, limit: int, selection: Selection = ALL) -> list[EventRecord]:
        """Return the latest events, of one certificate, of a selection or of all, the oldest of them first."""
        meant = f" AND event.certificate IN ({chosen(selection)})" if selection else ""
        rows = self._database.rows(
            "SELECT event.*, run.command, run.machine FROM event JOIN run ON run.id = event.run"  # noqa: S608  our words
            f" WHERE :certificate IN ('', event.certificate){meant} ORDER BY event.id DESC LIMIT :most",
            {"certificate": certificate, "most": limit, "group": selection.group, "customer": selection.customer},
        )
        return [
            EventRecord(
                at=to_moment(row["at"]),
                run=row["run"],
                command=row["command"],
                certificate=row["certificate"],
                what=row["what"],
                text=row["text"],
                machine=row["machine"],
            )
            for row in reversed(rows)
        ]
