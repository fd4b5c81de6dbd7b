"""In which order machines are given a new edition."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from inkstamp.policy.rollout_steps import steps_of

WEBS = ["web3", "web1", "web2", "web5", "web4"]


@pytest.mark.parametrize(
    ("rollout", "steps"),
    [
        ([], [("web1", "web2", "web3", "web4", "web5")]),
        (["web3"], [("web3",), ("web1", "web2", "web4", "web5")]),
        (["web3", 2], [("web3",), ("web1", "web2"), ("web4", "web5")]),
        ([1, 3], [("web1",), ("web2", "web3", "web4"), ("web5",)]),
        (["web[45]", "mail*", "web*"], [("web4", "web5"), ("web1", "web2", "web3")]),
        ([99], [("web1", "web2", "web3", "web4", "web5")]),
    ],
)
def test_the_first_machines_are_those_that_are_named_and_the_last_number_goes_on_until_none_is_left(
    rollout: list[str | int], steps: list[tuple[str, ...]]
) -> None:
    assert list(steps_of(rollout, WEBS)) == steps


@given(
    st.lists(st.one_of(st.integers(1, 9), st.sampled_from(["web1", "web*", "a*", "*"])), max_size=5),
    st.lists(st.sampled_from([*(f"web{number}" for number in range(30)), "api"]), max_size=30),
)
def test_each_machine_is_in_one_step_and_no_step_is_empty(rollout: list[str | int], machines: list[str]) -> None:
    steps = steps_of(rollout, machines)
    assert sorted(each for step in steps for each in step) == sorted(set(machines))
    assert all(steps)
