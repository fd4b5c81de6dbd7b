"""What several modules of real servers stand on."""

from collections.abc import Iterator
from pathlib import Path

import pytest
from more_servers import open_folder


@pytest.fixture(scope="module")
def folder() -> Iterator[Path]:
    """A folder that servers without root's rights can enter."""
    with open_folder() as made:
        yield made
