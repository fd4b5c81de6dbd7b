"""Machines that share a ledger in a real PostgreSQL: each a HOME and a configuration of its own, some with an nginx."""

import base64
import os
import subprocess
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field
from pathlib import Path

import forked
from bind_world import BindWorld, bind_world
from postgresql import Cluster, cluster
from world import Nginx, Ran, inkstamp_program, plain_site, running, write_nginx

from inkstamp.standins.ports import free_ports


@dataclass
class Machine:
    """One of them."""

    name: str
    folder: Path
    config: Path
    url: str
    """How it comes to the database."""
    nginx: Nginx | None = None

    @property
    def home(self) -> Path:
        return self.folder / "home"

    def site(self, name: str) -> Path:
        """Have its nginx serve a name by plain HTTP; returns the site's file."""
        assert self.nginx is not None
        file = self.nginx.sites_file(plain_site([name], self.nginx.http_port, self.folder), name)
        self.nginx.reload()
        return file

    def environment(self) -> dict[str, str]:
        return {**os.environ, "INKSTAMP_CONFIG": str(self.config)}

    def run(self, *arguments: str, env: dict[str, str] | None = None, timeout: float = 120) -> Ran:
        """Run the built program as its administrator does."""
        given = {**self.environment(), **(env or {})}
        done = forked.run([inkstamp_program(), *arguments], given, timeout=timeout, data=b"")
        return Ran(done.returncode, done.stdout, done.stderr)

    def begin(self, *arguments: str, env: dict[str, str] | None = None) -> "subprocess.Popen[bytes]":
        """Begin to run it; its output goes into a file of its folder."""
        with (self.folder / "output").open("ab") as out:
            return subprocess.Popen(
                [inkstamp_program(), *arguments], stdin=subprocess.DEVNULL, stdout=out, stderr=out,
                env={**self.environment(), **(env or {})},
            )  # fmt: skip

    def output(self) -> str:
        return (self.folder / "output").read_text()


@dataclass
class FleetWorld:
    """A CA, BIND, PostgreSQL, and machines."""

    world: BindWorld
    postgresql: Cluster
    folder: Path
    url: str
    shared: str
    """What stands in the configuration of all."""
    standby: Cluster | None = None
    machines: dict[str, Machine] = field(default_factory=dict)
    stack: ExitStack = field(default_factory=ExitStack)

    def machine(
        self, name: str, sites: Sequence[str] = (), *, url: str = "", nginx: bool = False, own: Nginx | None = None
    ) -> Machine:
        """Add a machine, with an nginx that serves some names where there are any, or one that is there."""
        folder = self.folder / name
        folder.mkdir()
        made = Machine(name, folder, folder / "inkstamp.toml", url or self.url, own)
        if sites or nginx:
            http_port, https_port = free_ports(2)
            made.nginx = write_nginx(folder / "nginx", http_port, https_port)
            for each in sites:
                made.nginx.sites_file(plain_site([each], http_port, folder), each)
            made.nginx.sites_file(f"server {{ listen 127.0.0.1:{http_port} default_server; return 404; }}\n", "0")
            self.stack.enter_context(running(made.nginx.command("-g", "daemon off;"), folder / "nginx.log", http_port))
        self.machines[name] = made
        self.write(made)
        return made

    def write(self, machine: Machine) -> None:
        """Write a machine's configuration anew."""
        nginx = machine.nginx
        paths = (
            f'program = "{nginx.program}"\nmain_file = "{nginx.main_file}"\nprefix = "{nginx.folder}"\n'
            if nginx is not None else ""
        )  # fmt: skip
        seen = nginx or self.world.nginx
        ports = f"http_port = {seen.http_port}\nhttps_port = {seen.https_port}\n"
        dns = self.world.dns_port
        machine.config.write_text(
            f'home = "home"\n[machine]\nname = "{machine.name}"\n[view]\nresolver = "127.0.0.1:{dns}"\n'
            f'dns_port = {dns}\nroots = "{self.world.folder}/roots.pem"\n{ports}'
            f'[server.front]\nkind = "nginx"\nmachines = ["web*"]\nstanding = true\n{paths}'
            + self.shared.replace(self.url, machine.url)
        )  # fmt: skip

    def configure(self, text: str) -> None:
        """Add to the configuration of all machines."""
        self.shared += text
        for each in self.machines.values():
            self.write(each)

    def certificate(self, name: str, *names: str, install: str = '["front"]') -> None:
        """Configure a certificate on all machines, whose names have an address."""
        told = ", ".join(f'"{each}"' for each in names)
        self.configure(
            f'\n[certificate.{name}]\nauthority = "quayside"\nnames = [{told}]\nvia = "primary"\n'
            f'proof = "dns-01"\ninstall = {install}\n'
        )

    def sql(self, statement: str) -> str:
        return self.postgresql.sql(statement, self.url.rpartition("/")[2])


@contextmanager
def fleet_world(folder: Path, **settings: str) -> Iterator[FleetWorld]:
    """Bring it all up; the ledger is made, and the machine `ops1` has opened the account."""
    with bind_world(folder / "world") as world, cluster(**settings) as server, ExitStack() as stack:
        url = server.database("fleet")
        seals = folder / "seal.keys"
        seals.write_text(f"first {base64.b64encode(os.urandom(32)).decode()}\n")
        seals.chmod(0o600)
        shared = (
            f'[ledger]\ndatabase = "{url}"\nseal_key_file = "{seals}"\nworkers = ["ops*"]\n'
            f'[nameserver.primary]\naddress = "127.0.0.1"\nkey_file = "{world.folder}/primary.tsig"\nseconds = 30\n'
        )
        fleet = FleetWorld(world, server, folder, url, shared, stack=stack)
        first = fleet.machine("ops1")
        done = first.run("ledger", "init")
        assert done.status == 0, done.err
        done = first.run("authority", "add", "quayside", "--directory", world.directory, "--agree-terms", "--trust",
                         str(world.trust))  # fmt: skip
        assert done.status == 0, done.err
        fleet.configure(first.config.read_text().partition("seconds = 30\n")[2])
        yield fleet
