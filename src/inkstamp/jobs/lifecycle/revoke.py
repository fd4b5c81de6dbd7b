"""Revoke an edition, or a certificate from elsewhere, at the CA that issued it (RFC 8555 section 7.6)."""

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from cryptography.hazmat.primitives.serialization import Encoding
from msgspec import Struct

from inkstamp.accounts.account import make_session
from inkstamp.acme.client import CaClient
from inkstamp.acme.session import Signer
from inkstamp.errors import CaProblem, UsageError
from inkstamp.files import read_bytes
from inkstamp.jobs.lifecycle.context import LifecycleContext
from inkstamp.jobs.lifecycle.proposal import Plan
from inkstamp.jobs.lifecycle.provisioning import carry_out
from inkstamp.jobs.lifecycle.revocation_reasons import CODES, RevocationReason
from inkstamp.jobs.status.editions import choose_edition
from inkstamp.key_files import read_key
from inkstamp.ledger.observations import Heard
from inkstamp.ledger.records import EditionRecord
from inkstamp.pki.certificates import Facts, facts, read_pem
from inkstamp.pki.chain import same_key
from inkstamp.pki.keys import PrivateKey

if TYPE_CHECKING:
    from inkstamp.jobs.lifecycle.provisioning import Outcome
    from inkstamp.progress import Progress


class Doomed(Struct, frozen=True, kw_only=True):
    """A certificate that is to be revoked, and what that means."""

    facts: Facts
    authority: str
    edition: EditionRecord | None
    """None for a certificate from elsewhere."""
    served_by: tuple[str, ...]
    """Servers that have it by our records."""
    replacement: EditionRecord | None
    """A newer edition that is there already; None where one has to be issued first."""
    der: bytes
    key: PrivateKey | None
    """The certificate's own, where it is to ask; None where our account is."""


class RevocationResult(Struct, frozen=True, kw_only=True):
    """What became of it."""

    doomed: Doomed
    reason: RevocationReason
    already: bool
    """Whether the CA had revoked it before."""
    replaced_by: "Outcome | None"
    """What was issued and installed in its place in this run."""


def plan_revocation(context: LifecycleContext, name: str, number: int | None, *, by_own_key: bool) -> Doomed:
    """Find out what revoking an edition means; changes nothing.

    Args:
        context: The parts of the run.
        name: The certificate.
        number: Which edition; None for the one whose revocation was begun and cut short, else the newest.
        by_own_key: Whether its own key is to ask for it.

    Raises:
        UsageError: There is no such certificate or edition, or its authority is a portal.

    """
    entry = context.certificates.entry(name)
    number = context.ledger.revocations.begun(name) if number is None else number
    edition = choose_edition(context.ledger, name, number)
    authority = edition.authority or entry.authority
    _expect_acme(context, authority)
    if by_own_key and entry.key_elsewhere:
        raise UsageError(
            f"the key of “{name}” is on another machine", advice="leave --by-own-key out: the account may revoke it"
        )
    newest = context.ledger.newest_edition(name)
    installs = context.ledger.installs.of(name)
    leaf = context.shelf.chain(edition)[0]
    return Doomed(
        facts=facts(leaf),
        authority=authority,
        edition=edition,
        served_by=tuple(server for server, each in installs.items() if each.edition == edition.number),
        replacement=newest if newest is not None and newest.number > edition.number else None,
        der=leaf.public_bytes(Encoding.DER),
        key=context.shelf.key(edition.certificate, edition.number) if by_own_key else None,
    )


