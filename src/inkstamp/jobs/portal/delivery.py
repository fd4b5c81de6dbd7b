"""Take in what a portal handed out: find the leaf, whatever it is called, sort the rest, put it on the shelf."""

from collections.abc import Sequence
from enum import StrEnum
from pathlib import Path as FilePath

import msgspec
from cryptography.hazmat.primitives import hashes
from msgspec import Struct
from msgspec.structs import replace

from inkstamp.config.model import Authority, Certificate
from inkstamp.errors import BundleTrouble, Busy, EditionUnfit, NetworkTrouble, UsageError
from inkstamp.files import remove_tree
from inkstamp.findings import Finding, note, warn
from inkstamp.jobs.issuance.acceptance import Chain, judge, shelve
from inkstamp.jobs.orders.cancellation import clear_ended
from inkstamp.jobs.portal.context import PortalContext
from inkstamp.jobs.portal.delivery_report import Delivered, Piece, Way, pieces_of, remarks_on, ways_of
from inkstamp.jobs.portal.input_files import gather
from inkstamp.jobs.portal.mismatch import NO_KEY, explain
from inkstamp.jobs.portal.order import waiting_order
from inkstamp.jobs.portal.reissue import (
    NOT_OPENED,
    Redelivery,
    expect_no_other_order,
    find_redelivery,
    is_better,
    may_be_delivered_again,
    order_of_redelivery,
)
from inkstamp.jobs.validation.web_files import take_down
from inkstamp.ledger.records import EditionRecord, OrderRecord
from inkstamp.pki.aia import issuer_urls
from inkstamp.pki.bundles import Haul, Passphrase, open_into
from inkstamp.pki.certificates import short_name
from inkstamp.pki.chain import Pool, arrange, choose_path, find_paths, is_root, is_self_signed, same_key
from inkstamp.severity import Severity, worst
from inkstamp.view.fetch import download

_MOST_FETCHES = 4


class Bring(Struct, frozen=True, kw_only=True):
    """What the user brings, and how it is to be taken in."""

    certificate: str = ""
    """Whose order it is for; empty to find out by the key."""
    paths: tuple[FilePath, ...] = ()
    pasted: bytes | None = None
    """What stood on standard input."""
    fetch: bool = False
    """Whether missing intermediates may be fetched from where the certificate says."""
    root: str = ""
    """The root to lead to, in the place of the configured one."""
    preview: bool = False


class Use(StrEnum):
    """What a delivery is."""

    ORDER = "order"
    """The certificate of an order that waited."""
    REISSUE = "reissue"
    """One more certificate for the CSR of the present edition."""
    CHAIN = "chain"
    """The certificate of the present edition with another chain."""


class Received(Struct, frozen=True, kw_only=True):
    """What was taken in, or would be."""

    certificate: str
    order: int
    pieces: tuple[Piece, ...]
    ways: tuple[Way, ...]
    findings: tuple[Finding, ...]
    edition: EditionRecord | None
    """None in a preview."""
    already: bool = False
    """Whether this very certificate had been taken in before."""
    use: Use = Use.ORDER
    issued_before: int | None = None
    """The edition that has the same key, where it is no order's that waited."""

    @property
    def sound(self) -> bool:
        """Whether nothing that was found is in the way."""
        return worst(self.findings) is not Severity.BAD


