"""The demo of many machines: two that order, three web servers, one ledger in a real PostgreSQL, and a worker dies."""

import base64
import os
import shlex
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from inkstamp.demo.children import Children
from inkstamp.demo.database import DemoDatabase, database_server, find_programs
from inkstamp.demo.scenario import HERE, NEW_SITES, SITES, DemoSite
from inkstamp.demo.show import Say, went_wrong
from inkstamp.demo.world import main_file, start_web_server, web_program, write_site
from inkstamp.errors import InkStampError
from inkstamp.files import write_bytes
from inkstamp.standins.ca import SimulatedCa
from inkstamp.standins.nameserver import Nameserver
from inkstamp.standins.ports import free_ports

_WORKERS = ("ops1", "ops2")
_NODES = {"web1": "127.0.0.11", "web2": "127.0.0.12", "web3": "127.0.0.13"}
_HOSTED: tuple[DemoSite, ...] = (SITES[0], SITES[2], *NEW_SITES[:2])
_LEASE_SECONDS = 5
_PATIENCE = 60.0
_PORTS = ("http", "https", "dns", "api")


@dataclass(frozen=True, slots=True)
class DemoFleet:
    """The machines, each a folder, and what they share."""

    folder: Path
    database: DemoDatabase
    ca: SimulatedCa
    children: Children
    say: Say

    def environment(self, machine: str) -> dict[str, str]:
        """Return what a command sees that is run on a machine."""
        known = {name: value for name, value in os.environ.items() if not name.startswith(("INKSTAMP_", "PG"))}
        config = self.folder / machine / "inkstamp.toml"
        return {**known, "COLUMNS": "80", "PGUSER": machine, "INKSTAMP_CONFIG": str(config)}

    def begin(self, machine: str, command: str, **options: Any) -> "subprocess.Popen[str]":
        """Begin a command on a machine."""
        arguments = [sys.executable, "-m", "inkstamp", *shlex.split(command)[1:]]
        return self.children.start(arguments, env=self.environment(machine), text=True, **options)

    def run(self, machine: str, command: str, before: str = "") -> None:
        """Show a command on a machine and what it answers; InkStampError where it failed."""
        if before:
            self.say("narrator", before)
        self.say(f"at {machine}", command)
        self.say("answer", self.do(machine, command))

    def do(self, machine: str, command: str) -> str:
        """Run a command on a machine; returns what it answers. InkStampError where it failed."""
        process = self.begin(machine, command, stdout=subprocess.PIPE, stderr=subprocess.STDOUT)
        answer = str(process.communicate()[0])
        if process.returncode:
            what = f"the demo's command ended with {process.returncode} instead of 0"
            raise went_wrong(what, f"{command} on {machine}", answer)
        return answer

    def administer(self, command: str, before: str) -> None:
        """Show what the database's administrator types, and do it."""
        self.say("narrator", before)
        self.say("at db", command)
        program, *arguments = shlex.split(command)
        if program == "inkstamp":
            environment = {**self.environment("ops1"), "PGUSER": "postgres"}
            typed = [sys.executable, "-m", "inkstamp", *arguments]
        else:
            environment = {**os.environ, **self.database.environment}
            typed = [self.database.programs[program], *arguments]
        done = subprocess.run(typed, env=environment, check=False, capture_output=True, text=True)
        self.say("answer", done.stdout)
        if done.returncode:
            raise InkStampError("the demo's database refuses", where=command, said=done.stderr)


