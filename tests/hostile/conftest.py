"""A real nginx and a real ACME CA with three good sites, and room for a stranger beside them."""

from collections.abc import Iterator

import pytest
from more_servers import open_folder
from neighbours import ON_PATH, Street
from world import real_world

from inkstamp.standins.ports import free_ports


@pytest.fixture(scope="module")
def street() -> Iterator[Street]:
    ocsp, dns = free_ports(2)
    settings = {"ocspResponderURL": f"http://{ON_PATH}:{ocsp}/"}
    with (
        open_folder() as folder,
        real_world(folder, ca_env={"nonces_rejected": "0"}, ca_settings=settings) as world,
    ):
        world.config.write_text(world.config.read_text().replace("http_port = ", f"dns_port = {dns}\nhttp_port = "))
        world.add_authority()
        yield Street(world, ocsp_port=ocsp)
