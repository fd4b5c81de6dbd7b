"""The ledger's pages on orders that people lead: what has to be seen from outside, and what they wait for."""

import typing
from collections.abc import Sequence
from datetime import datetime

from inkstamp.clock import Clock
from inkstamp.config.words import PortalStep
from inkstamp.ledger.interface import Database, Row
from inkstamp.ledger.records import OrderRecord, PortalProof, PortalWait, ProofMethod
from inkstamp.ledger.rows import as_order, from_moment, telling_damage, to_moment


@telling_damage
class PortalProofs:
    """The proofs that portals ask for, and those that a person makes for ACME CAs: one for each name of an order."""

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
                    approved=from_moment(each.approved) if each.approved else None,
                )

    def looked(self, proof: PortalProof, *, seen: bool) -> None:
        """Record that a proof was looked at, and whether it was as it should be."""
        now = from_moment(self._clock.now())
        with self._database.writing():
            self._database.execute(
                "UPDATE portal_proof SET looked = :now, seen = :seen WHERE order_id = :order AND name = :name",
                {"now": now, "seen": now if seen else None, "order": proof.order_id, "name": proof.name},
            )

    def approve(self, proofs: Sequence[PortalProof], at: datetime) -> None:
        """Record that the e-mails of proofs were answered; one that is answered has been sent, too."""
        with self._database.writing():
            for each in proofs:
                self._database.execute(
                    "UPDATE portal_proof SET approved = :at, seen = coalesce(seen, :at)"
                    " WHERE order_id = :order AND name = :name",
                    {"at": from_moment(at), "order": each.order_id, "name": each.name},
                )

    def wait_for(self, wait: PortalWait) -> None:
        """Record what an order waits for, in the place of what it waited for before."""
        with self._database.writing():
            self._database.upsert(
                "portal_wait",
                {"order_id": wait.order_id},
                step=wait.step,
                since=from_moment(wait.since),
                until=from_moment(wait.until) if wait.until else 0,
            )

    def wait_no_longer(self, order_id: int) -> None:
        """Record that nothing was said of what an order waits for, so that its validation tells."""
        with self._database.writing():
            self._database.execute("DELETE FROM portal_wait WHERE order_id = :order", {"order": order_id})

    def wait_of(self, order_id: int) -> PortalWait | None:
        """Return what an order waits for, as a person said; None when nobody did."""
        row = self._database.row("SELECT * FROM portal_wait WHERE order_id = :order", {"order": order_id})
        return None if row is None else _wait(row)

    def waits_of_open_orders(self) -> dict[int, PortalWait]:
        """Return what the orders that wait at portals wait for, where a person said, by order."""
        rows = self._database.rows(
            "SELECT portal_wait.* FROM portal_wait JOIN ca_order ON ca_order.id = portal_wait.order_id"
            " WHERE ca_order.state = 'waiting'"
        )
        return {row["order_id"]: _wait(row) for row in rows}

    def remember_key(self, order_id: int, digest: str) -> None:
        """Record for which public key an order is (SHA-256 of its SubjectPublicKeyInfo): its files are removed next."""
        with self._database.writing():
            self._database.execute(
                "UPDATE ca_order SET key_sha256 = :digest WHERE id = :order", {"digest": digest, "order": order_id}
            )

    def given_up_with_key(self, digest: str) -> OrderRecord | None:
        """Return the order that was given up and was for a public key; None where there is none."""
        row = self._database.row(
            "SELECT * FROM ca_order WHERE key_sha256 = :digest AND state = 'dropped' ORDER BY id DESC",
            {"digest": digest},
        )
        return None if row is None else as_order(row)

    def given_up(self, certificate: str) -> bool:
        """Tell whether an order of a certificate was given up whose key is remembered."""
        query = "SELECT 1 FROM ca_order WHERE certificate = :name AND state = 'dropped' AND key_sha256 <> ''"
        return self._database.row(query, {"name": certificate}) is not None

    def of(self, order_id: int) -> list[PortalProof]:
        """Return the proofs of an order."""
        rows = self._database.rows("SELECT * FROM portal_proof WHERE order_id = :id ORDER BY name", {"id": order_id})
        return [_proof(row) for row in rows]

    def of_open_orders(self) -> dict[int, list[PortalProof]]:
        """Return the proofs of all orders that are not ended, by order."""
        rows = self._database.rows(
            "SELECT portal_proof.* FROM portal_proof JOIN ca_order ON ca_order.id = portal_proof.order_id"
            " WHERE ca_order.state IN ('waiting', 'opened') ORDER BY name"
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
        approved=to_moment(row["approved"]) if row["approved"] is not None else None,
    )


def _wait(row: Row) -> PortalWait:
    known: tuple[PortalStep, ...] = typing.get_args(PortalStep)
    unknown: PortalStep = "review"  # of a later release
    step = next((each for each in known if each == row["step"]), unknown)
    until = to_moment(row["until"]) if row["until"] else None
    return PortalWait(order_id=row["order_id"], step=step, since=to_moment(row["since"]), until=until)
