"""The simulated world on loopback: two CAs, nameserver, web server, an old host, and an inkstamp.toml for them."""

import json
import os
import subprocess
import sys
import time
from collections.abc import Iterator, Mapping
from contextlib import ExitStack, closing, contextmanager
from dataclasses import dataclass
from datetime import timedelta
from pathlib import Path
from threading import Thread
from urllib.parse import urlencode

from inkstamp.demo.children import Children
from inkstamp.demo.scenario import HERE, NEW_SITES, OLD_HOST, SITES, DemoSite
from inkstamp.errors import InkStampError, UsageError
from inkstamp.files import write_bytes
from inkstamp.kept_connections import HttpReply, KeptConnections
from inkstamp.reach.local import find_program
from inkstamp.standins.ca import SimulatedCa
from inkstamp.standins.hierarchy import self_signed
from inkstamp.standins.nameserver import Nameserver
from inkstamp.standins.portal import SimulatedPortal
from inkstamp.standins.ports import free_ports
from inkstamp.standins.quiet import QuietHandler, QuietServer
from inkstamp.transport import client_context
from inkstamp.urls import web_url

_GROUP = """
[group.web]                     # what the certificates of the roster have in common
authority = "quayside"
via = "front"
install = ["front"]
"""
_PORTS = ("http", "https", "dns", "api", "portal")
_MOST_DOWNLOADED = 1_048_576
_START_SECONDS = 10.0


@dataclass(frozen=True, slots=True)
class DemoWorld:
    """A running world."""

    folder: Path
    config: Path
    ca: SimulatedCa
    portal: SimulatedPortal
    nameserver: Nameserver
    web: str
    """Which web server it is, in words."""

    @property
    def known(self) -> dict[str, object]:
        """What the scenario's commands have placeholders for."""
        return {
            "directory": self.ca.directory_url,
            "trust": self.trust,
            "portal": self.portal.url,
            "download": self.download,
        }

    @property
    def trust(self) -> Path:
        """The root of the CA's API."""
        return self.ca.state.hierarchy.api_root_file

    @property
    def download(self) -> Path:
        """Where the person's browser puts what the portal hands out."""
        return self.folder / "download.zip"

    def _newest_request(self) -> Path:
        """Return the request that is to be pasted: what `order` has shown."""
        return max((self.folder / "home" / "orders").glob("*/request.pem"), key=lambda file: int(file.parent.name))

    def _portal_order(self) -> int:
        return self.portal.state.orders()[0].number

    def _browse(self, method: str, url: str, form: Mapping[str, str]) -> HttpReply:
        """Ask for a page of the portal, or send a form, as a person does in a browser."""
        browser = KeptConnections(
            client_context(None, "the CA"), connect_seconds=_START_SECONDS, read_seconds=_START_SECONDS
        )
        headers = {"Content-Type": "application/x-www-form-urlencoded"} if form else {}
        with closing(browser):
            return browser.request(method, web_url(url), urlencode(form).encode() or None, headers, _MOST_DOWNLOADED)

    def _at_portal(self, page: str, **form: str) -> None:
        """Fill a form in and send it."""
        reply = self._browse("POST", f"{self.portal.url}/{page}", form)
        if reply.status != 303:
            raise InkStampError("the demo's portal refuses", where=page, said=reply.body.decode("utf-8", "replace"))

    def _move_in(self) -> None:
        """Have the web server serve the new sites, and write down what their certificates have in common."""
        told = json.loads((self.folder / "world" / "world.json").read_bytes())
        web = self.folder / "web"
        for site in NEW_SITES:
            write_site(web, site, told["ports"])
        main_file = web / "nginx.conf"
        subprocess.run(
            [told["program"], "-p", str(web), "-c", str(main_file), "-s", "reload"], capture_output=True, check=True
        )
        with self.config.open("a", encoding="utf-8") as file:
            file.write(_GROUP)

    def prepare(self, what: str) -> None:
        """Change the world between two acts."""
        if what == "fix-dns":
            self.nameserver.table["museum.saltmarsh.test"] = [HERE]
            (self.folder / "world" / "dns-fixed").touch()
        elif what == "age-bakery":
            self.ca.state.mood.aged["bakery.saltmarsh.test"] = timedelta(days=63)
        elif what == "paste-at-fogbell":
            self._at_portal("new", csr=self._newest_request().read_text())
            self._at_portal(f"order/{self._portal_order()}/method", method="file")
        elif what == "fogbell-issues":
            self._at_portal(f"order/{self._portal_order()}/check")
            url = f"{self.portal.url}/order/{self._portal_order()}/download.zip"
            write_bytes(self.download, self._browse("GET", url, {}).body)
        elif what == "new-sites":
            self._move_in()
        elif what:
            raise ValueError(f"the scenario asks for “{what}”, which the world cannot do")