def plan_foreign(context: LifecycleContext, file: Path, authority: str, key_file: Path | None) -> Doomed:
    """Find out what revoking a certificate from elsewhere means; changes nothing.

    Args:
        context: The parts of the run.
        file: PEM file with the certificate, perhaps with its issuers behind it.
        authority: Who issued it.
        key_file: Its own key, which asks for it; None where our account may (it has control of all its names).

    Raises:
        UsageError: The authority is not configured or a portal, or the key is another certificate's.
        EditionUnfit: The file holds no certificate.

    """
    _expect_acme(context, authority)
    leaf = read_pem(read_bytes(file), str(file))[0]
    key = read_key(key_file) if key_file is not None else None
    if key is not None and not same_key(leaf, key.public_key()):
        raise UsageError("that key is another certificate's", where=str(key_file), advice="give its own")
    known = facts(leaf)
    edition = context.ledger.edition_of(known.sha256)
    return Doomed(facts=known, authority=authority, edition=edition, served_by=(), replacement=None,
                  der=leaf.public_bytes(Encoding.DER), key=key)  # fmt: skip


def revoke(context: LifecycleContext, doomed: Doomed, reason: RevocationReason, *, replace: bool) -> RevocationResult:
    """Revoke it; with `replace`, issue and install the next edition first.

    Killed after the CA has done it, the same command finds that out.

    Raises:
        UsageError: The CA does not revoke.
        CaProblem, NetworkTrouble: The CA refused or cannot be reached; what was issued and installed before stays.

    """
    if doomed.edition is not None:
        context.ledger.revocations.begin(doomed.edition.certificate, doomed.edition.number, reason.value)
    outcome = _replaced(context, doomed) if replace else None
    with _client(context, doomed) as client:
        already = _ask(context.progress, client, doomed, reason)
    if doomed.edition is not None:
        now = context.clock.now()
        newest = context.ledger.newest_edition(doomed.edition.certificate)
        if newest is not None and newest.number == doomed.edition.number:  # then the next run has to replace it
            context.ledger.observations.add([(newest, Heard(revoked=now, revoked_why=reason.value))])
        context.ledger.note("revoked", f"edition {doomed.edition.number}, {reason.value}", doomed.edition.certificate)
        context.ledger.revocations.end(doomed.edition.certificate, doomed.edition.number, now, reason.value)
    else:
        context.ledger.note("revoked", f"{doomed.facts.subject}, serial {doomed.facts.serial}, {reason.value}")
    return RevocationResult(doomed=doomed, reason=reason, already=already, replaced_by=outcome)


def _ask(progress: "Progress", client: CaClient, doomed: Doomed, reason: RevocationReason) -> bool:
    """Ask the CA to revoke; returns whether it had done so before."""
    if not client.directory().revoke_cert:
        raise UsageError(f"“{doomed.authority}” does not revoke by ACME", advice="ask the CA on its own pages")
    progress.step(doomed.authority, f"asking to revoke the certificate with serial {doomed.facts.serial}")
    try:
        client.revoke(doomed.der, CODES[reason], by=doomed.key)
    except CaProblem as problem:
        if problem.kind != "alreadyRevoked":
            raise  # and the next try means the same edition, although another one may have taken its place by now
        return True
    return False


def _replaced(context: LifecycleContext, doomed: Doomed) -> "Outcome | None":
    """Have a newer edition served; one that is there already only has to be installed."""
    if doomed.edition is None:
        raise UsageError("--and-replace is for certificates of the configuration", advice="leave --and-replace out")
    name = doomed.edition.certificate
    plan = Plan(name=name, entry=context.certificates.entry(name))
    return carry_out(context, plan, anew=doomed.replacement is None)


@contextmanager
def _client(context: LifecycleContext, doomed: Doomed) -> Iterator[CaClient]:
    """Give who asks the CA: our account, or the certificate's own key, for which no account is needed."""
    if doomed.key is None:
        yield context.accounts.get(doomed.authority).client
        return
    session = make_session(context, context.config.authority[doomed.authority])
    try:
        yield CaClient(session, Signer(doomed.key))
    finally:
        session.close()


def _expect_acme(context: LifecycleContext, authority: str) -> None:
    entry = context.configuration.authority(authority)
    if not entry.is_acme:
        raise UsageError(f"“{authority}” is a portal, where people revoke", where=entry.page,
                         advice="revoke it there; the next edition: inkstamp order NAME --reissue")  # fmt: skip
