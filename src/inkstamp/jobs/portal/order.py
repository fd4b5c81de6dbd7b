"""An order at a CA's portal: opened here, pasted there by a person, and gone on with for days.

What must survive a kill is in the ledger and in HOME before it is shown:

    1. intended    the ledger reserves the edition's number; the key is written, then the request
    2. waiting     the request may be pasted; proofs are told, put up and looked at as often as is liked
    3. issued      `collect` has put the edition on the shelf
"""

from collections.abc import Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from msgspec import Struct

from inkstamp.config.model import Certificate
from inkstamp.config.templates import placeholders
from inkstamp.errors import StillWaiting, UsageError
from inkstamp.files import read_bytes, write_bytes
from inkstamp.findings import Finding
from inkstamp.jobs.issuance.csr_elsewhere import csr_for_order, is_compromised
from inkstamp.jobs.issuance.kept_key import keep_key
from inkstamp.jobs.orders.cancellation import drop, expect_same
from inkstamp.jobs.portal.context import PortalContext
from inkstamp.jobs.status.portal_stall import stall_of
from inkstamp.jobs.status.stall import Stall
from inkstamp.ledger.order_files import brought_for
from inkstamp.ledger.records import OrderRecord, OrderState, PortalProof
from inkstamp.pki import csr
from inkstamp.pki.keys import PrivateKey
from inkstamp.pki.subject import Subject
from inkstamp.policy.validity_limits import longest_until, validation_ends
from inkstamp.proof.portal_validation import by_rule, has_rule
from inkstamp.severity import Severity

if TYPE_CHECKING:
    from inkstamp.ledger.store import Ledger


class PortalOrder(Struct, frozen=True, kw_only=True):
    """An order at a portal, and what a person needs to go on with it."""

    certificate: str
    order: OrderRecord
    opened: bool
    """Whether it is new in this run."""
    page: str
    """URL of the portal; empty when the configuration does not say."""
    request: str
    """The PEM block to paste."""
    request_file: str
    """Where it stands, too."""
    facts: csr.RequestFacts
    key_elsewhere: bool
    """Whether another machine has the key."""
    proofs: tuple[PortalProof, ...]
    stall: Stall
    valid_until: datetime | None
    """When a certificate of a public CA that is issued today expires at the latest; aware, UTC."""
    validation_until: datetime
    """Until when a public CA may go by a domain control validation of today; aware, UTC."""


def open_order(context: PortalContext, name: str, entry: Certificate) -> PortalOrder:
    """Open an order at a portal, or go on with the open one; the caller holds the certificate.

    Raises:
        UsageError: The request has a fault that any CA would refuse it for, or the open order is for something else.

    """
    ledger = context.ledger
    record = ledger.open_order(name)
    brought = csr_for_order(context, name, entry)
    if record is not None and not _may_go_on(record, entry):
        drop(context, record, "the configuration has changed since")
        record = None
    if record is not None:
        expect_same(context.configuration.path, record, entry)
        expect_same_csr(context, record, brought)
    wanted = csr.for_names(entry.names, _subject(context, entry))
    if record is None and not brought:
        _expect_no_faults(context, wanted)
    again = _to_use_again(context, name, entry) if record is None or record.state is OrderState.INTENDED else None
    opened = record is None
    record = record or ledger.intend_order(name, entry.authority, entry.names)
    if again is not None:
        context.order_keys.take(record, *again)
    elif not brought:
        keep_key(context, record, entry)
    key = context.order_keys.have(record, entry.key, brought)
    request = context.home.order(record.id) / "request.pem"
    if not request.exists():
        # ECDSA signatures differ each time, and the digests that portals name proofs by with them: made once.
        der = csr.make(key.private, wanted) if key.private is not None else key.request
        write_bytes(request, csr.to_pem(der))
    if record.state is OrderState.INTENDED:
        record = ledger.move_order(
            record, OrderState.WAITING, "order opened", f"order {record.id} for the portal of {record.authority}"
        )
    return show_order(context, record, opened=opened)


def _to_use_again(context: PortalContext, name: str, entry: Certificate) -> tuple[PrivateKey, bytes] | None:
    """Return key and CSR of the edition before, as PEM, where `same_request` wants them; None for new ones.

    Raises:
        UsageError: The CSR is for other names than the configured ones, or others may know the key.

    """
    edition = context.ledger.newest_edition(name)
    if not entry.same_request or entry.key_elsewhere or edition is None:
        return None
    advice = f"have new ones made: inkstamp certificate change {name} same_request=false, then: inkstamp order {name}"
    if is_compromised(context, name, edition.number):
        raise UsageError(
            f"edition {edition.number} of “{name}” was revoked since others may know its key, and `same_request` uses "
            "that key again",
            where=str(context.configuration.path),
            advice=advice,
        )
    request, wanted = context.shelf.request(edition), csr.for_names(entry.names, _subject(context, entry))
    private = context.shelf.key(edition.certificate, edition.number)
    if request is None:
        return private, csr.to_pem(csr.make(private, wanted))
    where = f"the CSR of edition {edition.number}"
    names = csr.names_of(csr.facts(csr.read(request, where), where, private=True))
    if set(names) != set(entry.names):
        raise UsageError(
            f"the CSR of edition {edition.number}, which `same_request` uses again, is for {', '.join(names)}",
            where=str(context.configuration.path),
            advice=advice,
        )
    return private, request


