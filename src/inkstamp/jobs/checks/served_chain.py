"""`check`'s look at a chain as served: name, dates, trust, order, and what is missing or does not belong."""

from collections.abc import Callable, Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from cryptography import x509
from msgspec import Struct

from inkstamp.clock import stamp, whole_days
from inkstamp.errors import BundleTrouble, NetworkTrouble
from inkstamp.findings import Finding, bad, note, ok, warn
from inkstamp.pki.aia import issuer_urls
from inkstamp.pki.certificates import short_name, subject_names
from inkstamp.pki.chain import Path, Roots, arrange, find_paths, in_validity, is_self_signed
from inkstamp.pki.names import uncovered
from inkstamp.policy.renewal_time import renewal_moment
from inkstamp.wording import counted

if TYPE_CHECKING:
    from inkstamp.view.point import View

_MOST_FETCHES = 4
Fetch = Callable[[str], Sequence[x509.Certificate]]
"""Returns the certificates at a URL, none where there are none."""
Search = Callable[[Sequence[x509.Certificate]], Sequence[Path]]
"""Returns the paths from a leaf to trusted roots through these certificates."""


def fetcher(view: "View") -> Fetch:
    """Return what fetches issuers' certificates from where others say that they are (AIA)."""

    def fetch(url: str) -> Sequence[x509.Certificate]:
        from inkstamp.pki.bundles import Haul, open_into  # noqa: PLC0415  most chains lack nothing
        from inkstamp.view.fetch import download  # noqa: PLC0415  as above

        haul = Haul()
        try:
            open_into(haul, download(url, view), url, lambda _where: None)
        except (NetworkTrouble, BundleTrouble):
            return ()
        return haul.certificates

    return fetch


class JudgedChain(Struct, frozen=True):
    """A chain as it is served."""

    findings: tuple[Finding, ...]
    root: str
    """The trusted root that it leads to; empty for none."""


def judge_chain(
    name: str, chain: tuple[x509.Certificate, ...], roots: Roots, now: datetime, *, fetch: Fetch | None = None
) -> JudgedChain:
    """Judge a chain as served for `name`.

    Args:
        name: A domain name or an address.
        chain: As served, leaf first.
        roots: What the public trusts.
        now: Aware.
        fetch: Fetches intermediates that are missing; None where nothing may be fetched.

    """
    leaf, again = chain[0], f"inkstamp stamp {name}"
    findings = [_names(name, leaf, again), _dates(name, leaf, now, again)]
    paths = find_paths(leaf, chain[1:], roots, now)
    root = short_name(paths[0].root.subject) if paths else ""
    if paths:
        findings.append(ok("trust", name, f"leads to the trusted root “{root}”"))
    else:
        findings.append(_no_root(name, chain, fetch, lambda pool: find_paths(leaf, pool, roots, now)))
    return JudgedChain((*findings, *_order(name, chain, paths, now, again)), root)


def _names(name: str, leaf: x509.Certificate, again: str) -> Finding:
    if uncovered(subject_names(leaf), [name]):
        covers = ", ".join(subject_names(leaf)[:5]) or "no name at all"
        return bad("name", name, f"hostname mismatch: the certificate is for {covers}", again)
    return ok("name", name, "the certificate covers this name")


def _dates(name: str, leaf: x509.Certificate, now: datetime, again: str) -> Finding:
    until, days = leaf.not_valid_after_utc, whole_days(leaf.not_valid_after_utc, now)
    if now > until:
        return bad("dates", name, f"expired {stamp(until)}, {-days} days ago", again)
    if now < leaf.not_valid_before_utc:
        return bad("dates", name, f"not valid before {stamp(leaf.not_valid_before_utc)}", "check the clocks")
    said = f"valid until {stamp(until)}, {counted(days, 'day')} left"
    if now >= renewal_moment(leaf.not_valid_before_utc, until):
        return warn("dates", name, said, "inkstamp renew")
    return ok("dates", name, said)


class _Found(Struct, frozen=True):
    """What fetching came to."""

    names: tuple[str, ...]
    """Of the certificates that were missing."""
    path: Path | None


def _no_root(name: str, chain: Sequence[x509.Certificate], fetch: Fetch | None, search: Search) -> Finding:
    """Say why a chain leads to no trusted root, and which certificate is missing where that can be known."""
    top = (chain[0], *arrange(chain[0], chain[1:]))[-1]
    whole = f"inkstamp stamp {name}, which installs the certificate with its intermediates"
    if is_self_signed(top):
        return bad("trust", name, f"“{short_name(top.subject)}” is self-signed and not trusted", whole)
    issuer = short_name(top.issuer)
    urls = issuer_urls(top)
    if urls and fetch is not None:
        found = _fetch_missing(chain, fetch, search)
        if found.path is not None:
            told = " and ".join(f"“{each}”" for each in found.names)
            root = short_name(found.path.root.subject)
            seen = f"intermediate missing: {told}; with it the chain leads to the trusted root “{root}”"
            return bad("trust", name, seen, f"serve it after the leaf; or {whole}")
        return bad("trust", name, f"incomplete chain: no path from “{issuer}”, and what {urls[0]} gives does not "
                   "lead to one", whole)  # fmt: skip
    hint = f"; its certificate should be at {urls[0]}, which --fetch-issuers tries" if urls else ""
    return bad(
        "trust",
        name,
        f"incomplete chain: no path from “{issuer}” to a trusted root; an intermediate may be missing{hint}",
        whole,
    )


def _fetch_missing(chain: Sequence[x509.Certificate], fetch: Fetch, search: Search) -> _Found:
    pool = list(chain[1:])
    asked: set[str] = set()
    while len(asked) < _MOST_FETCHES:
        top = (chain[0], *arrange(chain[0], pool))[-1]
        url = next((each for each in issuer_urls(top) if each not in asked), "")
        if not url:
            break
        asked.add(url)
        pool += fetch(url)
        paths = search(pool)
        if paths:
            missing = tuple(short_name(each.subject) for each in paths[0].issuers if each not in chain)
            return _Found(missing, paths[0])
    return _Found((), None)


def _order(
    name: str, chain: tuple[x509.Certificate, ...], paths: Sequence[Path], now: datetime, again: str
) -> list[Finding]:
    """Compare what is served after the leaf with what should be."""
    wanted = arrange(chain[0], chain[1:])
    belongs = {each for path in paths for each in path.certificates} | set(wanted)
    found: list[Finding] = []
    for each in dict.fromkeys(chain[1:]):
        who = f"“{short_name(each.subject)}”"
        if not in_validity(each, now):
            until = stamp(each.not_valid_after_utc)
            seen = f"{who}, which is served too, expires {until}; old clients that know no other path fail"
            found.append(warn("chain", name, seen, f"remove it from the chain, or {again}"))
        elif is_self_signed(each):
            found.append(note("chain", name, f"the root {who} is served too, which is unnecessary"))
        elif each not in belongs:
            found.append(warn("chain", name, f"{who} is served and does not belong to the chain", again))
    if len(set(chain)) < len(chain):
        found.append(warn("chain", name, "a certificate is served twice", again))
    if list(dict.fromkeys(each for each in chain[1:] if each in wanted)) != list(wanted):
        found.append(warn("chain", name, "the intermediates are served in the wrong order", again))
    return found
