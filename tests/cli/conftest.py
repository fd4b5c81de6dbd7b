"""The simulated world for tests of the program."""

from collections.abc import Iterator
from pathlib import Path

import pytest
from simulated import SimulatedWorld, simulated_world


@pytest.fixture
def world(tmp_path: Path) -> Iterator[SimulatedWorld]:
    with simulated_world(tmp_path) as made:
        yield made
