"""Take in what a portal handed out: find the leaf, whatever it is called, sort the rest, put it on the shelf."""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path as FilePath

from cryptography import x509
from cryptography.hazmat.primitives import hashes

from inkstamp.clock import stamp
from inkstamp.errors import BundleTrouble, Busy, EditionUnfit, NetworkTrouble, UsageError
from inkstamp.files import remove_tree
from inkstamp.findings import Finding, Severity, note, warn, worst
from inkstamp.jobs.issuance.acceptance import Chain, judge, shelve
from inkstamp.jobs.orders.cancellation import clear_ended
from inkstamp.jobs.portal.context import PortalContext
from inkstamp.jobs.portal.input_files import gather
from inkstamp.jobs.portal.mismatch import explain
from inkstamp.jobs.portal.order import waiting_order
from inkstamp.jobs.validation.web_files import take_down
from inkstamp.ledger.order_files import OrderKey, read_order_key
from inkstamp.ledger.records import EditionRecord, OrderRecord
from inkstamp.pki.aia import issuer_urls
from inkstamp.pki.bundles import Haul, Passphrase, open_into
from inkstamp.pki.certificates import Facts, facts, short_name, subject_names
from inkstamp.pki.chain import Path, Pool, arrange, choose_path, find_paths, is_root, is_self_signed, same_key
from inkstamp.view.fetch import download

_MOST_FETCHES = 4


@dataclass(frozen=True, slots=True, kw_only=True)
class Bring:
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