def play_fleet(say: Say) -> None:
    """Build the machines, show what they do together, take them down and remove all.

    Raises:
        UsageError: PostgreSQL or its driver is not installed.
        InkStampError: Something does not come up, or ended otherwise than it should.

    """
    find_programs()
    with (
        Children() as children,
        tempfile.TemporaryDirectory(prefix="inkstamp-demo-") as folder,
        database_server(children) as database,
        _machines(Path(folder), database, children, say) as fleet,
    ):
        say(
            "narrator",
            f"Saltmarsh Hosting has outgrown one machine: {len(_HOSTED)} certificates on three web servers, web1 to"
            " web3, which answer at an address each; ops1 and ops2 order them. All have the same configuration file,"
            f" and share a ledger in PostgreSQL. The CA and DNS are simulated. All is on loopback, in {folder}.",
        )
        _set_up(fleet)
        _order_and_die(fleet)
        _roll_out(fleet)


@contextmanager
def _machines(folder: Path, database: DemoDatabase, children: Children, say: Say) -> Iterator[DemoFleet]:
    ports = dict(zip(_PORTS, free_ports(len(_PORTS)), strict=True))
    (folder / "world").mkdir()
    program, _ = web_program(folder)
    seals = f"first {base64.b64encode(os.urandom(32)).decode()}\n".encode()
    for name in (*_WORKERS, *_NODES):
        (folder / name / "web" / "sites").mkdir(parents=True)
        write_bytes(folder / name / "seal.keys", seals, mode=0o600)
        text = _configuration(folder, name, database, program, ports)
        write_bytes(folder / name / "inkstamp.toml", text.encode(), mode=0o600)
    table = {name: list(_NODES.values()) for site in _HOSTED for name in site.names}
    with ExitStack() as stack:
        stack.enter_context(Nameserver(ports["dns"], table))
        ca = stack.enter_context(
            SimulatedCa(ports["api"], folder / "world", dns_port=ports["dns"], http_port=ports["http"])
        )
        write_bytes(folder / "world" / "public-roots.pem", ca.state.hierarchy.roots_file.read_bytes())
        for name, address in _NODES.items():
            web = folder / name / "web"
            write_bytes(web / "nginx.conf", main_file(web).encode())
            for site in _HOSTED:
                write_site(web, site, ports, address)
            start_web_server(web, program, folder / name / "web.log", children)
        yield DemoFleet(folder, database, ca, children, say)


def _configuration(folder: Path, machine: str, database: DemoDatabase, program: str, ports: dict[str, int]) -> str:
    certificates = "".join(
        f"\n[certificate.{site.label}]\nnames = [{', '.join(f'{name!r}' for name in site.names)}]\n"
        'authority = "quayside"\nvia = "front"\ninstall = ["front"]\nrollout = ["web1", 2]\n'
        for site in _HOSTED
    )
    return f"""\
# Ink Stamp at Saltmarsh Hosting: the same file on all machines, but for their names.
home = "home"

[machine]
name = "{machine}"

[ledger]
database = "{database.url("inkstamp")}"
seal_key_file = "seal.keys"
workers = ["ops*"]              # who orders; the others install
lease_seconds = {_LEASE_SECONDS}

[server.front]
kind = "nginx"
machines = ["web*"]             # every machine with such a name has this server
standing = true                 # and answers http-01 challenges by itself
program = "{program}"
main_file = "web/nginx.conf"
prefix = "web"

[view]                          # how the public sees this simulated world
resolver = "{HERE}:{ports["dns"]}"
http_port = {ports["http"]}
https_port = {ports["https"]}
roots = "{folder}/world/public-roots.pem"

[authority.quayside]
directory = "https://localhost:{ports["api"]}/directory"
email = "certs@saltmarsh.test"
agree_terms = true
trust = "{folder}/world/quayside-api-root.pem"
at_once = 1
{certificates}"""


