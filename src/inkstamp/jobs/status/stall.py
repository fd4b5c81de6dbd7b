"""Why a certificate is not going on: at which step, since when, who must act, and what to type."""

from collections.abc import Sequence
from datetime import datetime

from msgspec import Struct

from inkstamp.errors import Actor, ProofFailed
from inkstamp.findings import Finding
from inkstamp.ledger.failures import RecordedFailure
from inkstamp.ledger.records import EditionRecord, OrderRecord, OrderState, PortalProof, ProofMethod
from inkstamp.policy.portal_steps import StepProgress


class Stall(Struct, frozen=True, kw_only=True):
    """Where something waits."""

    step: str
    """In a few words, as a sentence without a full stop."""
    since: datetime
    """Aware, UTC."""
    who: Actor
    next_command: str
    """What to type when that is done."""
    progress: StepProgress | None = None
    """At a portal: at which of the steps that its orders usually go through; None at an ACME CA."""
    said: bool = False
    """Whether a person said until when it is expected to last."""
    by_hand: bool = False
    """Whether an order at an ACME CA waits for files or records that a person makes."""


def acme_stall(order: OrderRecord, by_hand: Sequence[PortalProof] = ()) -> Stall:
    """Say what an open order at an ACME CA waits for; `by_hand` is what a person has to make for it."""
    unseen = [each for each in by_hand if each.seen is None]
    if unseen and order.state is OrderState.OPENED:
        first, more = unseen[0], f", and {len(unseen) - 1} more" if len(unseen) > 1 else ""
        where = f"the file {first.url}"
        if first.method is not ProofMethod.FILE:
            where = f"the {first.method.upper()} record {first.place}"
        return Stall(
            step=f"create {where}{more}",
            since=max(each.told for each in unseen),
            who=Actor.YOU,
            next_command=f"inkstamp stamp {order.certificate}",
            by_hand=True,
        )
    sent = order.state is OrderState.FINALIZING
    return Stall(
        step="the CSR was sent and the certificate not downloaded yet"
        if sent
        else f"the order at {order.authority} is open and its names are not validated yet",
        since=order.changed,
        who=Actor.CA if sent else Actor.YOU,
        next_command=f"inkstamp stamp {order.certificate}",
    )


def csr_stall(name: str, edition: EditionRecord | None, since: datetime, *, portal: bool) -> Stall:
    """Say that a CSR is waited for, since the key is on another machine; `since` is from when one is needed."""
    again = f", or --same-request to use that of edition {edition.number} again" if edition is not None else ""
    return Stall(
        step=f"the key is on another machine: the next order needs a new CSR from there{again}",
        since=since,
        who=Actor.YOU,
        next_command=f"inkstamp {'order' if portal else 'stamp'} {name} --csr FILE",
    )


def records_stall(name: str, trouble: str, since: datetime) -> Stall:
    """Say what a person has to do about validation records that stay; `since` is from when they are needed."""
    return Stall(step=trouble, since=since, who=Actor.YOU, next_command=f"inkstamp prove {name} --persistent")


_RECORD_LABEL = "_acme-challenge."
_WHO_FOR = {
    "caa": Actor.DNS,
    "dns": Actor.DNS,
    "rateLimited": Actor.CA,
    "serverInternal": Actor.CA,
}
"""By the type of the CA's problem (RFC 8555 section 6.7)."""


def setback_stall(setback: RecordedFailure) -> Stall:
    """Say what stands in the way of a certificate, by what was told when it was met."""
    told = setback.told
    who = _WHO_FOR.get(told.problem) or told.error_class.who_acts
    if issubclass(told.error_class, ProofFailed) and any(_is_about_dns(each) for each in told.findings):
        who = Actor.DNS
    doing = f"{told.step}: " if told.step else ""
    return Stall(
        step=f"{doing}{told.what}",
        since=setback.since,
        who=who,
        next_command=f"inkstamp stamp {setback.certificate}",
    )


def _is_about_dns(finding: Finding) -> bool:
    return finding.topic in {"address", "zone"} or finding.subject.startswith(_RECORD_LABEL)
