"""A real nginx, a nameserver and the simulated CA with a portal, and the person who sits in front of its pages."""

import re
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path

import urllib3
from cryptography import x509
from world import Ran, World, running, write_config, write_nginx

from inkstamp.standins.nameserver import Nameserver
from inkstamp.standins.portal import SimulatedPortal
from inkstamp.standins.ports import free_ports

NAME = "shop.saltmarsh.test"
RULE = """
path = "/.well-known/pki-validation/fogbell.txt"
lines = ["fogbell-proof={sha256}"]
"""
BLOCK = re.compile(r"-----BEGIN CERTIFICATE REQUEST-----\n.*?-----END CERTIFICATE REQUEST-----\n", re.DOTALL)


@dataclass
class PortalWorld(World):
    """What a browser can do at the portal, beside the world."""

    portal: SimulatedPortal = None  # type: ignore[assignment]
    browser: urllib3.PoolManager = field(default_factory=lambda: urllib3.PoolManager(timeout=10, retries=False))

    def configure(
        self, *, rule: str = RULE, names: tuple[str, ...] = (NAME,), via: str = "front", install: str = '"front"'
    ) -> None:
        """Write the configuration with one certificate from the portal."""
        write_config(self.folder, self.nginx, self.nameserver.port)
        listed = ", ".join(f'"{name}"' for name in names)
        self.config.write_text(
            f'{self.config.read_text()}\n[authority.fogbell]\nkind = "portal"\npage = "{self.portal.url}"\n{rule}\n'
            f'[certificate.shop]\nnames = [{listed}]\nauthority = "fogbell"\nvia = "{via}"\ninstall = [{install}]\n'
        )

    def post(self, page: str, **form: str) -> str:
        """Fill in a form, follow where it leads, and return the text of that page."""
        reply = self.browser.request(
            "POST", f"{self.portal.url}/{page}", fields=form, encode_multipart=False, redirect=False
        )
        if reply.status == 303:
            reply = self.browser.request("GET", self.portal.url + reply.headers["Location"])
        return re.sub(r"<[^>]+>", " ", reply.data.decode())

    def get(self, page: str) -> bytes:
        """Return what the portal gives for a link."""
        reply = self.browser.request("GET", f"{self.portal.url}/{page}")
        assert reply.status == 200, reply.data
        return reply.data

    def paste(self, ran: Ran) -> str:
        """Paste the block that `order` has shown; returns the address of the order at the portal."""
        (block,) = BLOCK.findall(ran.out)
        self.post("new", csr=block)
        return f"order/{self.portal.state.orders()[0].number}"

    def ordered(self, method: str, *arguments: str) -> str:
        """Order, paste and choose a method."""
        page = self.paste(self.run("order", "shop", *arguments))
        self.post(f"{page}/method", method=method)
        return page

    def issued(self, *arguments: str) -> str:
        """Take an order to where the portal has issued; returns its page."""
        page = self.ordered("file", *arguments)
        done = self.run("prove", "shop")
        assert done.status == 0, done.out + done.err
        assert "issued" in self.post(f"{page}/check")
        return page

    def download(self, page: str, name: str = "download.zip") -> Path:
        """Save what the portal hands out, as a browser does."""
        file = self.folder / name
        file.write_bytes(self.get(f"{page}/{name}"))
        return file

    def proofs_state(self) -> list[str]:
        return [each for each in self.left_behind() if ".well-known" in each]


@contextmanager
def portal_world(folder: Path) -> Iterator[PortalWorld]:
    """Bring the world up, with one site that is ready for its certificate."""
    http_port, https_port, dns_port, portal_port = free_ports(4)
    nginx = write_nginx(folder / "nginx", http_port, https_port)
    nginx.sites_file(f"server {{ listen 127.0.0.1:{http_port} default_server; return 404; }}\n", "0-default")
    with (
        Nameserver(dns_port, {}) as nameserver,
        running(nginx.command("-g", "daemon off;"), folder / "nginx.log", http_port),
        SimulatedPortal(portal_port, folder / "portal", dns_port=dns_port, http_port=http_port) as portal,
    ):
        config, home = write_config(folder, nginx, dns_port)
        (folder / "roots.pem").write_bytes(portal.state.hierarchy.roots_file.read_bytes())
        made = PortalWorld(
            folder, nginx, nameserver, "", None, folder / "roots.pem", config, home, portal=portal
        )  # fmt: skip
        made.configure()
        made.site("shop", [NAME])
        yield made


def flat(text: str) -> str:
    return re.sub(r"\s+", " ", text)


def stand(world: PortalWorld) -> tuple[str, str]:
    """The certificate's word in `status` and what to type."""
    ((first),) = world.run("status", "--json").json["certificates"]
    return first["state"], first["next_command"]


def leaf(world: PortalWorld, edition: int) -> x509.Certificate:
    return x509.load_pem_x509_certificate((world.home / "shelf" / "shop" / f"{edition:04d}" / "leaf.pem").read_bytes())
