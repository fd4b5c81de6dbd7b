"""The ledger's pages on TLSA records that are changed with a key, so that a killed run's change is gone on with."""

from datetime import datetime

import msgspec

from inkstamp.ledger.interface import Database
from inkstamp.ledger.rows import from_moment, telling_damage, to_moment


class TlsaChange(msgspec.Struct, frozen=True, kw_only=True):
    """A record for the key of an edition that is about to be installed."""

    certificate: str
    place: str
    """`_25._tcp.mail.example.test`, as senders ask for it."""
    edition: int
    value: str
    """The record for its key, as zone files have it."""
    before: tuple[str, ...]
    """The records for keys of editions before, which go once it is installed."""
    ttl: int
    """Seconds for which resolvers may have the records of before."""
    seen: datetime | None
    """Since when every nameserver has the record; aware, UTC; None for not yet."""


@telling_damage
class TlsaChanges:
    """Those that are under way, one for each certificate and place."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def all(self, certificate: str = "") -> list[TlsaChange]:
        """Return those of one certificate, or of all."""
        where = " WHERE certificate = :name" if certificate else ""
        query = f"SELECT * FROM tlsa_change{where} ORDER BY certificate, place"  # noqa: S608
        return [
            TlsaChange(
                certificate=row["certificate"],
                place=row["place"],
                edition=row["edition"],
                value=row["value"],
                before=tuple(row["before"].splitlines()),
                ttl=row["ttl"],
                seen=to_moment(row["seen"]) if row["seen"] else None,
            )
            for row in self._database.rows(query, {"name": certificate})
        ]

    def keep(self, change: TlsaChange) -> None:
        """Write one down, in the place of one for the same certificate and place."""
        with self._database.writing():
            self._database.upsert(
                "tlsa_change",
                {"certificate": change.certificate, "place": change.place},
                edition=change.edition,
                value=change.value,
                before="\n".join(change.before),
                ttl=change.ttl,
                seen=from_moment(change.seen) if change.seen is not None else 0,
            )

    def forget(self, change: TlsaChange) -> None:
        """Strike one out that is at its end."""
        with self._database.writing():
            self._database.execute(
                "DELETE FROM tlsa_change WHERE certificate = :certificate AND place = :place",
                {"certificate": change.certificate, "place": change.place},
            )
