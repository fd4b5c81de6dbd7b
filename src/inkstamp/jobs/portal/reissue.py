"""A further delivery for the CSR of the present edition: issued again by the CA, or with another chain."""

from collections.abc import Sequence
from contextlib import suppress

from cryptography import x509
from msgspec import Struct

from inkstamp.config.carrying import is_portal
from inkstamp.errors import EditionUnfit, FileTrouble, UsageError
from inkstamp.files import private_folder, read_bytes, write_bytes
from inkstamp.jobs.issuance.csr_elsewhere import is_compromised
from inkstamp.jobs.portal.context import PortalContext
from inkstamp.ledger.order_files import OrderKey
from inkstamp.ledger.records import EditionRecord, OrderRecord, OrderState
from inkstamp.pki import csr
from inkstamp.pki.bundles import Haul
from inkstamp.pki.certificates import public_key_of, subject_names
from inkstamp.pki.chain import Path, Pool, find_paths, is_root, is_self_signed, same_key

NOT_OPENED = 0
"""The number of the order of a delivery that is only looked at."""


class Redelivery(Struct, frozen=True):
    """A certificate for the key of the present edition."""

    edition: EditionRecord
    leaf: x509.Certificate
    where: str


def may_be_delivered_again(context: PortalContext, edition: EditionRecord) -> bool:
    """Tell whether its CA may deliver for an edition once more: it is the newest, of a portal, and on the shelf."""
    name = edition.certificate
    if context.ledger.newest_edition(name) != edition or name not in context.certificates:
        return False
    return is_portal(context.config, context.certificates.entry(name)) and edition.number in context.shelf.numbers(name)


def find_redelivery(context: PortalContext, certificate: str, haul: Haul) -> Redelivery | None:
    """Find a certificate that has the key of the newest edition of a configured certificate; the newest one of several.

    Args:
        context: The parts of the run.
        certificate: Whose edition it is to be; empty for any that shares a name with what was delivered.
        haul: What was delivered.

    """
    leaves = [each for each in haul.found if not is_self_signed(each.certificate)]
    names = {name for each in leaves for name in subject_names(each.certificate)}
    newest = context.ledger.newest_editions([certificate] if certificate else None)
    found = []
    for edition in newest.values():
        if not (certificate or names & set(edition.names)) or not may_be_delivered_again(context, edition):
            continue
        with suppress(EditionUnfit, FileTrouble):  # of another certificate, perhaps, which must not be in the way
            present = public_key_of(context.shelf.chain(edition)[0])
            found += [
                Redelivery(edition, each.certificate, each.where)
                for each in leaves
                if same_key(each.certificate, present)
            ]
    return max(found, key=lambda each: each.leaf.not_valid_before_utc, default=None)


def expect_no_other_order(context: PortalContext, edition: EditionRecord) -> OrderRecord | None:
    """Return the order that a run which was killed began for a redelivery; None where none is open.

    Raises:
        UsageError: An order for a newer edition waits, whose number would be the lower one.

    """
    name = edition.certificate
    record = context.ledger.open_order(name)
    if record is None or record.state is OrderState.INTENDED:
        return record
    raise UsageError(
        f"this is for the CSR of edition {edition.number} of “{name}”, and order {record.id} waits with a newer one",
        where=f"order {record.id}",
        advice=f"collect that one; or end it first: inkstamp order {name} --cancel",
    )


def order_of_redelivery(
    context: PortalContext, edition: EditionRecord, *, preview: bool
) -> tuple[OrderRecord, OrderKey]:
    """Open the order that takes a redelivery in as the next edition, with the present key; nothing in a preview.

    The caller holds the certificate.
    """
    name = edition.certificate
    begun = expect_no_other_order(context, edition)
    if is_compromised(context, name, edition.number):
        raise UsageError(
            f"edition {edition.number} of “{name}” was revoked since others may know its key, and this has the same",
            advice=f"have one issued for another key: inkstamp order {name} --reissue",
        )
    names = context.certificates.entry(name).names
    key = _key_of(context, edition)
    if preview:
        now = context.clock.now()
        record = OrderRecord(
            id=NOT_OPENED,
            certificate=name,
            authority=edition.authority,
            names=names,
            state=OrderState.WAITING,
            url="",
            edition=context.ledger.next_edition(name),
            opened=now,
            changed=now,
        )
        return record, key
    record = begun or context.ledger.intend_order(name, edition.authority, names)
    request = _request_of(context, edition, key, names)
    if key.private is not None:
        context.order_keys.take(record, key.private, request)
    else:
        folder = private_folder(context.home.order(record.id))
        write_bytes(folder / "brought.pem", csr.to_pem(key.request))
        write_bytes(folder / "request.pem", request)
    text = f"order {record.id}: the CA issued again for the CSR of edition {edition.number}"
    record = context.ledger.move_order(record, OrderState.WAITING, "order opened", text)
    return record, context.order_keys.read(record)


def _key_of(context: PortalContext, edition: EditionRecord) -> OrderKey:
    if context.shelf.has_key(edition.certificate, edition.number):
        private = context.shelf.key(edition.certificate, edition.number)
        return OrderKey(private.public_key(), private)
    folder = context.shelf.edition(edition.certificate, edition.number)
    request = folder / "brought.pem"
    der = csr.read(read_bytes(request), str(request))
    return OrderKey(csr.public_key(der, str(request)), None, der)


def _request_of(context: PortalContext, edition: EditionRecord, key: OrderKey, names: Sequence[str]) -> bytes:
    """Return the CSR that an edition was issued for, as PEM; one like it where it was not kept."""
    kept = context.shelf.request(edition)
    if kept is not None:
        return kept
    entry = context.certificates.entry(edition.certificate)
    return csr.to_pem(
        csr.make(key.private, csr.for_names(names, entry.subject or context.config.subject))
        if key.private is not None
        else key.request
    )


def is_better(context: PortalContext, edition: EditionRecord, offered: Path, wanted: str) -> bool:
    """Tell whether a path is better than the chain that the edition of the same certificate has.

    It is when it leads to the root that is `wanted` and the present one does not, when the present one leads to no
    trusted root (any more), or when it lasts longer.
    """
    present = context.shelf.chain(edition)
    if offered.issuers == present[1:]:
        return False
    pool = Pool(present[1:], context.trust.of(edition.authority))
    ways = [each for each in find_paths(present[0], pool, (), context.clock.now()) if each.issuers == present[1:]]
    if not ways:
        return True
    if wanted:
        return is_root(offered.root, wanted) and not any(is_root(each.root, wanted) for each in ways)
    end = present[0].not_valid_after_utc
    return min(offered.ends, end) > max(min(each.ends, end) for each in ways)
