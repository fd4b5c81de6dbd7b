"""Who must act on a recorded failure follows from the class of the error, which is recorded by its name."""

from datetime import UTC, datetime

import pytest

from inkstamp.errors import Actor
from inkstamp.findings import bad
from inkstamp.jobs.status.stall import setback_stall
from inkstamp.ledger.failures import FailureReport, RecordedFailure

NOW = datetime(2026, 11, 28, tzinfo=UTC)


def _met(kind: str, problem: str = "", topic: str = "") -> RecordedFailure:
    findings = (bad(topic, "shop.saltmarsh.test", "is not as it must be", "correct it"),) if topic else ()
    told = FailureReport(
        kind=kind, step="", what="it failed", where="", said="", problem=problem, advice="", findings=findings
    )
    return RecordedFailure(certificate="shop", since=NOW, last=NOW, times=1, told=told)


@pytest.mark.parametrize(
    ("setback", "who"),
    [
        (_met("CarrierTrouble"), Actor.DNS),
        (_met("NetworkTrouble"), Actor.CA),
        (_met("CaMisbehaved"), Actor.CA),
        (_met("ServerTrouble"), Actor.SERVER),
        (_met("NamesLost"), Actor.YOU),
        (_met("ProofFailed"), Actor.YOU),
        (_met("ProofFailed", topic="zone"), Actor.DNS),
        (_met("CaProblem", problem="caa"), Actor.DNS),
        (_met("CaProblem", problem="rateLimited"), Actor.CA),
        (_met("CaProblem", problem="rejectedIdentifier"), Actor.YOU),
        (_met("OfAReleaseToCome"), Actor.YOU),
    ],
    ids=lambda value: value.told.kind if isinstance(value, RecordedFailure) else str(value),
)
def test_a_recorded_failure_tells_who_must_act(setback: RecordedFailure, who: Actor) -> None:
    assert setback_stall(setback).who is who
