"""The ledger's pages on records that were put into DNS, so that just these are taken out again."""

from collections.abc import Sequence

import msgspec

from inkstamp.ledger.interface import Database, Here
from inkstamp.ledger.records import TRIAL_ORDER
from inkstamp.ledger.rows import telling_damage


class DnsProof(msgspec.Struct, frozen=True, kw_only=True):
    """A record that stands in DNS, or is about to."""

    order_id: int
    carrier: str
    """The nameserver or program that put it there."""
    zone: str
    primary: str
    name: str
    kind: str
    value: str
    id: int = 0
    """Given by the ledger."""


@telling_damage
class DnsProofs:
    """The records of all orders."""

    def __init__(self, database: Database, here: Here) -> None:
        self._database = database
        self._here = here

    def plan(self, proofs: Sequence[DnsProof]) -> None:
        """Record proofs before they are put into DNS."""
        with self._database.writing():
            for each in proofs:
                self._database.insert(
                    "dns_proof",
                    order_id=each.order_id,
                    carrier=each.carrier,
                    zone=each.zone,
                    primary_server=each.primary,
                    name=each.name,
                    kind=each.kind,
                    value=each.value,
                    machine=self._here.machine if each.order_id == TRIAL_ORDER else "",
                )

    def of(self, order_id: int | None = None) -> list[DnsProof]:
        """Return the records that may stand in DNS, of one order or of all; of trials, those of this machine."""
        where = "" if order_id is None else " AND order_id = :id"
        rows = self._database.rows(
            f"SELECT * FROM dns_proof WHERE machine IN ('', :machine){where} ORDER BY id",  # noqa: S608
            {"id": order_id, "machine": self._here.machine},
        )
        return [
            DnsProof(
                id=row["id"],
                order_id=row["order_id"],
                carrier=row["carrier"],
                zone=row["zone"],
                primary=row["primary_server"],
                name=row["name"],
                kind=row["kind"],
                value=row["value"],
            )
            for row in rows
        ]

    def forget(self, proofs: Sequence[DnsProof]) -> None:
        """Strike out records that were taken out of DNS."""
        if proofs:
            with self._database.writing():
                for each in proofs:
                    self._database.execute("DELETE FROM dns_proof WHERE id = :id", {"id": each.id})
