"""A certificate given up: its order ended, servers put back, editions archived or destroyed, renewal ended."""

from collections.abc import Sequence
from enum import StrEnum
from itertools import count

from msgspec import Struct

from inkstamp.clock import stamp
from inkstamp.config.carrying import is_away
from inkstamp.errors import UsageError
from inkstamp.files import file_trouble, private_folder, remove_tree, sync_folder
from inkstamp.findings import Finding, note, ok, warn
from inkstamp.jobs.deployment.rollout import take_back
from inkstamp.jobs.deployment.undo_log import all_back, has_it
from inkstamp.jobs.enrolment.context import EnrolmentContext
from inkstamp.jobs.lifecycle.provisioning import settle
from inkstamp.jobs.lifecycle.revocation_reasons import RevocationReason
from inkstamp.jobs.lifecycle.revoke import plan_revocation, revoke
from inkstamp.jobs.orders.cancellation import give_up
from inkstamp.jobs.validation.challenge_path import close_again
from inkstamp.ledger.brought_csr import forget_brought
from inkstamp.ledger.file_store import expect_own
from inkstamp.ledger.order_files import forget_key
from inkstamp.ledger.records import EditionRecord, OrderRecord
from inkstamp.ledger.roster import keep_copy
from inkstamp.servers import backup


class ServersAfterwards(StrEnum):
    """What becomes of the servers that have a removed certificate."""

    UNDO = "undo"
    """They get what they had before its first install."""
    LEAVE = "leave"
    """They keep serving it until it expires."""


class KeysAfterwards(StrEnum):
    """What becomes of its editions."""

    KEEP = "keep"
    """They are moved to the archive."""
    DESTROY = "destroy"


class RemovalPlan(Struct, frozen=True, kw_only=True):
    """What removing a certificate means."""

    certificate: str
    names: tuple[str, ...]
    edition: EditionRecord | None
    """The newest; None where there is none."""
    order: OrderRecord | None
    """An order that is open."""
    servers: tuple[str, ...]
    """Those that have an edition of it."""
    is_half_removed: bool
    """Whether it was removed by a run that was interrupted, and only its files are left."""


class RemovalRequest(Struct, frozen=True, kw_only=True):
    """What is to become of it."""

    servers: ServersAfterwards
    keys: KeysAfterwards = KeysAfterwards.KEEP
    reason: RevocationReason | None = None
    """Why it is revoked; None to not revoke it."""


class Removed(Struct, frozen=True, kw_only=True):
    """What became of it."""

    certificate: str
    findings: tuple[Finding, ...]
    archive: str
    """Where its editions lie now; empty for nowhere, or for where they lay."""


def plan_removal(context: EnrolmentContext, name: str) -> RemovalPlan:
    """Find out what removing a certificate means; changes nothing.

    Raises:
        UsageError: There is no such certificate.

    """
    expect_own(
        context.store, "certificates are not taken off their servers",
        "remove its entry from the file on all machines: it is renewed no longer; on each: inkstamp undo NAME",
    )  # fmt: skip
    ledger = context.ledger
    half = name not in context.certificates and ledger.removals.left_on(name) is not None
    if half and not context.shelf.of(name).exists():
        raise UsageError(f"“{name}” is removed already", advice=f"inkstamp history {name}")
    entry = None if half else context.certificates.entry(name)
    return RemovalPlan(
        certificate=name,
        names=entry.names if entry is not None else (),
        edition=ledger.newest_edition(name),
        order=ledger.open_order(name),
        servers=has_it(context, name),
        is_half_removed=half,
    )