def _set_up(fleet: DemoFleet) -> None:
    fleet.administer("createdb inkstamp", "The database's administrator makes a database,")
    fleet.administer("inkstamp ledger init", "Ink Stamp makes its tables and two roles in it,")
    roles = [
        f"-c 'CREATE ROLE \"{name}\" LOGIN IN ROLE {role}'"
        for names, role in ((_WORKERS, "inkstamp_worker"), (_NODES, "inkstamp_node"))
        for name in names
    ]
    fleet.administer(
        " ".join(["psql -q inkstamp", *roles]),
        "and each machine gets a login. A node sees what is installed on it, and nothing else.",
    )
    fleet.run("ops1", "inkstamp authority add quayside", "An account with the CA; its key is sealed, and kept there.")
    appear, answer = "inkstamp renew", "inkstamp prove --standing front --authority quayside --yes"
    fleet.run("web1", appear, "Each web server appears in the ledger,")
    fleet.run("web1", answer, "and answers challenges for that account by itself, whichever machine orders.")
    fleet.say("narrator", "(The same on web2 and web3.)")
    for name in ("web2", "web3"):
        fleet.do(name, appear)
        fleet.do(name, answer)


def _order_and_die(fleet: DemoFleet) -> None:
    say = fleet.say
    say("narrator", "From now on the web servers listen for new editions: inkstamp schedule --keep-running.")
    for name in _NODES:
        with (fleet.folder / name / "output").open("wb") as out:
            fleet.begin(name, "inkstamp schedule --keep-running", stdout=out, stderr=out)
    say("narrator", "ops1 orders all that is due. In the middle of the third order its power fails (SIGKILL).")
    say("at ops1", "inkstamp renew")
    process = fleet.begin("ops1", "inkstamp renew", stdout=subprocess.PIPE, stderr=subprocess.STDOUT)
    _await(lambda: len(fleet.ca.state.orders) >= 3, "the third order")
    process.send_signal(signal.SIGKILL)
    say("answer", process.communicate()[0])
    say("answer", "Killed\n")
    time.sleep(_LEASE_SECONDS + 0.5)
    fleet.run(
        "ops2", "inkstamp renew",
        f"What ops1 was at is its own for {_LEASE_SECONDS} s yet (60, unless configured). Then ops2 goes on, with the"
        " same order and the same key.",
    )  # fmt: skip
    issued = sum(1 for name in fleet.ca.requests if name == "finalize")
    if (len(fleet.ca.state.orders), issued) != (len(_HOSTED), len(_HOSTED)):
        raise went_wrong(f"the CA counts {len(fleet.ca.state.orders)} orders and {issued} certificates")
    say("narrator", f"Quayside counts {len(_HOSTED)} orders and {issued} certificates: nothing was ordered twice.")
    for name in _NODES:
        output = fleet.folder / name / "output"
        _await(lambda output=output: output.read_text().count(": edition 1 on front") >= len(_HOSTED), f"{name}")  # type: ignore[misc]
    fleet.run("ops2", "inkstamp machines", "The web servers have installed them meanwhile.")
    fleet.run("ops2", "inkstamp check rowing", "What does the public see, at each of the three?")


def _roll_out(fleet: DemoFleet) -> None:
    with (fleet.folder / "ops2" / "output").open("wb") as out:
        fleet.begin("ops2", "inkstamp schedule --keep-running", stdout=out, stderr=out)
    fleet.run(
        "ops1", "inkstamp stamp rowing --reissue",
        "ops1 is back. A new edition goes to web1 first, and to the others when it is served well there.",
    )  # fmt: skip
    fleet.run("ops1", "inkstamp status")
    _await(lambda: not _under_way(fleet), "the roll-out")
    fleet.run("ops1", "inkstamp history rowing", "Some seconds later.")
    fleet.run("ops1", "inkstamp ledger verify", "Does each sealed file open, and belong to its edition?")


def _under_way(fleet: DemoFleet) -> bool:
    return "no edition is being rolled out" not in fleet.do("ops1", "inkstamp machines rollout")


def _await(condition: Callable[[], bool], what: str) -> None:
    deadline = time.monotonic() + _PATIENCE
    while not condition():
        if time.monotonic() > deadline:
            raise went_wrong(f"the demo waited in vain for {what}")
        time.sleep(0.05)
