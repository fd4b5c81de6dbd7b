"""A real nginx and a real ACME CA with three good sites, and room for a stranger beside them."""

from collections.abc import Iterator

import pytest
from more_servers import open_folder
from neighbours import Street
from world import real_world


@pytest.fixture(scope="module")
def street() -> Iterator[Street]:
    with open_folder() as folder, real_world(folder, ca_env={"PEBBLE_WFE_NONCEREJECT": "0"}) as world:
        world.add_authority()
        yield Street(world)
