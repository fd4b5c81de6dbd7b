"""What each messenger has told and not called off yet."""

from inkstamp.clock import Clock
from inkstamp.ledger.interface import Database
from inkstamp.ledger.rows import from_moment, telling_damage
from inkstamp.policy.notification_rules import Matter, News


@telling_damage
class SentNotices:
    """The ledger's pages on what people were told."""

    def __init__(self, database: Database, clock: Clock) -> None:
        self._database = database
        self._clock = clock

    def told(self, messenger: str) -> dict[tuple[str, str], Matter]:
        """Return what a messenger has told, by certificate and kind."""
        rows = self._database.rows("SELECT * FROM matter WHERE messenger = :name", {"name": messenger})
        found = []
        for row in rows:
            kind, _, step = str(row["kind"]).partition(" ")
            found.append(Matter(certificate=row["certificate"], kind=kind, text=row["text"], remedy="", step=step))  # type: ignore[arg-type]
        return {each.key: each for each in found}

    def tell(self, messenger: str, news: News) -> None:
        """Record that news were told."""
        with self._database.writing():
            for each in news.over:
                self._database.execute(
                    "DELETE FROM matter WHERE messenger = :name AND certificate = :certificate AND kind = :kind",
                    {"name": messenger, "certificate": each.certificate, "kind": each.key[1]},
                )
            for each in news.begun:
                self._database.insert(
                    "matter",
                    messenger=messenger,
                    certificate=each.certificate,
                    kind=each.key[1],
                    text=each.text,
                    since=from_moment(self._clock.now()),
                )
