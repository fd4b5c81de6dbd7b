"""Which editions are revoked, or about to be."""

from datetime import datetime

import msgspec

from inkstamp.clock import Clock
from inkstamp.ledger.interface import Database
from inkstamp.ledger.roster import mark_changed
from inkstamp.ledger.rows import from_moment, telling_damage, to_moment


class RevocationRecord(msgspec.Struct, frozen=True):
    """That an edition was revoked by its CA."""

    at: datetime
    """Aware, UTC."""
    why: str
    """The reason, in words; empty for none."""


@telling_damage
class Revocations:
    """The ledger's pages on revocations: those that are done, and those that were begun and are not known to be done.

    Who goes on after a kill must not take the next edition for the one that was meant.
    """

    def __init__(self, database: Database, clock: Clock) -> None:
        self._database = database
        self._clock = clock

    def begin(self, certificate: str, edition: int, why: str) -> None:
        """Record that an edition is about to be revoked, and why, unless it is revoked."""
        with self._database.writing():
            if self.of(certificate, edition) is None:
                self._put(certificate, edition, begun=from_moment(self._clock.now()), done=0, why=why)

    def begun(self, certificate: str) -> int | None:
        """Return the edition whose revocation was begun and is not known to be done; None for none."""
        row = self._database.row(
            "SELECT edition FROM revocation WHERE certificate = :certificate AND done = 0 ORDER BY begun DESC",
            {"certificate": certificate},
        )
        return None if row is None else int(row["edition"])

    def end(self, certificate: str, edition: int, at: datetime, why: str) -> None:
        """Record that an edition is revoked."""
        with self._database.writing():
            self._put(certificate, edition, begun=from_moment(at), done=from_moment(at), why=why)

    def of(self, certificate: str, edition: int) -> RevocationRecord | None:
        """Return what is known of an edition's revocation; None where it is not known to be revoked."""
        row = self._database.row(
            "SELECT done, why FROM revocation WHERE certificate = :certificate AND edition = :edition AND done > 0",
            {"certificate": certificate, "edition": edition},
        )
        return None if row is None else RevocationRecord(to_moment(row["done"]), row["why"])

    def reason(self, certificate: str, edition: int) -> str:
        """Return why an edition is revoked, or about to be; empty for neither, or for no reason."""
        row = self._database.row(
            "SELECT why FROM revocation WHERE certificate = :certificate AND edition = :edition",
            {"certificate": certificate, "edition": edition},
        )
        return "" if row is None else str(row["why"])

    def _put(self, certificate: str, edition: int, **values: int | str) -> None:
        mark_changed(self._database, certificate)
        self._database.upsert("revocation", {"certificate": certificate, "edition": edition}, **values)
