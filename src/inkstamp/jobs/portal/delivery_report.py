"""What was delivered, told: each certificate and its use, the ways to roots, and what else a person should know."""

import shlex
from collections.abc import Sequence
from contextlib import suppress

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from msgspec import Struct, field

from inkstamp.clock import stamp
from inkstamp.config.model import Authority, Certificate
from inkstamp.errors import NameTrouble
from inkstamp.findings import Finding, note, ok, warn
from inkstamp.jobs.status.portal_stall import level_of
from inkstamp.ledger.order_files import OrderKey
from inkstamp.ledger.records import EditionRecord, OrderRecord
from inkstamp.pki.bundles import Haul
from inkstamp.pki.certificates import Facts, facts, short_name, subject_names
from inkstamp.pki.chain import Path, arrange, is_self_signed
from inkstamp.pki.kinds import ValidationLevel
from inkstamp.pki.names import identifiers, uncovered
from inkstamp.pki.validation_level import validation_level
from inkstamp.policy.validity_limits import longest_until


class Piece(Struct, frozen=True, kw_only=True):
    """One certificate that was found, and what became of it."""

    where: str
    about: Facts
    use: str
    """`leaf`, `intermediate`, `root` (not served), `other path`, `unrelated`, `duplicate`."""


class Way(Struct, frozen=True, kw_only=True):
    """One path to a root."""

    subjects: tuple[str, ...]
    """Leaf first, root last."""
    root_sha256: str
    ends: str
    """RFC 3339: when the first of its certificates expires."""
    chosen: bool


class Delivered(Struct):
    """The order and the leaf that belong together, and all that came with them."""

    order: OrderRecord
    key: OrderKey
    leaf: x509.Certificate
    where: str
    paths: list[Path] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)
    again: EditionRecord | None = None
    """The edition whose CSR it was issued for, where it is no order's that waits."""


def pieces_of(choice: Delivered, haul: Haul) -> tuple[Piece, ...]:
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


def ways_of(paths: Sequence[Path]) -> tuple[Way, ...]:
    """Tell of each path to a root, the chosen one first."""
    return tuple(
        Way(
            subjects=tuple(short_name(each.subject) for each in path.certificates),
            root_sha256=path.root.fingerprint(hashes.SHA256()).hex(),
            ends=stamp(path.ends),
            chosen=number == 0,
        )
        for number, path in enumerate(paths)
    )


def remarks_on(choice: Delivered, haul: Haul, configured: tuple[Certificate, Authority | None]) -> list[Finding]:
    """Say what else a person should know of a delivery, by its certificate's entry and its authority's."""
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
    findings += [*_on_names(choice, configured[0]), *_on_level(choice, level_of(*configured)), *_on_dates(choice)]
    if choice.paths and choice.paths[0].ends < choice.leaf.not_valid_after_utc:
        findings.append(
            warn(
                "chain",
                subject,
                f"an intermediate expires on {stamp(choice.paths[0].ends)}, before the certificate does",
            )
        )
    return findings


def _on_names(choice: Delivered, entry: Certificate) -> list[Finding]:
    """Compare the names with those that were ordered and are configured."""
    name, there = choice.order.certificate, subject_names(choice.leaf)
    findings = []
    more = [each for each in there if each not in entry.names and each not in choice.order.names]
    if more:
        keep = ""
        with suppress(NameTrouble):  # what a CA writes is for no shell
            names = _as_setting((*entry.names, *identifiers(more)))
            keep = f"to order them from now on: inkstamp certificate change {name} {names}"
        findings.append(note("names", name, f"the CA added {', '.join(more)}", keep))
    lacking = uncovered(there, entry.names)
    if lacking:
        left = [each for each in entry.names if each not in lacking]
        advice = "have it issued again with them"
        if left:
            advice += f", or go without: inkstamp certificate change {name} {_as_setting(left)}"
        findings.append(warn("names", name, f"lacks {', '.join(lacking)}, as configured now", advice))
    return findings


def _as_setting(names: Sequence[str]) -> str:
    """Return names as a setting to be typed."""
    return shlex.quote(f"names={','.join(names)}")


def _on_level(choice: Delivered, ordered: ValidationLevel | None) -> list[Finding]:
    """Compare what the certificate says that the CA vetted with what was ordered."""
    name, level = choice.order.certificate, validation_level(choice.leaf)
    if ordered is None or level == ordered:
        return [ok("level", name, f"{level}")] if level else []
    says = f"says {level}" if level else "does not say what the CA vetted"
    return [warn("level", name, f"the certificate {says}, and {ordered} was ordered", "ask the CA; or correct `level`")]


def _on_dates(choice: Delivered) -> list[Finding]:
    """Tell of a certificate that is valid for longer than public CAs may issue it for."""
    leaf = choice.leaf
    until = longest_until(leaf.not_valid_before_utc)
    if until is None or leaf.not_valid_after_utc <= until:
        return []
    days = (leaf.not_valid_after_utc - leaf.not_valid_before_utc).days
    most = (until - leaf.not_valid_before_utc).days
    told = f"valid for {days} days; browsers take public certificates of its date for {most} days at most"
    return [note("dates", choice.order.certificate, told, "from a private CA that is as it should be")]
