"""The ledger's pages on files that were put into document roots, so that just these are removed again."""

from collections.abc import Iterable, Sequence

import msgspec

from inkstamp.ledger.interface import Database, Here
from inkstamp.ledger.records import ProofRecord, heirs
from inkstamp.ledger.rows import as_list, as_path, as_stored, numbers, strings, telling_damage


@telling_damage
class FileProofs:
    """The files of all orders."""

    def __init__(self, database: Database, here: Here) -> None:
        self._database = database
        self._here = here

    def plan(self, proofs: Iterable[ProofRecord]) -> list[ProofRecord]:
        """Record proofs before they are put up; their ids are given here."""
        with self._database.writing():
            return [
                msgspec.structs.replace(
                    each,
                    id=self._database.insert_numbered(
                        "proof",
                        order_id=each.order_id,
                        server=each.server,
                        root=as_stored(each.root),
                        parts=as_list(each.parts),
                        made=as_list(each.made),
                        machine=self._here.owner([each.server]),
                    ),
                )
                for each in proofs
            ]

    def of(self, order_id: int | None = None) -> list[ProofRecord]:
        """Return the proofs that may stand somewhere, of one order or of all; not those on other machines."""
        where = "" if order_id is None else " AND order_id = :id"
        rows = self._database.rows(
            f"SELECT * FROM proof WHERE machine IN ('', :machine){where} ORDER BY id",  # noqa: S608
            {"id": order_id, "machine": self._here.machine},
        )
        return [
            ProofRecord(
                id=row["id"],
                order_id=row["order_id"],
                server=row["server"],
                root=as_path(row["root"]),
                parts=strings.decode(row["parts"]),
                made=numbers.decode(row["made"]),
            )
            for row in rows
        ]

    def forget(self, proofs: Sequence[ProofRecord]) -> None:
        """Strike out proofs that were taken down.

        Folders that were made for one of them, and in which another proof stands still, are from now on that one's to
        remove.
        """
        if not proofs:
            return
        ended = {each.id for each in proofs}
        with self._database.writing():
            known = self.of()
            for number in ended:
                self._database.execute("DELETE FROM proof WHERE id = :id", {"id": number})
            gone = [each for each in known if each.id in ended]
            for number, made in heirs(gone, [each for each in known if each.id not in ended]).items():
                self._database.execute(
                    "UPDATE proof SET made = :made WHERE id = :id", {"id": number, "made": as_list(made)}
                )
