"""What an edition that goes out in steps waits for, by what is known of the machines."""

from datetime import UTC, datetime

import pytest

from inkstamp.jobs.fleet import rollout_progress
from inkstamp.jobs.fleet.rollout_progress import RolloutState
from inkstamp.ledger.machine_records import Machine
from inkstamp.ledger.staged_rollouts import StagedRollout

NOW = datetime(2026, 11, 29, tzinfo=UTC)
STEPS = (("web1",), ("web2", "web3"))


def seen(away: set[str], failed: set[str]) -> rollout_progress._Seen:
    machines = {
        name: Machine(name=name, release="1", orders=False, servers=("front",), seen=NOW, behind=0,
                      silent=30 * 3600.0 if name in away else 1.0)
        for step in STEPS for name in step
    }  # fmt: skip
    troubles = {("rowing", name): "nginx refuses" for name in failed}
    return rollout_progress._Seen(machines, {}, troubles, away_hours=26.0)


@pytest.mark.parametrize(
    ("given", "serving", "away", "failed", "state", "step", "waits_for"),
    [
        (set(), set(), set(), set(), RolloutState.GIVING, 1, ()),
        ({"web1"}, set(), set(), set(), RolloutState.INSTALLING, 1, ("web1",)),
        ({"web1"}, set(), {"web1"}, set(), RolloutState.AWAY, 1, ("web1",)),
        ({"web1"}, set(), set(), {"web1"}, RolloutState.STOPPED, 1, ("web1",)),
        ({"web1"}, {"web1"}, set(), set(), RolloutState.SERVED, 1, ()),
        ({"web1"}, {"web1"}, {"web1"}, set(), RolloutState.SERVED, 1, ()),
        ({"web1", "web3"}, {"web1"}, set(), set(), RolloutState.GIVING, 2, ()),  # web2 has joined meanwhile
        ({"web1", "web2", "web3"}, {"web1", "web2"}, set(), set(), RolloutState.INSTALLING, 2, ("web3",)),
        ({"web1", "web2", "web3"}, {"web1", "web2"}, {"web3"}, set(), RolloutState.DONE, 2, ()),
        ({"web1", "web2", "web3"}, {"web1", "web2", "web3"}, set(), set(), RolloutState.DONE, 2, ()),
        ({"web1", "web2", "web3"}, {"web2", "web3"}, set(), {"web1"}, RolloutState.STOPPED, 1, ("web1",)),
    ],
)
def test_a_step_begins_when_the_machines_of_the_one_before_serve_the_edition(
    given: set[str],
    serving: set[str],
    away: set[str],
    failed: set[str],
    state: RolloutState,
    step: int,
    waits_for: tuple[str, ...],
) -> None:
    rollout = StagedRollout(certificate="rowing", edition=2, went_back=False, hours=1.0, seconds_left=None,
                            given=frozenset(given))  # fmt: skip
    found = rollout_progress._state_of(rollout, STEPS, tuple(sorted(serving)), seen(away, failed))
    assert found == (state, step, waits_for)
