"""Renew for trial: everything but the switch, at the authority's staging directory, and nothing left behind.

The trial has an account and a folder of its own, HOME/rehearsal. Order, proofs, key, certificate and the preparation of
the install are real; what a server reads is not touched, and the certificate is thrown away.
"""

from collections.abc import Callable, Sequence
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
from msgspec import Struct

from inkstamp.bulkhead import apart, at_step, reached
from inkstamp.config.model import Authority, Configuration
from inkstamp.errors import CaProblem, ConfigurationError, InkStampError, ProofFailed, ReachTrouble, StillWaiting
from inkstamp.files import remove_tree
from inkstamp.findings import Finding, note, ok
from inkstamp.jobs.deployment.plan import prepare
from inkstamp.jobs.lifecycle.failover import obtain_somewhere
from inkstamp.jobs.lifecycle.proposal import Plan
from inkstamp.jobs.lifecycle.provisioning import check_beforehand
from inkstamp.jobs.renewal.run import sweep_proofs
from inkstamp.runtime import Runtime
from inkstamp.view.point import load_roots

if TYPE_CHECKING:
    from inkstamp.runtime import Runtime

_FOLDER = "rehearsal"


class Rehearsed(Struct, frozen=True, kw_only=True):
    """What a renewal would have come to."""

    certificate: str
    would_renew: bool
    findings: tuple[Finding, ...]
    """What was gone through, in its order."""
    error: InkStampError | None
    """Where it would fail; None when it would not."""
    tried: bool = True
    """False where nothing could be rehearsed: a portal has no staging."""


def rehearse(
    runtime: "Runtime", only: Sequence[str], told: Callable[[Rehearsed], None] = lambda _done: None
) -> list[Rehearsed]:
    """Rehearse the renewal of certificates, of all where `only` is empty; `told` is called as each is done.

    Raises:
        UsageError: One is not configured.

    """
    for name in only:
        runtime.certificates.entry(name)
    trial = _trial(runtime)
    results = []
    try:
        with suppress(InkStampError), apart():  # of a rehearsal that was killed; what stays is met by the order
            sweep_proofs(trial)
        for name in only or tuple(runtime.certificates):
            results.append(_rehearse_one(runtime, trial, name))
            told(results[-1])
    finally:
        trial.close(0)
        _clear(trial.home.folder)
    return results


def _trial(runtime: "Runtime") -> "Runtime":
    """Put a rehearsal together: the same servers and locks, other authorities and another folder."""
    home = runtime.home.folder / _FOLDER
    _clear(home)
    made = Runtime(
        runtime.configuration.path, home, clock=runtime.clock, progress=runtime.progress, command=runtime.command,
        locks=runtime.locks, certificates=runtime.certificates,
    )  # fmt: skip
    made.configuration.use(staged(runtime.config))
    return made


def _clear(home: Path) -> None:
    """Remove all that a rehearsal makes, but for its account."""
    for each in ("shelf", "orders", "undo"):
        remove_tree(home / each)


def staged(config: Configuration) -> Configuration:
    """Return the configuration with the staging directories in the place of the authorities' own."""
    authorities = {
        name: msgspec.structs.replace(each, directory=each.staging, trust=each.staging_trust, root="", roots="")
        for name, each in config.authority.items()
    }
    return msgspec.structs.replace(config, authority=authorities)


def _rehearse_one(runtime: "Runtime", trial: "Runtime", name: str) -> Rehearsed:
    authority = runtime.config.authority[runtime.certificates.entry(name).authority]
    if not authority.is_acme:
        seen = "comes from a portal, which people renew at: nothing can be rehearsed"
        return Rehearsed(certificate=name, would_renew=False, tried=False, error=None,
                         findings=(note("rehearsal", name, seen, f"inkstamp precheck {name}"),))  # fmt: skip
    findings: list[Finding] = []
    try:
        with apart():
            reached("rehearse", name)
            _go_through(trial, name, authority, findings)
    except InkStampError as met:
        runtime.ledger.note("rehearsed", f"would fail: {met.what}", name)
        error = met
        if isinstance(met, CaProblem | ProofFailed | StillWaiting):
            # What it says to go on with is gone with the rehearsal.
            error = met.amended(advice=f"correct that, then rehearse it again: inkstamp rehearse {name}")
        return Rehearsed(certificate=name, would_renew=False, findings=tuple(findings), error=error)
    runtime.ledger.note("rehearsed", "would renew", name)
    return Rehearsed(certificate=name, would_renew=True, findings=tuple(findings), error=None)


def _go_through(trial: "Runtime", name: str, authority: Authority, findings: list[Finding]) -> None:
    # A name that fails is to be told of here, and not to be left out.
    entry = msgspec.structs.replace(trial.certificates.entry(name), otherwise=(), leave_out_failing=False)
    if entry.key_elsewhere:  # which says nothing about whether the names can be validated
        entry = msgspec.structs.replace(entry, key_elsewhere=False, same_request=False)
    if not authority.staging:
        raise ConfigurationError(
            f"“{entry.authority}” has no staging directory", where=f"[authority.{entry.authority}]",
            advice="add a line staging = …, the URL of the CA's directory for tests",
        )  # fmt: skip
    trial.trust.trusts_any_root = not authority.staging_roots
    if authority.staging_roots:
        trial.trust.use(load_roots(Path(authority.staging_roots)))
    with trial.locks.certificate(name):
        trial.progress.step(name, "rehearsing the renewal")
        check_beforehand(trial, Plan(name=name, entry=entry))
        findings.append(ok("precheck", name, "its names have addresses, and its servers have sites for it"))
        edition = obtain_somewhere(trial, name, entry)
        seen = f"was issued by “{edition.issuer}” of {edition.authority}'s staging and is valid"
        findings.append(ok("certificate", name, seen))
        if trial.trust.trusts_any_root:
            seen = "which root it leads to is not judged"
            findings.append(note("trust", name, seen, "staging_roots = … in the authority's table has it judged"))
        if entry.install:
            with at_step("preparing the install"), trial.locks.servers(entry.install):
                away: dict[str, ReachTrouble] = {}
                groups = prepare(trial, name, entry, edition, away, tested_since=trial.clock.monotonic())
                for error in away.values():
                    raise error
            where = ", ".join(each for group in groups for each in group.servers)
            findings.append(ok("install", where, "is prepared; the configuration is valid"))
