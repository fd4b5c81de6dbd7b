"""Whose certificate it is, when it is not the one that an order waits for."""

from collections.abc import Sequence

from cryptography import x509
from cryptography.hazmat.primitives import hashes

from inkstamp.clock import stamp
from inkstamp.findings import Finding, bad
from inkstamp.jobs.portal.context import PortalContext
from inkstamp.ledger.records import OrderRecord
from inkstamp.pki.bundles import Haul
from inkstamp.pki.certificates import public_key_of, short_name, subject_names
from inkstamp.pki.chain import same_key
from inkstamp.pki.constraints import may_issue
from inkstamp.pki.keys import spki_digest
from inkstamp.pki.names import uncovered
from inkstamp.wording import counted

_MOST_TOLD = 20
NO_KEY = "matches no key here"


def explain(context: PortalContext, orders: Sequence[OrderRecord], haul: Haul) -> list[Finding]:
    """Say of each server certificate whose it is instead."""
    findings = []
    others = {order.id: order for order in context.ledger.waiting_orders()}
    for each in haul.found:
        if may_issue(each.certificate):
            continue
        subject = short_name(each.certificate.subject)
        whose = _whose(context, each.certificate, [o for o in others.values() if o not in orders], orders)
        findings.append(bad("key", f"{subject} ({each.where})", *whose))
    if not findings:
        findings.append(
            bad(
                "key",
                f"{counted(len(haul.found), 'certificate')}",
                "are all CA certificates; the server certificate is missing",
                "download it too",
            )
        )
    return findings[:_MOST_TOLD]


def _whose(
    context: PortalContext, leaf: x509.Certificate, others: Sequence[OrderRecord], orders: Sequence[OrderRecord]
) -> tuple[str, str]:
    sha256 = leaf.fingerprint(hashes.SHA256()).hex()
    edition = context.ledger.edition_of(sha256)
    if edition is not None:
        until = f", valid until {stamp(edition.not_after)}"
        return f"is edition {edition.number} of “{edition.certificate}” already{until}", "download the new one"
    for other in others:
        if same_key(leaf, context.order_keys.read(other).public):
            return (
                f"matches order {other.id} of “{other.certificate}”",
                f"import it there: inkstamp collect {other.certificate} FILE…",
            )
    given_up = context.ledger.portal.given_up_with_key(spki_digest(public_key_of(leaf)))
    if given_up is not None:
        again = f"have it issued again for the CSR that this shows: inkstamp order {given_up.certificate}"
        return (
            f"was issued for the CSR of order {given_up.id} of “{given_up.certificate}”, which was given up on "
            f"{given_up.changed:%Y-%m-%d}; its key is deleted",
            again,
        )
    for order in orders:
        for number in range(order.edition - 1, 0, -1):
            has_key = context.shelf.has_key(order.certificate, number)
            if has_key and same_key(leaf, context.shelf.key(order.certificate, number).public_key()):
                return (
                    f"was issued for the CSR of edition {number}, not for that of order {order.id}",
                    f"paste the present CSR and have it issued: inkstamp order {order.certificate}; or end that order "
                    f"and collect this one: inkstamp order {order.certificate} --cancel",
                )
        if not uncovered(subject_names(leaf), order.names):
            return (
                f"has the names of “{order.certificate}” but not the key of order {order.id}",
                f"have it issued for the CSR that this shows: inkstamp order {order.certificate}",
            )
    return NO_KEY, "it was ordered elsewhere, or for another site"