def remove(context: EnrolmentContext, plan: RemovalPlan, request: RemovalRequest) -> Removed:
    """Give a certificate up. Killed in between, the same command goes on.

    Raises:
        UsageError: Its keys are to be destroyed and servers left that take them from the shelf; or a server cannot be
            put back.
        ServerTrouble: A server refuses to be put back; it is as it was.
        CaProblem: The CA does not revoke it.

    """
    name, findings = plan.certificate, list[Finding]()
    if not plan.is_half_removed and backup.kept(context.home.challenge_path(name)) is not None:
        close_again(context, name)
        findings.append(ok("validation", name, "the challenge path is closed again"))
    with context.locks.certificate(name):
        settle(context, name)
        left = plan.servers if request.servers is ServersAfterwards.LEAVE else ()
        if plan.is_half_removed:
            left = context.ledger.removals.left_on(name) or ()
        using = _using_shelf(context, name, left)
        if using and request.keys is KeysAfterwards.DESTROY:
            raise UsageError(
                f"{', '.join(using)} would lose the key of “{name}”, which it serves yet",
                advice=f"restore the server first: inkstamp remove {name} --servers undo --keys destroy",
            )
        if not plan.is_half_removed:
            findings += _end_orders(context, name)
            findings += _put_back(context, plan, request)
    if not plan.is_half_removed:
        findings += _revoke(context, name, request.reason)
    with context.locks.certificate(name):
        if not plan.is_half_removed:
            _end_renewal(context, name, left)
        archive = "" if using else _put_away(context, name, request.keys)
    if left:
        seen = f"{', '.join(left)} {'have' if len(left) > 1 else 'has'} it until it expires; nobody renews it"
        findings.append(warn("servers", name, seen, "inkstamp survey"))
    return Removed(certificate=name, findings=tuple(findings), archive=archive)


def _using_shelf(context: EnrolmentContext, name: str, servers: Sequence[str]) -> tuple[str, ...]:
    """Return those of some servers that take the certificate's files from the shelf by their configuration."""
    folders = tuple(f"{context.shelf.of(each)}/" for each in (name, context.shelf.leads_to(name)))
    folders += (f"{context.home.given / name}/",)
    here = [each for each in servers if each in context.config.server and not is_away(context.config, each)]
    return tuple(
        each
        for each in here
        if any(site.certificate_file.startswith(folders) for site in context.servers.get(each).sites())
    )


def _end_orders(context: EnrolmentContext, name: str) -> list[Finding]:
    findings = []
    if context.ledger.open_order(name) is not None:
        ended = give_up(context, name)
        findings.append(ok("order", name, f"order {ended.order.id} is cancelled"))
        if ended.at_portal:
            findings.append(
                note("order", name, f"{ended.order.authority} may have that order too", "cancel it at the portal")
            )
    return findings


def _put_back(context: EnrolmentContext, plan: RemovalPlan, request: RemovalRequest) -> list[Finding]:
    """Give servers what they had, where that is wanted; the caller holds the certificate."""
    name, findings = plan.certificate, list[Finding]()
    if request.servers is ServersAfterwards.UNDO and plan.servers:
        entry = context.certificates.entry(name)
        with context.locks.servers(plan.servers):
            folders, groups = all_back(context, name)
            findings += take_back(context, name, entry, folders, groups)
        findings += [ok("servers", server, f"has what it had before “{name}”") for server in plan.servers]
    return findings


def _revoke(context: EnrolmentContext, name: str, reason: RevocationReason | None) -> list[Finding]:
    if reason is None or context.ledger.newest_edition(name) is None:
        return []
    done = revoke(context, plan_revocation(context, name, None, by_own_key=False), reason, replace=False)
    seen = "was revoked before" if done.already else f"is revoked ({reason.value})"
    return [ok("revoked", name, f"the certificate with serial {done.doomed.facts.serial} {seen}")]


def _end_renewal(context: EnrolmentContext, name: str, left: Sequence[str]) -> None:
    """Take its entry away: from here on it is removed, whatever happens."""
    of_roster = context.certificates.record(name) is not None
    where = f"; left on {', '.join(left)}" if left else ""
    context.ledger.removals.add(name, left, f"it is not renewed any more{where}")
    context.certificates.forget()
    if of_roster:
        keep_copy(context.home, context.store, context.ledger.roster)
    else:
        context.configuration.remove_entry("certificate", name)


def _put_away(context: EnrolmentContext, name: str, keys: KeysAfterwards) -> str:
    """Move the editions to the archive, or destroy them; returns where they are then."""
    remove_tree(context.home.undo(name))
    forget_brought(context.home, context.store, name)
    forget_key(context.home, context.store, name)
    folder = context.shelf.of(context.shelf.leads_to(name))
    if not folder.exists():
        return ""
    if keys is KeysAfterwards.DESTROY:
        remove_tree(folder)
        context.shelf.unlink(name)
        return ""
    context.local_copy.switch(name, None)
    called = f"{name} {stamp(context.clock.now())}"
    numbered = (f"{called} {number}" if number > 1 else called for number in count(1))
    archive = private_folder(context.home.archive)
    target = next(free for each in numbered if not (free := archive / each).exists())
    with file_trouble("rename", folder):
        folder.rename(target)
        sync_folder(target.parent)
    context.shelf.unlink(name)
    return str(target)
