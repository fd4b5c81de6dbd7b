"""What several modules of real servers stand on."""

from collections.abc import Iterator
from pathlib import Path

import pytest
from more_servers import open_folder
from world import World, real_world


@pytest.fixture(scope="module")
def folder() -> Iterator[Path]:
    """A folder that servers without root's rights can enter."""
    with open_folder() as made:
        yield made


@pytest.fixture(scope="module")
def world(folder: Path) -> Iterator[World]:
    """A world with its authority, whose CA refuses no nonce for practice."""
    with real_world(folder / "world", ca_env={"nonces_rejected": "0"}) as made:
        made.add_authority()
        yield made
