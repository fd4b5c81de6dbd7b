"""The simulated CA and web server, with the real program."""

import sys
from collections import Counter, deque
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from pathlib import Path

import forked
from world import World, running, write_config, write_nginx

from inkstamp.standins.ca import SimulatedCa
from inkstamp.standins.ca_mood import Canned
from inkstamp.standins.nameserver import Nameserver
from inkstamp.standins.ports import free_ports

ASK = Path(__file__).parent / "forked_ask.py"
NAME = "rowing.saltmarsh.test"


@dataclass
class SimulatedWorld(World):
    """The simulated CA and web server, with the real program."""

    simulated: SimulatedCa = None  # type: ignore[assignment]

    def can(self, resource: str, *answers: Canned) -> None:
        self.simulated.state.mood.canned[resource] = deque(answers)

    def asked(self) -> Counter[str]:
        return Counter(self.simulated.requests)


@contextmanager
def simulated_world(folder: Path) -> Iterator[SimulatedWorld]:
    http_port, https_port, dns_port, api_port = free_ports(4)
    program = folder / "web-server"
    program.write_text(f'#!/bin/sh\nexec "{sys.executable}" -SE {ASK} {forked.server()} inkstamp.standins.web "$@"\n')
    program.chmod(0o755)
    web = write_nginx(folder / "web", http_port, https_port, str(program))
    server = [sys.executable, "-m", "inkstamp.standins.web", *web.command()[1:]]
    web.sites_file(f"server {{ listen 127.0.0.1:{http_port}; server_name first.test; root {folder}; }}", "0")
    with ExitStack() as stack:
        nameserver = stack.enter_context(Nameserver(dns_port, {}))
        ca = stack.enter_context(SimulatedCa(api_port, folder / "ca", dns_port=dns_port, http_port=http_port))
        stack.enter_context(running(server, folder / "web.log", http_port))
        config, home = write_config(folder, web, dns_port)
        (folder / "roots.pem").write_bytes(ca.state.hierarchy.roots_file.read_bytes())
        trust = ca.state.hierarchy.api_root_file
        made = SimulatedWorld(
            folder, web, nameserver, ca.directory_url, ca.state, trust, config, home, simulated=ca
        )  # fmt: skip
        made.add_authority()
        made.site("rowing", [NAME])
        ca.requests.clear()
        yield made
