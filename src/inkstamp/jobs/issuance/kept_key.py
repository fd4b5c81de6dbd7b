"""A key that stays from edition to edition, so that what names it elsewhere (TLSA records) goes on to be right."""

from inkstamp.config.model import Certificate
from inkstamp.jobs.issuance.context import IssuanceContext
from inkstamp.jobs.issuance.csr_elsewhere import is_compromised
from inkstamp.ledger.records import OrderRecord
from inkstamp.pki.certificates import key_kind


def keep_key(context: IssuanceContext, order: OrderRecord, entry: Certificate) -> None:
    """Have an order use the key of the newest edition where `key_stays` is set.

    A new one is made where others may have the key, where it is of another kind than the configured one, and where it
    is not on the shelf any more.
    """
    name = order.certificate
    if not entry.key_stays or (context.home.order(order.id) / "key.pem").exists():
        return
    newest = context.ledger.newest_edition(name)
    if newest is None or context.home.next_key(name).exists() or not context.shelf.has_key(name, newest.number):
        return
    kind = key_kind(context.shelf.chain(newest)[0])
    if kind == entry.key and not is_compromised(context, name, newest.number):
        context.order_keys.keep(name, context.shelf.key(name, newest.number))
