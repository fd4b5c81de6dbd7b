"""The ledger's pages on certificates that were given up."""

from collections.abc import Callable, Sequence

from inkstamp.clock import Clock
from inkstamp.ledger.interface import Database
from inkstamp.ledger.observations import Observations
from inkstamp.ledger.rows import as_list, from_moment, strings, telling_damage


@telling_damage
class Removals:
    """Who was removed, until it is ordered again."""

    def __init__(
        self, database: Database, clock: Clock, observations: Observations, note: Callable[[str, str, str], None]
    ) -> None:
        self._database = database
        self._observations = observations
        self._clock = clock
        self._note = note

    def add(self, certificate: str, servers: Sequence[str], text: str) -> None:
        """Record that a certificate is given up; `servers` are those that were left with an edition of it.

        It is struck off the roster in the same transaction.
        """
        name = {"name": certificate}
        with self._database.writing():
            self._database.execute("DELETE FROM enrolled_name WHERE certificate = :name", name)
            self._database.execute("DELETE FROM enrolled WHERE certificate = :name", name)
            self._observations.forget(certificate)
            self._database.execute("DELETE FROM setback WHERE certificate = :name", name)
            self._database.execute("DELETE FROM tlsa_change WHERE certificate = :name", name)
            self._database.upsert("removed", {"certificate": certificate}, at=from_moment(self._clock.now()),
                                  servers=as_list(servers))  # fmt: skip
            self._note("removed", text, certificate)

    def left_on(self, certificate: str) -> tuple[str, ...] | None:
        """Return the servers that were left with an edition of a removed certificate; None for one that is not."""
        row = self._database.row("SELECT servers FROM removed WHERE certificate = :name", {"name": certificate})
        return None if row is None else strings.decode(row["servers"])

    def forget(self, certificate: str) -> None:
        """Strike it out, inside a transaction: the certificate is ordered again."""
        self._database.execute("DELETE FROM removed WHERE certificate = :name", {"name": certificate})