def web_program(folder: Path) -> tuple[str, str]:
    """Return the web server's program and what it is: nginx if it is installed, else the stand-in."""
    found = find_program("nginx")
    if found:
        version = subprocess.run([found, "-v"], capture_output=True, text=True, check=False)
        return found, (version.stderr or version.stdout).strip().rpartition(" ")[2]
    script = folder / "world" / "web-server"
    write_bytes(script, f'#!/bin/sh\nexec "{sys.executable}" -m inkstamp.standins.web "$@"\n'.encode(), mode=0o755)
    return str(script), "the simulated web server (nginx is not installed)"


def build(folder: Path) -> None:
    """Write the world's files into an empty folder: sites, web server configuration, inkstamp.toml.

    Raises:
        UsageError: The folder holds something already.

    """
    folder.mkdir(parents=True, exist_ok=True)
    if any(folder.iterdir()):
        raise UsageError(f"{folder} is not empty", where=str(folder), advice="name a folder that is empty or new")
    web = folder / "web"
    (web / "sites").mkdir(parents=True)
    (folder / "world").mkdir()
    ports = dict(zip(_PORTS, free_ports(len(_PORTS)), strict=True))
    program, said = web_program(folder)
    write_bytes(folder / "world" / "world.json", json.dumps({"ports": ports, "program": program, "web": said}).encode())
    write_bytes(web / "nginx.conf", main_file(web).encode())
    for site in SITES:
        write_site(web, site, ports)
    write_bytes(folder / "inkstamp.toml", _configuration(web, program, ports).encode(), mode=0o600)


def main_file(web: Path) -> str:
    """Return a web server's main configuration file, which takes in all sites beside it."""
    user = "user root;\n" if os.geteuid() == 0 else ""
    temporary = "".join(
        f'    {kind}_temp_path "{web}/{kind}.parts";\n' for kind in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")
    )
    return (
        f"# The web server of Saltmarsh Hosting (simulated world)\n{user}worker_processes 1;\n"
        f'pid "{web}/web.pid";\nerror_log "{web}/error.log";\nevents {{ worker_connections 64; }}\n\n'
        f"http {{\n    access_log off;\n{temporary}    include sites/*.conf;\n}}\n"
    )


def write_site(web: Path, site: DemoSite, ports: dict[str, int], address: str = HERE) -> None:
    """Have a web server serve a site on an address, by plain HTTP or with the certificate that it came with."""
    root = web / "www" / site.label
    root.mkdir(parents=True)
    write_bytes(root / "index.html", f"<!doctype html><title>{site.title}</title><h1>{site.title}</h1>\n".encode())
    tls = ""
    if site.old_certificate:
        certificate, key = self_signed(site.names[0], timedelta(days=365), age=timedelta(days=361))
        write_bytes(web / f"{site.label}-old.pem", certificate)
        write_bytes(web / f"{site.label}-old.key", key, mode=0o600)
        tls = (
            f"    listen {address}:{ports['https']} ssl;\n    ssl_certificate {site.label}-old.pem;\n"
            f"    ssl_certificate_key {site.label}-old.key;\n"
        )
    text = (
        f"# {site.title}\nserver {{\n    listen {address}:{ports['http']};\n{tls}"
        f'    server_name {" ".join(site.names)};\n    root "{root}";\n}}\n'
    )
    write_bytes(web / "sites" / f"{site.label}.conf", text.encode())


