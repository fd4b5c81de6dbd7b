"""Take in what a CA issued: choose the chain, judge it, put it on the shelf."""

from collections.abc import Sequence
from dataclasses import dataclass

from cryptography import x509

from inkstamp.accounts.account import AccountSession
from inkstamp.clock import stamp
from inkstamp.errors import EditionUnfit
from inkstamp.findings import Finding, Severity
from inkstamp.jobs.issuance.context import IssuanceContext
from inkstamp.ledger.records import EditionRecord, OrderRecord
from inkstamp.ledger.shelf import EditionFiles
from inkstamp.pki import keys
from inkstamp.pki.certificates import facts, read_pem, short_name, to_pem
from inkstamp.pki.chain import Path, find_paths, is_root, judge_edition, same_key

_MOST_ALTERNATES = 10


@dataclass(frozen=True, slots=True)
class Chain:
    """A leaf, what came with it, and the paths that it makes to trusted roots, the chosen one first."""

    leaf: x509.Certificate
    pool: tuple[x509.Certificate, ...]
    paths: tuple[Path, ...]


def collect(
    context: IssuanceContext, account: AccountSession, order: OrderRecord, key: keys.PrivateKey, url: str
) -> EditionRecord:
    """Download the chain of an order, verify it and write its edition.

    Raises:
        EditionUnfit: It must not go to a server; the order stays as it is, and the next run looks again.
        FileTrouble: The shelf cannot be written; the next run goes on here.

    """
    chain, path = _choose_chain(context, account, key, url)
    known = Chain(chain[0], tuple(chain[1:]), (path,) if path else ())
    return shelve(context, order, key, known, judge(context, order, key, known), where=url)


def judge(context: IssuanceContext, order: OrderRecord, key: keys.PrivateKey, chain: Chain) -> list[Finding]:
    """Judge whether a chain may be served as what `order` asked for; see `judge_edition`."""
    return judge_edition(
        chain.leaf,
        chain.pool,
        public_key=key.public_key(),
        names=order.names,
        paths=chain.paths,
        moment=context.clock.now(),
    )


def shelve(
    context: IssuanceContext,
    order: OrderRecord,
    key: keys.PrivateKey,
    chain: Chain,
    findings: Sequence[Finding],
    *,
    where: str,
) -> EditionRecord:
    """Write the edition of a chain that was judged, with the first of its paths, and end its order.

    Raises:
        EditionUnfit: It must not go to a server, as `findings` say; `where` is where it came from. Nothing is written.
        FileTrouble: The shelf cannot be written.

    """
    wrong = {finding.topic for finding in findings if finding.severity is Severity.BAD}
    if wrong:
        expired = chain.leaf.not_valid_after_utc < context.clock.now()
        raise EditionUnfit(
            f"the certificate that {order.authority} issued for “{order.certificate}” cannot be used",
            where=where,
            findings=findings,
            advice="nothing was installed; when that is fixed, run the command again",
            lasting=bool(wrong & {"key", "names"}) or ("dates" in wrong and expired),
        )
    path = chain.paths[0]
    files = EditionFiles(keys.to_pem(key), to_pem(chain.leaf), [to_pem(each) for each in path.issuers])
    context.shelf.put(order.certificate, order.edition, files)
    edition = record_of(order.certificate, order.edition, order.authority, chain.leaf, short_name(path.root.subject))
    until = stamp(edition.not_after)
    text = f"edition {edition.number} by “{edition.issuer}” under “{edition.root}”, valid until {until}"
    context.ledger.add_edition(order, edition, text)
    return edition


def record_of(certificate: str, number: int, authority: str, leaf: x509.Certificate, root: str) -> EditionRecord:
    """Return an edition as the ledger records it, by what stands in its certificate."""
    known = facts(leaf)
    return EditionRecord(
        certificate=certificate,
        number=number,
        names=known.names,
        issuer=known.issuer,
        root=root,
        serial=known.serial,
        sha256=known.sha256,
        not_before=known.not_before,
        not_after=known.not_after,
        authority=authority,
        key=known.key,
    )


def _ours_first(chain: list[x509.Certificate], key: keys.PrivateKey) -> list[x509.Certificate]:
    """Return a chain with the certificate of our key in front, where some CA has put another one there."""
    ours = next((each for each in chain if same_key(each, key.public_key())), chain[0])
    return [ours, *(each for each in chain if each is not ours)]


def _choose_chain(
    context: IssuanceContext, account: AccountSession, key: keys.PrivateKey, url: str
) -> tuple[list[x509.Certificate], Path | None]:
    """Download the chain; others that the CA offers only when the first does not lead where it should.

    Returns the chain and its path to a root; None for the path when no chain leads to a known root.
    """
    issued = account.client.certificate(url)
    wanted = account.entry.root
    chains: list[tuple[list[x509.Certificate], Path]] = []
    first: list[x509.Certificate] = []
    for number, each in enumerate((url, *issued.alternates[:_MOST_ALTERNATES])):
        pem = issued.pem if number == 0 else account.client.certificate(each).pem
        chain = _ours_first(read_pem(pem, each), key)
        first = first or chain
        for path in find_paths(chain[0], chain[1:], context.trust.roots_for(chain), context.clock.now()):
            if not wanted or is_root(path.root, wanted):
                return chain, path
            chains.append((chain, path))
    if chains:
        offered = ", ".join(dict.fromkeys(f"“{short_name(path.root.subject)}”" for _, path in chains))
        context.ledger.note("root", f"{account.authority} offers no chain to “{wanted}”, only to {offered}")
        return chains[0]
    return first, None
