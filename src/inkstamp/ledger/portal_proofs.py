"""The ledger's pages on portal orders: what each portal wants to see, and when it was last seen."""

from collections.abc import Sequence

from inkstamp.clock import Clock
from inkstamp.ledger.interface import Database, Row
from inkstamp.ledger.records import PortalProof, ProofMethod
from inkstamp.ledger.rows import from_moment, telling_damage, to_moment


@telling_damage
class PortalProofs:
    """The proofs that portals asked for, one for each name of an order at most."""

    def __init__(self, database: Database, clock: Clock) -> None:
        self._database = database
        self._clock = clock

    def tell(self, proofs: Sequence[PortalProof]) -> None:
        """Record what portals want to see, in the place of what was wanted for these names before."""
        with self._database.writing():
            for each in proofs:
                self._database.upsert(
                    "portal_proof",
                    {"order_id": each.order_id, "name": each.name},
                    method=each.method.value,
                    place=each.place,
                    content=each.content,
                    told=from_moment(each.told),
                    looked=from_moment(each.looked) if each.looked else None,
                    seen=from_moment(each.seen) if each.seen else None,
                )

    def looked(self, proof: PortalProof, *, seen: bool) -> None:
        """Record that a proof was looked at, and whether it was as it should be."""
        now = from_moment(self._clock.now())
        with self._database.writing():
            self._database.execute(
                "UPDATE portal_proof SET looked = :now, seen = :seen WHERE order_id = :order AND name = :name",
                {"now": now, "seen": now if seen else None, "order": proof.order_id, "name": proof.name},
            )

    def of(self, order_id: int) -> list[PortalProof]:
        """Return the proofs of an order."""
        rows = self._database.rows("SELECT * FROM portal_proof WHERE order_id = :id ORDER BY name", {"id": order_id})
        return [_proof(row) for row in rows]

    def of_open_orders(self) -> dict[int, list[PortalProof]]:
        """Return the proofs of all orders that wait, by order."""
        rows = self._database.rows(
            "SELECT portal_proof.* FROM portal_proof JOIN ca_order ON ca_order.id = portal_proof.order_id"
            " WHERE ca_order.state = 'waiting' ORDER BY name"
        )
        found: dict[int, list[PortalProof]] = {}
        for row in rows:
            found.setdefault(row["order_id"], []).append(_proof(row))
        return found


def _proof(row: Row) -> PortalProof:
    return PortalProof(
        order_id=row["order_id"],
        name=row["name"],
        method=ProofMethod(row["method"]),
        place=row["place"],
        content=row["content"],
        told=to_moment(row["told"]),
        looked=to_moment(row["looked"]) if row["looked"] is not None else None,
        seen=to_moment(row["seen"]) if row["seen"] is not None else None,
    )