@dataclass(frozen=True, slots=True, kw_only=True)
class Piece:
    """One certificate that was found, and what became of it."""

    where: str
    about: Facts
    use: str
    """`leaf`, `intermediate`, `root` (not served), `other path`, `unrelated`, `duplicate`."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Way:
    """One path to a root."""

    subjects: tuple[str, ...]
    """Leaf first, root last."""
    root_sha256: str
    ends: str
    """RFC 3339: when the first of its certificates expires."""
    chosen: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Received:
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

    @property
    def sound(self) -> bool:
        """Whether nothing that was found is in the way."""
        return worst(self.findings) is not Severity.BAD


@dataclass
class _Choice:
    """The order and the leaf that belong together, and all that came with them."""

    order: OrderRecord
    key: OrderKey
    leaf: x509.Certificate
    where: str
    paths: list[Path] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)


def receive(context: PortalContext, bring: Bring, passphrase: Passphrase) -> Received:
    """Find what belongs to an open order in the files, verify it, and put it on the shelf.

    Raises:
        BundleTrouble: The files cannot be read, hold too much, or hold no certificate.
        EditionUnfit: No certificate belongs to the order, or it must not be served. Nothing is written then.
        UsageError: No order waits.

    """
    if bring.certificate:
        context.certificates.entry(bring.certificate)
    haul = gather(bring.paths, bring.pasted, passphrase)
    before = _collected_before(context, bring, haul)
    if before is not None:
        with context.locks.certificate(before.certificate):
            clear_ended(context, before.certificate)  # the run that took it in may have been killed
        return before
    configured = context.certificates
    orders = (
        [waiting_order(context.ledger, bring.certificate)]
        if bring.certificate
        else [each for each in context.ledger.waiting_orders() if configured.get(each.certificate) is not None]
    )
    if not orders:
        raise UsageError("no order waits at a portal", advice="open one: inkstamp order NAME")
    choice = _choose(context, orders, haul)
    name = choice.order.certificate
    with context.locks.certificate(name):
        if context.ledger.open_order(name) != choice.order:
            raise Busy(f"another run has changed the order of “{name}” meanwhile", advice="run the command again")
        _find_ways(context, choice, haul, bring)
        chain = Chain(choice.leaf, haul.certificates, tuple(choice.paths))
        judged = [*judge(context, choice.order, choice.key, chain), *choice.findings]
        shown = Received(
            certificate=name,
            order=choice.order.id,
            pieces=_pieces(choice, haul),
            ways=_ways(choice.paths),
            findings=(*judged, *_remarks(choice, haul)),
            edition=None,
        )
        if bring.preview:
            return shown
        edition = shelve(context, choice.order, choice.key, chain, judged, where=choice.where)
        take_down(context, choice.order)
        remove_tree(context.home.order(choice.order.id))
    return replace(shown, edition=edition)


# Finding the leaf


def _collected_before(context: PortalContext, bring: Bring, haul: Haul) -> Received | None:
    """Return the edition that one of the certificates is already, for a command that is repeated."""
    for each in haul.found:
        edition = context.ledger.edition_of(each.certificate.fingerprint(hashes.SHA256()).hex())
        known = edition is not None and edition.certificate in context.certificates
        if edition is not None and known and bring.certificate in {"", edition.certificate}:
            if context.ledger.open_order(edition.certificate) is not None:
                continue  # a newer one is waited for; _choose says so
            seen = note("edition", edition.certificate, f"edition {edition.number} is this certificate already")
            return Received(
                certificate=edition.certificate,
                order=0,
                pieces=(),
                ways=(),
                findings=(seen,),
                edition=edition,
                already=True,
            )
    return None


def _choose(context: PortalContext, orders: Sequence[OrderRecord], haul: Haul) -> _Choice:
    """Find the certificate that belongs to one of the orders by its key; the newest when there are several."""
    own = {order.id: read_order_key(context.home, order) for order in orders}
    fits = [
        _Choice(order, own[order.id], each.certificate, each.where)
        for each in haul.found
        for order in orders
        if same_key(each.certificate, own[order.id].public) and not is_self_signed(each.certificate)
    ]
    if not fits:
        raise EditionUnfit(
            "no certificate here matches the key of "
            + (f"order {orders[0].id} (“{orders[0].certificate}”)" if len(orders) == 1 else "an order that waits"),
            findings=explain(context, orders, haul),
            advice="download the certificate of this very order; `inkstamp order NAME` shows its CSR",
        )
    chosen = {fit.order.id for fit in fits}
    if len(chosen) > 1:
        names = ", ".join(sorted({fit.order.certificate for fit in fits}))
        raise UsageError(
            f"the files hold the certificates of several orders: {names}",
            advice="name one: inkstamp collect NAME FILE…, then the next",
        )
    return max(fits, key=lambda fit: fit.leaf.not_valid_before_utc)


# Finding the way up


def _find_ways(context: PortalContext, choice: _Choice, haul: Haul, bring: Bring) -> None:
    """Find the paths to trusted roots, with fetched intermediates where they lack and that is allowed."""
    authority = context.config.authority.get(choice.order.authority)
    may_fetch = bring.fetch or (authority is not None and authority.fetch_issuers)
    fetched: set[str] = set()
    while True:
        pool = Pool(haul.certificates, context.trust.roots)
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
    wanted = bring.root or (authority.root if authority else "")
    chosen = choose_path(choice.paths, wanted)
    if chosen is not None:
        choice.paths.remove(chosen)
        choice.paths.insert(0, chosen)
        if wanted and not is_root(chosen.root, wanted):
            choice.findings.append(
                warn("root", wanted, f"no path leads to it; “{short_name(chosen.root.subject)}” is taken", "see `root`")
            )


def _fetch_into(context: PortalContext, choice: _Choice, haul: Haul, url: str) -> None:
    context.progress.step(choice.order.certificate, f"fetching a missing intermediate from {url}")
    try:
        open_into(haul, download(url, context.view), url, lambda _where: None)
    except (NetworkTrouble, BundleTrouble) as error:
        choice.findings.append(
            warn("chain", url, f"{error.what}: {error.said}", "fetch it elsewhere and give the file")
        )


# Telling


def _pieces(choice: _Choice, haul: Haul) -> tuple[Piece, ...]:
    """Say of each certificate what it is used for, in the order of the chain, then strangers."""
    path = choice.paths[0].certificates if choice.paths else (choice.leaf, *arrange(choice.leaf, haul.certificates))
    roots = {each for each in path[1:] if choice.paths and each == path[-1]}
    others = {each for way in choice.paths[1:] for each in way.certificates}
    pieces: list[tuple[int, Piece]] = []
    met: set[x509.Certificate] = set()
    for each in haul.found:
        certificate = each.certificate
        at = path.index(certificate) if certificate in path else len(path)
        if certificate in met:
            use = "duplicate"
        elif certificate == choice.leaf:
            use = "leaf"
        elif certificate in roots or (at == len(path) and is_self_signed(certificate)):
            use = "root"
        else:
            use = "intermediate" if at < len(path) else "other path" if certificate in others else "unrelated"
        met.add(certificate)
        rank = at if use != "duplicate" else len(path) + 1
        pieces.append((rank, Piece(where=each.where, about=facts(certificate), use=use)))
    return tuple(piece for _, piece in sorted(pieces, key=lambda pair: pair[0]))


def _ways(paths: Sequence[Path]) -> tuple[Way, ...]:
    return tuple(
        Way(
            subjects=tuple(short_name(each.subject) for each in path.certificates),
            root_sha256=path.root.fingerprint(hashes.SHA256()).hex(),
            ends=stamp(path.ends),
            chosen=number == 0,
        )
        for number, path in enumerate(paths)
    )


def _remarks(choice: _Choice, haul: Haul) -> list[Finding]:
    subject = choice.order.certificate
    findings = [
        warn(
            "key",
            where,
            "contains a private key, which is not used; whoever sent or stored this file has that key",
            "delete the file afterwards; "
            + ("the key made here never left this machine" if choice.key.private else "the key of the CSR is meant"),
        )
        for where in dict.fromkeys(haul.keys)
    ]
    more = [name for name in subject_names(choice.leaf) if name not in choice.order.names]
    if more:
        findings.append(note("names", subject, f"the CA added {', '.join(more)}"))
    if choice.paths and choice.paths[0].ends < choice.leaf.not_valid_after_utc:
        findings.append(
            warn(
                "chain",
                subject,
                f"an intermediate expires on {stamp(choice.paths[0].ends)}, before the certificate does",
            )
        )
    return findings