def receive(context: PortalContext, bring: Bring, passphrase: Passphrase) -> Received:
    """Find what belongs to an order in the files, verify it, and put it on the shelf.

    It belongs to an order that waits; or, where none does, to the CSR of the present edition, which the CA issued for
    again, or whose certificate has a better chain now: that is taken in as the next edition, with the same key.

    Raises:
        BundleTrouble: The files cannot be read, hold too much, or hold no certificate.
        EditionUnfit: No certificate belongs to an order, or it must not be served. Nothing is written then.
        UsageError: No order waits, and it is for no edition's CSR.

    """
    if bring.certificate:
        context.certificates.entry(bring.certificate)
    haul = gather(bring.paths, bring.pasted, passphrase)
    known = _collected_before(context, bring, haul)
    if known is not None and not may_be_delivered_again(context, known.edition):
        with context.locks.certificate(known.edition.certificate):
            clear_ended(context, known.edition.certificate)  # the run that took it in may have been killed
        return _already(known.edition)
    found = _as_delivered(context, known) if known is not None else _find_leaf(context, bring, haul)
    name = found.order.certificate
    with context.locks.certificate(name):
        _expect_unchanged(context, found)
        _find_ways(context, found, haul, bring)
        if known is not None and not _has_better_chain(context, known.edition, found, bring):
            clear_ended(context, name)
            return _already(known.edition, found.findings)
        chain = Chain(found.leaf, haul.certificates, tuple(found.paths))
        judged = [*judge(context, _still_wanted(context, found.order), found.key, chain), *found.findings]
        shown = Received(
            certificate=name,
            order=found.order.id,
            pieces=pieces_of(found, haul),
            ways=ways_of(found.paths),
            findings=(*judged, *remarks_on(found, haul, _entry_and_authority(context, found.order))),
            edition=None,
            use=Use.ORDER if found.again is None else Use.CHAIN if known is not None else Use.REISSUE,
            issued_before=found.again.number if found.again is not None else None,
        )
        if bring.preview:
            return shown
        if found.again is not None and shown.sound:
            found.order, found.key = order_of_redelivery(context, found.again, preview=False)
        edition = shelve(context, found.order, found.key, chain, shown.findings, where=found.where)
        take_down(context, found.order)
        remove_tree(context.home.order(found.order.id))
    return replace(shown, edition=edition, order=found.order.id)


def _expect_unchanged(context: PortalContext, found: Delivered) -> None:
    """Raise Busy where another run has changed the order since it was chosen."""
    name = found.order.certificate
    if found.again is not None:
        newest = context.ledger.newest_edition(name)
        changed = newest != found.again
        expect_no_other_order(context, found.again)
    else:
        changed = context.ledger.open_order(name) != found.order
    if changed:
        raise Busy(f"another run has changed the order of “{name}” meanwhile", advice="run the command again")


def _still_wanted(context: PortalContext, order: OrderRecord) -> OrderRecord:
    """Return an order with those of its names that are configured yet: the others may be left out."""
    names = tuple(each for each in order.names if each in context.certificates.entry(order.certificate).names)
    return msgspec.structs.replace(order, names=names) if names else order


def _entry_and_authority(context: PortalContext, order: OrderRecord) -> tuple[Certificate, Authority | None]:
    return context.certificates.entry(order.certificate), context.config.authority.get(order.authority)


# Finding the leaf


def _collected_before(context: PortalContext, bring: Bring, haul: Haul) -> Redelivery | None:
    """Return which edition one of the certificates is already: a command is repeated, or brings another chain."""
    for each in haul.found:
        edition = context.ledger.edition_of(each.certificate.fingerprint(hashes.SHA256()).hex())
        known = edition is not None and edition.certificate in context.certificates
        if edition is None or not known or bring.certificate not in {"", edition.certificate}:
            continue
        if context.ledger.open_order(edition.certificate) is None:  # else a newer one is waited for, and that is told
            return Redelivery(edition, each.certificate, each.where)
    return None


def _as_delivered(context: PortalContext, again: Redelivery) -> Delivered:
    order, key = order_of_redelivery(context, again.edition, preview=True)
    return Delivered(order, key, again.leaf, again.where, again=again.edition)


def _has_better_chain(context: PortalContext, edition: EditionRecord, found: Delivered, bring: Bring) -> bool:
    """Tell whether the newest edition's certificate came with a better chain than it has."""
    return bool(found.paths) and is_better(context, edition, found.paths[0], _wanted_root(context, found, bring))


def _already(edition: EditionRecord, findings: Sequence[Finding] = ()) -> Received:
    """Say that an edition is the certificate that was delivered."""
    seen = note("edition", edition.certificate, f"edition {edition.number} is this certificate already")
    return Received(
        certificate=edition.certificate,
        order=NOT_OPENED,
        pieces=(),
        ways=(),
        findings=(seen, *(each for each in findings if each.topic == "root")),
        edition=edition,
        already=True,
    )


