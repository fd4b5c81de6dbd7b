"""What an order at a CA's portal waits for, at which of its usual steps, and who must act."""

from collections.abc import Sequence
from datetime import datetime

from msgspec.structs import replace

from inkstamp.config.model import Authority, Certificate, PortalStage
from inkstamp.config.words import PortalStep
from inkstamp.errors import Actor
from inkstamp.jobs.status.stall import Stall, acme_stall
from inkstamp.ledger.records import OrderRecord, OrderState, PortalProof, PortalWait, ProofMethod
from inkstamp.pki.kinds import ValidationLevel
from inkstamp.policy.portal_steps import actor_of, progress_of, sentence_of, stages_for, step_after
from inkstamp.proof.portal_validation import Step, has_rule, step_of

_VALIDATED = "validated as far as visible; the CA issues next, then download"


def stall_of(
    order: OrderRecord,
    proofs: Sequence[PortalProof],
    wait: PortalWait | None,
    entry: Certificate | None,
    authority: Authority | None,
) -> Stall:
    """Say what an open order waits for, at an ACME CA or at a portal.

    Args:
        order: The order.
        proofs: What its portal wants to see.
        wait: What a person said that it waits for at the portal; None when nobody did.
        entry: The certificate as configured now; None when it is not.
        authority: The order's authority as configured now; None when it is not.

    """
    if order.state is not OrderState.WAITING:
        return acme_stall(order, proofs)
    ruled = entry is not None and authority is not None and has_rule(entry, authority, token=False)
    level = level_of(entry, authority)
    stages = stages_for(authority.steps, level) if authority is not None else []
    return portal_stall(order, proofs, ruled=ruled, wait=wait, stages=stages)


def level_of(entry: Certificate | None, authority: Authority | None) -> ValidationLevel | None:
    """Return what the CA is to vet, as configured; None where that is not stated."""
    stated = entry.level if entry is not None else None
    return stated or (authority.level if authority is not None else None)


def portal_stall(
    order: OrderRecord,
    proofs: Sequence[PortalProof],
    *,
    ruled: bool,
    wait: PortalWait | None = None,
    stages: Sequence[PortalStage] = (),
) -> Stall:
    """Say what an order at a portal waits for.

    Args:
        order: The order.
        proofs: What its portal wants to see.
        ruled: Whether the portal's rule says that.
        wait: What a person said it waits for; None when nobody did.
        stages: The steps that such orders usually go through.

    """
    if wait is not None:
        return _at(order, wait.step, wait.since, stages, wait.until)
    step = step_of(order.names, proofs)
    asked = [each for each in proofs if each.method is ProofMethod.EMAIL and each.approved is None]
    if step is Step.REVIEW and not asked:
        since = max(each.approved or each.seen or each.told for each in proofs)
        following = step_after(stages, "validation")
        return _at(order, following, since, stages, sentence=_VALIDATED if following == "review" else "")
    if step is Step.REQUEST:
        stall = _request(order, proofs, ruled=ruled)
    elif step is Step.REVIEW:
        stall = Stall(
            step=f"the e-mail to {asked[0].place} is to be approved{'' if stages else '; then the CA issues'}",
            since=max(each.seen or each.told for each in asked),
            who=Actor.YOU,
            next_command=f"inkstamp prove {order.certificate} --approved",
        )
    else:
        stall = _unseen(order, proofs)
    return replace(stall, progress=progress_of(stages, "validation", order.changed, None))


def _at(
    order: OrderRecord,
    step: PortalStep,
    since: datetime,
    stages: Sequence[PortalStage],
    until: datetime | None = None,
    *,
    sentence: str = "",
) -> Stall:
    """Say that an order is past domain control validation, at some step."""
    name, following = order.certificate, step_after(stages, step)
    last = step == "review" or (following == "review" and actor_of(step) is Actor.CA)
    return Stall(
        step=sentence or sentence_of(step),
        since=since,
        who=actor_of(step),
        next_command=f"inkstamp collect {name} FILE…"
        if last
        else " ".join(("inkstamp why", name, "--waiting", following)),
        progress=progress_of(stages, step, since, until),
        said=until is not None,
    )


def _request(order: OrderRecord, proofs: Sequence[PortalProof], *, ruled: bool) -> Stall:
    """Say that the CSR is to be pasted, or what the portal then shows to be brought back."""
    what = "paste the CSR at the portal" + ("" if ruled else ", and bring back what it wants to see")
    if proofs:
        lacking = [each for each in order.names if each not in {proof.name for proof in proofs}]
        what = f"bring back the validation file or record that the portal shows for {', '.join(lacking)}"
    command = f"inkstamp prove {order.certificate}" + ("" if ruled else " --file|--cname|--txt|--email …")
    return Stall(step=what, since=order.changed, who=Actor.YOU, next_command=command)


def _unseen(order: OrderRecord, proofs: Sequence[PortalProof]) -> Stall:
    """Say what the portal wants to see and is not there yet."""
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
    return Stall(step=what, since=since, who=who, next_command=f"inkstamp prove {order.certificate}{sent}")
