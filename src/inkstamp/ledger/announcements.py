"""Hearing that an edition was issued, at once: LISTEN and NOTIFY, or a question every few seconds.

A pooler that hands connections out for a transaction takes LISTEN and lets nothing through. Whether it does is tried:
a notification from another connection of ours has to arrive. The question is asked in either case, so that none is
missed for long.
"""

import time
from collections.abc import Callable
from contextlib import suppress

import psycopg

from inkstamp.errors import LedgerTrouble
from inkstamp.ledger.interface import Here
from inkstamp.ledger.machine_records import CHANNEL, INSTALLED, mark_question
from inkstamp.ledger.postgresql import ConnectionWatch, DatabaseAddress, connect

_ASK_SECONDS = 5.0
_OWN_SECONDS = 2.0
_AFTER_TROUBLE = 5.0


class Announcements:
    """A connection that listens; made again when it was lost."""

    def __init__(self, address: DatabaseAddress, here: Here, tell: Callable[[str], None]) -> None:
        """Listen at a database, for a machine; `tell` is told how it is done, where that is not the usual way."""
        self._address = address
        self._question = mark_question(here)
        self._channels = (CHANNEL, INSTALLED) if here.orders else (CHANNEL,)
        self._tell = tell
        self._connection: psycopg.Connection[object] | None = None
        self._watch = ConnectionWatch()
        self._hears = True
        self.seen = ""
        """The answer at the time of the last look."""

    def rings(self, seconds: float) -> bool:
        """Wait for an edition that was announced since the last look, for a while; returns whether there is one."""
        deadline = time.monotonic() + seconds
        while (left := deadline - time.monotonic()) > 0:
            try:
                if self._announced() != self.seen:
                    return True
                self._wait(min(left, _ASK_SECONDS))
            except (psycopg.Error, LedgerTrouble):  # the next run tells so, if it lasts
                self.close()
                time.sleep(min(left, _AFTER_TROUBLE))
        return False

    def _announced(self) -> str:
        connection = self._connected()
        with self._watch.over(connection):
            row = connection.execute(self._question.encode()).fetchone()
        return str(row["mark"]) if isinstance(row, dict) else ""

    def _connected(self) -> psycopg.Connection[object]:
        if self._connection is None or self._connection.closed:
            self._connection = connect(self._address)
            with self._watch.over(self._connection):
                for channel in self._channels:
                    self._connection.execute(f"LISTEN {channel}".encode())
            # What a connection tells itself comes through any pooler.
            with connect(self._address) as other, self._watch.over(other):
                other.execute(f"NOTIFY {CHANNEL}".encode())
            hears = any(self._connection.notifies(timeout=_OWN_SECONDS, stop_after=1))
            if self._hears and not hears:
                self._tell(f"notifications do not arrive, as behind a pooler: asking every {_ASK_SECONDS:.0f} s")
            self._hears = hears
        return self._connection

    def _wait(self, seconds: float) -> None:
        if self._hears:
            for _ in self._connected().notifies(timeout=seconds, stop_after=1):
                return
        else:
            time.sleep(seconds)

    def close(self) -> None:
        """Listen no longer."""
        if self._connection is not None:
            with suppress(psycopg.Error):
                self._connection.close()
            self._connection = None