def expect_same_csr(context: PortalContext, record: OrderRecord, brought: bytes) -> None:
    """Raise UsageError for another CSR while an order waits at a portal, which may have the first one."""
    present = brought_for(context.home, record)
    if record.state is not OrderState.WAITING or (present or b"") == brought:
        return
    raise UsageError(
        f"order {record.id} waits at the portal of {record.authority} with another CSR",
        where=str(context.home.order(record.id)),
        advice=f"go on with that one, or end the order: inkstamp order {record.certificate} --cancel",
    )


def _may_go_on(record: OrderRecord, entry: Certificate) -> bool:
    """Tell whether an open order is one of a portal's; one that nobody was shown yet must be for the same, too."""
    if record.state is OrderState.INTENDED:
        return record.names == entry.names and record.authority == entry.authority
    return record.state is OrderState.WAITING


def show_order(context: PortalContext, record: OrderRecord, *, opened: bool = False) -> PortalOrder:
    """Gather what is known of an order that waits at a portal."""
    context.store.bring_order(record.certificate, record.id)
    file = context.home.order(record.id) / "request.pem"
    data = read_bytes(file)
    facts = csr.facts(csr.read(data, str(file)), str(file), private=context.view.is_private)
    proofs, now = tuple(context.ledger.portal.of(record.id)), context.clock.now()
    authority = context.config.authority.get(record.authority)
    return PortalOrder(
        certificate=record.certificate,
        order=record,
        opened=opened,
        page=authority.page if authority else "",
        request=data.decode("ascii"),
        request_file=str(file),
        facts=facts,
        key_elsewhere=brought_for(context.home, record) is not None,
        proofs=proofs,
        valid_until=longest_until(now),
        validation_until=validation_ends(now),
        stall=stall_of(
            record,
            proofs,
            context.ledger.portal.wait_of(record.id),
            context.certificates.get(record.certificate),
            authority,
        ),
    )


def waiting_order(ledger: "Ledger", name: str) -> OrderRecord:
    """Return the order that waits at a portal; UsageError when there is none."""
    record = ledger.open_order(name)
    if record is None or record.state is not OrderState.WAITING:
        raise UsageError(
            f"no order for “{name}” waits at a portal",
            advice=f"open one: inkstamp order {name}; or see: inkstamp why {name}",
        )
    return record


def wait_for_person(context: PortalContext, name: str, entry: Certificate) -> StillWaiting:
    """Open the order or find it open, and return the error that says who has to act."""
    shown = open_order(context, name, entry)
    stall = shown.stall
    return StillWaiting(
        f"order {shown.order.id} for “{name}” waits for {stall.who} at the portal of {shown.order.authority}",
        where=shown.page,
        said=stall.step,
        advice=f"`inkstamp order {name}` shows the CSR, `inkstamp why {name}` all else; then {stall.next_command}",
    )


def rule_proofs(
    context: PortalContext, record: OrderRecord, entry: Certificate, facts: csr.RequestFacts, token: str
) -> list[PortalProof]:
    """Return what the portal's rule says for each name; empty when it has none that fits."""
    authority = context.config.authority[record.authority]
    if not has_rule(entry, authority, token=bool(token)):
        return []
    told = by_rule(
        entry,
        authority,
        record.names,
        lambda name: placeholders(name, facts.md5, facts.sha1, facts.sha256, token),
    )
    now = context.clock.now()
    return [
        PortalProof(
            order_id=record.id, name=each.name, method=each.method, place=each.place, content=each.content, told=now
        )
        for each in told
    ]


def _subject(context: PortalContext, entry: Certificate) -> Subject:
    return entry.subject or context.config.subject


def _expect_no_faults(context: PortalContext, wanted: csr.Wanted) -> None:
    findings: Sequence[Finding] = csr.examine(wanted, private=context.view.is_private)
    if any(each.severity is Severity.BAD for each in findings):
        raise UsageError(
            "the CA would reject this CSR",
            where=str(context.configuration.path),
            findings=[each for each in findings if each.severity in {Severity.BAD, Severity.WARN}],
            advice="correct the names or the subject there",
        )
