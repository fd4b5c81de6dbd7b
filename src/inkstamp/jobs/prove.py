"""Put up proofs, look at them as the CA will, take them down."""

from collections.abc import Sequence
from typing import TYPE_CHECKING

import msgspec

from inkstamp.errors import ProofFailed
from inkstamp.findings import Finding, Severity, bad, worst
from inkstamp.ledger.records import OrderRecord, ProofRecord
from inkstamp.proof.seeing import look_at
from inkstamp.proof.web_file import FileProof
from inkstamp.view.addresses import address_book

if TYPE_CHECKING:
    from inkstamp.jobs.workplace import Workplace

_LOOKS = 3
"""A web server that was reloaded a moment ago, or a shared folder, may need a second to show a new file."""
_PAUSE = 0.7
_ENOUGH = 3.0
"""Seconds; looks that took this long met silence, and more of it would tell nothing new."""
_TRIAL_PARTS = (".well-known", "acme-challenge", "trial")


def check_ways(workplace: "Workplace", via: str, names: Sequence[str]) -> None:
    """Make sure, before a CA is asked for anything, that each name has an address and a place for its proof.

    Raises:
        ProofFailed: A name has no address; all such names are told at once.
        ServerTrouble: No virtual host answers for a name.
        FileTrouble: A document root is missing, or cannot or must not be written to.

    """
    server = workplace.server(via)
    for name in names:
        for root in server.document_roots(name, _TRIAL_PARTS):
            server.host.check_root(root, _TRIAL_PARTS)
    book = address_book(workplace.view)
    lost = [
        bad("address", name, found.trouble, f"make an A or AAAA record for {name} that leads to this server")
        for name in names
        if not (found := book.look_up(name)).all
    ]
    if lost:
        raise ProofFailed(
            f"the CA would not find {_first_and_count([each.subject for each in lost])}",
            findings=lost,
            advice="make the records, then run the same command again",
        )


def put_up(workplace: "Workplace", order_id: int, via: str, proofs: Sequence[FileProof]) -> None:
    """Write the proofs into the document roots; each is in the ledger before it is on the disk."""
    server = workplace.server(via)
    host = server.host
    places = [(proof, root) for proof in proofs for root in server.document_roots(proof.name, proof.parts)]
    records = workplace.ledger.plan_proofs(
        [
            ProofRecord(
                order_id=order_id,
                server=via,
                root=root,
                parts=proof.parts,
                made=host.missing_folders(root, proof.parts),
            )
            for proof, root in places
        ]
    )
    extra = []
    for (proof, root), record in zip(places, records, strict=True):
        planted = host.plant(root, proof.parts, proof.content)
        if set(planted.made) - set(record.made):  # another run's folders were cleared away in between
            extra.append(msgspec.structs.replace(record, made=planted.made))
    if extra:
        workplace.ledger.plan_proofs(extra)


def see(workplace: "Workplace", order: OrderRecord, via: str, proofs: Sequence[FileProof]) -> list[Finding]:
    """Look at each proof from outside.

    Raises:
        ProofFailed: One cannot be seen somewhere; the findings say where, and the CA must not be asked.

    """
    server = workplace.server(via)
    seen: dict[FileProof, list[Finding]] = {}
    unseen = list(proofs)
    began = workplace.clock.monotonic()
    for look in range(_LOOKS):
        if look:
            workplace.clock.sleep(_PAUSE)
        seen |= {proof: look_at(proof, workplace.view, server.answers_at) for proof in unseen}
        unseen = [proof for proof in unseen if worst(seen[proof]) is Severity.BAD]
        if not unseen or workplace.clock.monotonic() - began > _ENOUGH:
            break
    findings = [finding for proof in proofs for finding in seen[proof]]
    lost = [finding for finding in findings if finding.severity is Severity.BAD]
    if lost:
        names = list(dict.fromkeys(finding.subject.partition(" ")[0] for finding in lost))
        raise ProofFailed(
            f"the proof for {_first_and_count(names)} cannot be seen from outside; the CA was not asked",
            findings=findings,
            advice=f"mend that, then run `inkstamp stamp {order.certificate}`; it goes on with this order",
        )
    return findings


def take_down(workplace: "Workplace", order: OrderRecord) -> None:
    """Remove all proofs of an order and the folders made for them, those of killed runs included."""
    take_down_of(workplace, order.id)


def take_down_of(workplace: "Workplace", order_id: int) -> None:
    """Remove all proofs of the order with that id."""
    records = workplace.ledger.proofs(order_id)
    for record in reversed(records):
        workplace.host(record.server).uproot(record.root, record.parts, record.made)
    workplace.ledger.forget_proofs(records)
    if workplace.ledger.dns.of(order_id):
        from inkstamp.jobs import prove_dns

        prove_dns.take_down_of(workplace, order_id)


def _first_and_count(names: Sequence[str]) -> str:
    return names[0] if len(names) == 1 else f"{names[0]} and {len(names) - 1} more"
