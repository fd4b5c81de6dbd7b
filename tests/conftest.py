"""What holds for all tests."""

import os

import pytest
from hypothesis import settings

from inkstamp.standins import ports

# Machines differ and are shared, so no property has a deadline; in CI the same examples are tried every time.
# Tests of several processes must not choose the same port in the moment before it is listened on.
_WORKER = os.environ.get("PYTEST_XDIST_WORKER", "").removeprefix("gw")
_FIRST = 16_000 + 4_000 * (int(_WORKER or 3) % 4)
ports._BELOW_EPHEMERAL = range(_FIRST, _FIRST + 4_000)

settings.register_profile("ours", deadline=None, derandomize=bool(os.environ.get("CI")))
settings.load_profile("ours")

_LONGEST = (
    "test_killed", "test_tools", "test_package", "test_machines", "test_keep_alive", "test_kinds_killed", "test_fleet",
    "test_strangers", "test_demo_fleet", "test_demo",
)  # fmt: skip


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Begin with the files that take longest, so that no process is left with one of them at the end."""
    items.sort(key=lambda each: each.path.stem not in _LONGEST)
