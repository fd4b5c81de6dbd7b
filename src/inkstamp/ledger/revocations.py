"""Which editions are about to be revoked: who goes on after a kill must not take the next edition for that one."""

from inkstamp.clock import Clock
from inkstamp.ledger.database import Database, from_moment


class Revocations:
    """The ledger's pages on revocations that were begun and are not known to be done."""

    def __init__(self, database: Database, clock: Clock) -> None:
        self._database = database
        self._clock = clock

    def begin(self, certificate: str, edition: int) -> None:
        """Record that an edition is about to be revoked."""
        with self._database.writing():
            self._database.put(
                "revocation", {"certificate": certificate}, edition=edition, begun=from_moment(self._clock.now())
            )

    def begun(self, certificate: str) -> int | None:
        """Return the edition whose revocation was begun; None for none."""
        row = self._database.row(
            "SELECT edition FROM revocation WHERE certificate = :certificate", {"certificate": certificate}
        )
        return None if row is None else int(row["edition"])

    def end(self, certificate: str) -> None:
        """Record that it is done."""
        with self._database.writing():
            self._database.execute(
                "DELETE FROM revocation WHERE certificate = :certificate", {"certificate": certificate}
            )