def _configuration(web: Path, program: str, ports: dict[str, int]) -> str:
    prefix = os.path.relpath(web, web.parent)
    return f"""\
# Ink Stamp at Saltmarsh Hosting. Paths are relative to this file.
home = "home"

[server.front]                  # the web server that all sites are on
kind = "nginx"
program = "{program}"
main_file = "{prefix}/nginx.conf"
prefix = "{prefix}"

[view]                          # how the public sees this simulated world
resolver = "{HERE}:{ports["dns"]}"
http_port = {ports["http"]}
https_port = {ports["https"]}
roots = "world/public-roots.pem"
"""


class _OldHost(QuietHandler):
    def do_GET(self) -> None:  # noqa: N802  the base class wants it so
        self.send(404, b"<h1>Here was the Museum of Tides</h1>\n", "text/html")


@contextmanager
def _old_host(port: int) -> Iterator[None]:
    server = QuietServer((OLD_HOST, port), _OldHost)
    Thread(target=server.serve_forever, kwargs={"poll_interval": 0.05}, daemon=True).start()
    try:
        yield
    finally:
        server.shutdown()
        server.server_close()


@contextmanager
def _web_server(folder: Path, program: str, children: Children) -> Iterator[None]:
    """Run the web server as a child; it is ended before the block is left."""
    try:
        start_web_server(folder / "web", program, folder / "world" / "web.log", children)
        yield
    finally:
        children.stop()


def start_web_server(web: Path, program: str, log_file: Path, children: Children) -> None:
    """Start a web server as a child; InkStampError when it does not come up."""
    command = [program, "-p", str(web), "-c", str(web / "nginx.conf")]
    if not program.endswith("web-server"):
        command += ["-g", "daemon off;"]
    with log_file.open("wb") as log:
        process = children.start(command, stdout=log, stderr=log)
    deadline = time.monotonic() + _START_SECONDS
    while not (web / "web.pid").exists() or not (web / "web.pid").read_text().strip():
        if process.poll() is not None or time.monotonic() > deadline:
            raise InkStampError(
                "the demo's web server does not start", where=str(log_file), said=log_file.read_text()[-1000:]
            )
        time.sleep(0.02)


@contextmanager
def running(folder: Path, children: Children) -> Iterator[DemoWorld]:
    """Bring up the world that `build` wrote into `folder`, and take it down again.

    Raises:
        UsageError: The folder holds no such world.

    """
    listing = folder / "world" / "world.json"
    if not listing.is_file():
        raise UsageError(
            f"{folder} holds no world of the demo", where=str(listing), advice="make one: inkstamp demo --keep DIR"
        )
    told = json.loads(listing.read_bytes())
    ports = told["ports"]
    museum = HERE if (folder / "world" / "dns-fixed").exists() else OLD_HOST
    table = {name: [HERE] for site in (*SITES, *NEW_SITES) for name in site.names} | {"museum.saltmarsh.test": [museum]}
    try:
        with ExitStack() as stack:
            nameserver = stack.enter_context(Nameserver(ports["dns"], table))
            ca = stack.enter_context(
                SimulatedCa(ports["api"], folder / "world", dns_port=ports["dns"], http_port=ports["http"])
            )
            portal = stack.enter_context(
                SimulatedPortal(
                    ports["portal"], folder / "world" / "fogbell", dns_port=ports["dns"], http_port=ports["http"]
                )
            )
            roots = [ca.state.hierarchy.roots_file, portal.state.hierarchy.roots_file]
            write_bytes(folder / "world" / "public-roots.pem", b"".join(file.read_bytes() for file in roots))
            stack.enter_context(_old_host(ports["http"]))
            stack.enter_context(_web_server(folder, told["program"], children))
            yield DemoWorld(folder, folder / "inkstamp.toml", ca, portal, nameserver, told["web"])
    except OSError as error:
        raise InkStampError(
            "the demo's world does not come up",
            where=str(folder),
            said=str(error),
            advice="if it is up already in another terminal, use that one",
        ) from error
