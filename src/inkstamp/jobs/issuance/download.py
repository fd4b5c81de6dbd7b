"""Download what a CA issued for an order (RFC 8555 section 7.4.2), choose the chain, and take it in."""

from cryptography import x509

from inkstamp.accounts.account import AccountSession
from inkstamp.jobs.issuance.acceptance import Chain, judge, shelve
from inkstamp.jobs.issuance.context import IssuanceContext
from inkstamp.ledger.order_files import OrderKey
from inkstamp.ledger.records import EditionRecord, OrderRecord
from inkstamp.pki.certificates import read_pem, short_name
from inkstamp.pki.chain import find_paths, is_root, same_key

_MOST_ALTERNATES = 10


def collect(
    context: IssuanceContext, account: AccountSession, order: OrderRecord, key: OrderKey, url: str
) -> EditionRecord:
    """Download the chain of an order, verify it and write its edition.

    Raises:
        EditionUnfit: It must not go to a server; the order stays as it is, and the next run looks again.
        FileTrouble: The shelf cannot be written; the next run goes on here.

    """
    chain = _choose_chain(context, account, key, url)
    return shelve(context, order, key, chain, judge(context, order, key, chain), where=url)


def _choose_chain(context: IssuanceContext, account: AccountSession, key: OrderKey, url: str) -> Chain:
    """Download the chain; others that the CA offers only when the first does not lead where it should.

    Returns it with its one path to a root; without a path when no chain leads to a known root.
    """
    issued = account.client.certificate(url)
    wanted = account.entry.root
    chains: list[Chain] = []
    led: list[Chain] = []
    for number, each in enumerate((url, *issued.alternates[:_MOST_ALTERNATES])):
        pem = issued.pem if number == 0 else account.client.certificate(each).pem
        leaf, *pool = _ours_first(read_pem(pem, each), key)
        chains.append(Chain(leaf, tuple(pool), ()))
        roots = context.trust.roots_for([leaf, *pool], account.authority)
        for path in find_paths(leaf, pool, roots, context.clock.now()):
            led.append(Chain(leaf, tuple(pool), (path,)))
            if not wanted or is_root(path.root, wanted):
                return led[-1]
    if led:
        offered = ", ".join(dict.fromkeys(f"“{short_name(each.paths[0].root.subject)}”" for each in led))
        context.ledger.note("root", f"{account.authority} offers no chain to “{wanted}”, only to {offered}")
    return (led or chains)[0]


def _ours_first(chain: list[x509.Certificate], key: OrderKey) -> list[x509.Certificate]:
    """Return a chain with the certificate of our key in front, where some CA has put another one there."""
    ours = next((each for each in chain if same_key(each, key.public)), chain[0])
    return [ours, *(each for each in chain if each is not ours)]
