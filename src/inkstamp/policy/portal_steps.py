"""What an order at a CA's portal goes through between the CSR and the download, and who acts at each step. Pure."""

from collections.abc import Sequence
from datetime import datetime, timedelta

from msgspec import Struct

from inkstamp.config.model import PortalStage
from inkstamp.config.words import PortalStep
from inkstamp.errors import Actor
from inkstamp.pki.kinds import ValidationLevel

_A_DAY = timedelta(days=1)
_MEANINGS: dict[PortalStep, tuple[str, Actor]] = {
    "validation": ("domain control validation", Actor.YOU),
    "organisation": ("the CA vets the organisation", Actor.CA),
    "call": ("the CA calls, and somebody has to answer", Actor.YOU),
    "documents": ("the CA needs documents", Actor.YOU),
    "approval": ("the order has to be approved at the portal by somebody else", Actor.APPROVER),
    "payment": ("the order has to be paid", Actor.YOU),
    "review": ("the CA reviews the order and issues next", Actor.CA),
}


def sentence_of(step: PortalStep) -> str:
    """Return what happens at a step, as a sentence without a full stop."""
    return _MEANINGS[step][0]


def actor_of(step: PortalStep) -> Actor:
    """Return who has to act at a step."""
    return _MEANINGS[step][1]


def stages_for(stages: Sequence[PortalStage], level: ValidationLevel | None) -> list[PortalStage]:
    """Return those of a portal's usual steps that certificates of a level go through; all where that is unknown."""
    return [each for each in stages if level is None or not each.level or level in each.level]


def step_after(stages: Sequence[PortalStage], step: PortalStep) -> PortalStep:
    """Return which step usually comes next; the CA's review where nothing else does."""
    names = [each.step for each in stages]
    at = names.index(step) + 1 if step in names else len(names)
    return names[at] if at < len(names) else "review"


class StepProgress(Struct, frozen=True, kw_only=True):
    """Where an order is among the steps that its portal's orders usually go through."""

    step: PortalStep
    number: int
    """Of this step, from 1; 0 where it is none of the usual ones."""
    total: int
    """How many steps there usually are; 0 where that is not stated."""
    usual_days: float
    """How long this one usually takes; 0 where that is not stated."""
    expected: datetime | None
    """When it is expected to be over, or a call to come; aware, UTC."""


def progress_of(
    stages: Sequence[PortalStage], step: PortalStep, since: datetime, until: datetime | None
) -> StepProgress:
    """Say where an order is that is at a step since some moment; `until` is when a person expects it to be over."""
    names = [each.step for each in stages]
    usual = next((each.days for each in stages if each.step == step), 0.0)
    return StepProgress(
        step=step,
        number=names.index(step) + 1 if step in names else 0,
        total=len(names),
        usual_days=usual,
        expected=until or (since + timedelta(days=usual) if usual else None),
    )


def is_reminded(progress: StepProgress, who: Actor, *, said: bool, now: datetime) -> bool:
    """Tell whether a person is to be reminded of a step.

    Of what a person has to do at once, or on the day that was said; of what others do, once the day is over on which
    it was expected to end.

    Args:
        progress: The step.
        who: Who has to act.
        said: Whether the day was said by a person, and is not just the usual one.
        now: The moment, aware.

    """
    if who is Actor.YOU:
        return not said or progress.expected is None or now >= progress.expected
    return progress.expected is not None and now - _A_DAY >= progress.expected
