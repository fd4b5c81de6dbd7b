"""Why a certificate is not going on: at which step, since when, who must act, and what to type."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from inkstamp.config.model import Authority, Certificate
from inkstamp.errors import Actor, ProofFailed
from inkstamp.findings import Finding
from inkstamp.ledger.failures import RecordedFailure
from inkstamp.ledger.records import EditionRecord, OrderRecord, OrderState, PortalProof, ProofMethod
from inkstamp.proof.portal_validation import Step, has_rule, step_of


@dataclass(frozen=True, slots=True, kw_only=True)
class Stall:
    """Where something waits."""

    step: str
    """In a few words, as a sentence without a full stop."""
    since: datetime
    """Aware, UTC."""
    who: Actor
    next_command: str
    """What to type when that is done."""


def stall_of(
    order: OrderRecord, proofs: Sequence[PortalProof], entry: Certificate | None, authority: Authority | None
) -> Stall:
    """Say what an open order waits for.

    Args:
        order: The order.
        proofs: What its portal wants to see.
        entry: The certificate as configured now; None when it is not.
        authority: The order's authority as configured now; None when it is not.

    """
    if order.state is OrderState.WAITING:
        ruled = entry is not None and authority is not None and has_rule(entry, authority, token=False)
        return portal_stall(order, proofs, ruled=ruled)
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


def portal_stall(order: OrderRecord, proofs: Sequence[PortalProof], *, ruled: bool) -> Stall:
    """Say what an order at a portal waits for; `ruled` when the portal's rule says what it wants to see."""
    name = order.certificate
    step = step_of(order.names, proofs)
    if step is Step.REQUEST:
        lacking = [each for each in order.names if each not in {proof.name for proof in proofs}]
        what = "paste the CSR at the portal" + ("" if ruled else ", and bring back what it wants to see")
        if proofs:
            what = f"bring back the validation file or record that the portal shows for {', '.join(lacking)}"
        command = f"inkstamp prove {name}" + ("" if ruled else " --file|--cname|--txt|--email …")
        return Stall(step=what, since=order.changed, who=Actor.YOU, next_command=command)
    if step is Step.REVIEW:
        since = max(each.seen or each.told for each in proofs)
        mailed = next((each.place for each in proofs if each.method is ProofMethod.EMAIL), "")
        what = "validated as far as visible; the CA issues next, then download"
        if mailed:
            what = f"the e-mail to {mailed} is to be approved; then the CA issues"
        who = Actor.YOU if mailed else Actor.CA
        return Stall(step=what, since=since, who=who, next_command=f"inkstamp collect {name} FILE…")
    unseen = [each for each in proofs if each.seen is None]
    first = unseen[0]
    since = max(each.told for each in unseen)
    places = {(each.place, each.name if each.method is ProofMethod.FILE else "") for each in unseen}
    many = f", and {len(places) - 1} more" if len(places) > 1 else ""
    told = {
        ProofMethod.FILE: (f"the file {first.place} is not seen at {first.name}{many}", Actor.SERVER),
        ProofMethod.CNAME: (f"the CNAME record {first.place} is not seen{many}", Actor.DNS),
        ProofMethod.TXT: (f"the TXT record {first.place} is not seen{many}", Actor.DNS),
        ProofMethod.EMAIL: (f"let the portal send an e-mail to {first.place}{many}", Actor.YOU),
    }
    what, who = told[first.method]
    sent = f" --email {first.place} --sent" if first.method is ProofMethod.EMAIL else ""
    return Stall(step=what, since=since, who=who, next_command=f"inkstamp prove {name}{sent}")