def _find_leaf(context: PortalContext, bring: Bring, haul: Haul) -> Delivered:
    """Find the certificate of an order that waits, or one for the CSR of the present edition."""
    waiting = context.ledger.waiting_orders()
    orders = [
        each
        for each in waiting
        if context.certificates.get(each.certificate) is not None and bring.certificate in {"", each.certificate}
    ]
    own = {order.id: context.order_keys.read(order) for order in orders}
    fits = [
        Delivered(order, own[order.id], each.certificate, each.where)
        for each in haul.found
        for order in orders
        if same_key(each.certificate, own[order.id].public) and not is_self_signed(each.certificate)
    ]
    if fits:
        return _choose(fits)
    again = find_redelivery(context, bring.certificate, haul)
    if again is not None and again.edition.certificate not in {each.certificate for each in waiting}:
        return _as_delivered(context, again)
    if bring.certificate and not orders and not context.ledger.portal.given_up(bring.certificate):
        waiting_order(context.ledger, bring.certificate)
    told = explain(context, orders, haul)
    if not orders and all(each.seen == NO_KEY for each in told):
        raise UsageError("no order waits at a portal", advice="open one: inkstamp order NAME", findings=told)
    raise EditionUnfit(
        "no certificate here matches the key of "
        + (f"order {orders[0].id} (“{orders[0].certificate}”)" if len(orders) == 1 else "an order that waits"),
        findings=told,
        advice="download the certificate of this very order; `inkstamp order NAME` shows its CSR",
    )


def _choose(fits: Sequence[Delivered]) -> Delivered:
    """Choose the newest certificate; UsageError when they belong to several orders."""
    if len({fit.order.id for fit in fits}) > 1:
        names = ", ".join(sorted({fit.order.certificate for fit in fits}))
        raise UsageError(
            f"the files hold the certificates of several orders: {names}",
            advice="name one: inkstamp collect NAME FILE…, then the next",
        )
    return max(fits, key=lambda fit: fit.leaf.not_valid_before_utc)


# Finding the way up


def _find_ways(context: PortalContext, choice: Delivered, haul: Haul, bring: Bring) -> None:
    """Find the paths to trusted roots, with fetched intermediates where they lack and that is allowed."""
    authority = context.config.authority.get(choice.order.authority)
    may_fetch = bring.fetch or (authority is not None and authority.fetch_issuers)
    fetched: set[str] = set()
    while True:
        pool = Pool(haul.certificates, context.trust.of(choice.order.authority))
        choice.paths = find_paths(choice.leaf, pool, (), context.clock.now())
        if choice.paths:
            break
        top = (choice.leaf, *arrange(choice.leaf, pool))[-1]
        urls = [url for url in issuer_urls(top) if url not in fetched]
        if not urls or len(fetched) >= _MOST_FETCHES:
            break
        if not may_fetch:
            choice.findings.append(
                note(
                    "chain",
                    short_name(top.subject),
                    f"intermediate missing; its URL is {urls[0]} (AIA)",
                    "run the command again with --fetch to download it",
                )
            )
            break
        fetched.add(urls[0])
        _fetch_into(context, choice, haul, urls[0])
    wanted = _wanted_root(context, choice, bring)
    chosen = choose_path(choice.paths, wanted)
    if chosen is not None:
        choice.paths.remove(chosen)
        choice.paths.insert(0, chosen)
        if wanted and not is_root(chosen.root, wanted):
            choice.findings.append(
                warn("root", wanted, f"no path leads to it; “{short_name(chosen.root.subject)}” is taken", "see `root`")
            )


def _wanted_root(context: PortalContext, found: Delivered, bring: Bring) -> str:
    """Return the root that the chain should lead to; empty for any."""
    authority = context.config.authority.get(found.order.authority)
    return bring.root or (authority.root if authority else "")


def _fetch_into(context: PortalContext, choice: Delivered, haul: Haul, url: str) -> None:
    context.progress.step(choice.order.certificate, f"fetching a missing intermediate from {url}")
    try:
        open_into(haul, download(url, context.view), url, lambda _where: None)
    except (NetworkTrouble, BundleTrouble) as error:
        choice.findings.append(
            warn("chain", url, f"{error.what}: {error.said}", "fetch it elsewhere and give the file")
        )
