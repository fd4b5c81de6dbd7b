"""Take in what a CA issued: judge it, put it on the shelf, end its order."""

from collections.abc import Sequence
from datetime import datetime

from cryptography import x509
from msgspec import Struct

from inkstamp.clock import stamp
from inkstamp.config.model import Certificate
from inkstamp.errors import EditionUnfit
from inkstamp.findings import Finding
from inkstamp.jobs.issuance.context import IssuanceContext
from inkstamp.jobs.issuance.renewal_plan import renewal_moment
from inkstamp.ledger.brought_csr import brought_since, forget_brought
from inkstamp.ledger.order_files import OrderKey, request_of
from inkstamp.ledger.records import EditionRecord, OrderRecord
from inkstamp.ledger.shelf import EditionFiles
from inkstamp.pki import csr, keys
from inkstamp.pki.certificates import facts, short_name, to_pem
from inkstamp.pki.chain import Path, judge_edition
from inkstamp.severity import Severity


class Chain(Struct, frozen=True):
    """A leaf, what came with it, and the paths that it makes to trusted roots, the chosen one first."""

    leaf: x509.Certificate
    pool: tuple[x509.Certificate, ...]
    paths: tuple[Path, ...]


def judge(context: IssuanceContext, order: OrderRecord, key: OrderKey, chain: Chain) -> list[Finding]:
    """Judge whether a chain may be served as what `order` asked for; see `judge_edition`."""
    return judge_edition(
        chain.leaf,
        chain.pool,
        public_key=key.public,
        names=order.names,
        paths=chain.paths,
        moment=context.clock.now(),
    )


def shelve(
    context: IssuanceContext,
    order: OrderRecord,
    key: OrderKey,
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
    files = EditionFiles(
        keys.to_pem(key.private) if key.private is not None else None,
        to_pem(chain.leaf),
        [to_pem(each) for each in path.issuers],
        csr.to_pem(key.request) if key.request else None,
        request_of(context.home, order) if key.private is not None else None,
    )
    context.shelf.put(order.certificate, order.edition, files)
    edition = record_of(
        order.certificate, order.edition, order.authority, chain.leaf, short_name(path.root.subject), ends=path.ends
    )
    until = stamp(edition.not_after)
    text = f"edition {edition.number} by “{edition.issuer}” under “{edition.root}”, valid until {until}"
    entry = context.certificates.get(order.certificate)
    context.ledger.add_edition(
        order,
        edition,
        text,
        in_steps=_comes_in_steps(context, entry, edition),
        renewal=renewal_moment(context, entry, edition),
    )
    if key.request and brought_since(context.home, context.shelf, order.certificate, edition.number) is None:
        forget_brought(
            context.home, context.store, order.certificate
        )  # another one may have been brought while this was ordered
    if key.private is not None:
        context.order_keys.forget(order.certificate, key.private)
    return edition


def _comes_in_steps(context: IssuanceContext, entry: Certificate | None, edition: EditionRecord) -> bool:
    """Tell whether machines are given an edition in steps: not where the one before it does no good any more."""
    if entry is None or not entry.rollout:
        return False
    before = context.ledger.newest_edition(edition.certificate)
    if before is None or before.not_after <= context.clock.now():
        return False
    return context.ledger.revocations.of(before.certificate, before.number) is None


def record_of(
    certificate: str,
    number: int,
    authority: str,
    leaf: x509.Certificate,
    root: str,
    *,
    ends: datetime | None = None,
) -> EditionRecord:
    """Return an edition as the ledger records it, by what stands in its certificate.

    It is valid until its chain `ends`, where that is earlier: private CAs issue for longer than their own certificate.
    """
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
        not_after=min(known.not_after, ends) if ends is not None else known.not_after,
        authority=authority,
        key=known.key,
    )
