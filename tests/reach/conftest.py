"""The hosts that every test of this folder holds for: this machine, and one behind a real OpenSSH server."""

from collections.abc import Iterator

import pytest
from more_servers import Machine, ssh_machine

from inkstamp.reach.interface import Host
from inkstamp.reach.local import LocalHost
from inkstamp.reach.ssh import SshHost
from inkstamp.standins.ports import free_ports


@pytest.fixture(scope="session")
def machine(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Machine]:
    (port,) = free_ports(1)
    with ssh_machine(tmp_path_factory.mktemp("ssh") / "machine", "127.0.0.1", port) as made:
        yield made


@pytest.fixture(scope="module", params=["here", "over ssh"])
def host(request: pytest.FixtureRequest) -> Iterator[Host]:
    if request.param == "here":
        yield LocalHost()
        return
    machine: Machine = request.getfixturevalue("machine")
    made = SshHost(f"ssh://127.0.0.1:{machine.port}", config_file=str(machine.client))
    yield made
    made.close()
