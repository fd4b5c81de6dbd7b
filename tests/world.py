"""What tests stand on: real servers started on free loopback ports, and the built `inkstamp` run on files."""

import http.client
import json
import os
import re
import shutil
import signal
import socket
import ssl
import subprocess
import sys
import time
import urllib.request
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import forked
import psutil
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from inkstamp.standins.nameserver import Nameserver
from inkstamp.standins.ports import free_ports
from inkstamp.view.handshake import shake_hands

NAMES = ("rowing.saltmarsh.test", "www.rowing.saltmarsh.test")


@dataclass
class Ran:
    """What a run of `inkstamp` answered."""

    status: int
    out: str
    err: str

    @property
    def flat(self) -> str:
        """All that was said, on one line."""
        return re.sub(r"\s+", " ", self.out + self.err)

    @property
    def json(self) -> Any:
        return json.loads(self.out)


def make_tls_pair(folder: Path, name: str, *, days: int = 30, started: int = 1) -> tuple[Path, Path]:
    """Write a self-signed certificate for `name`; returns certificate and key file."""
    key = ec.generate_private_key(ec.SECP256R1())
    now = datetime.now(UTC)
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
    certificate = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(subject)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(days=started))
        .not_valid_after(now + timedelta(days=days))
        .add_extension(x509.SubjectAlternativeName([x509.DNSName(name)]), critical=False)
        .add_extension(x509.BasicConstraints(ca=True, path_length=None), critical=True)
        .sign(key, hashes.SHA256())
    )
    cert_file, key_file = folder / f"{name}.pem", folder / f"{name}.key"
    cert_file.write_bytes(certificate.public_bytes(serialization.Encoding.PEM))
    key_file.write_bytes(
        key.private_bytes(serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption())
    )
    return cert_file, key_file


def wait_for_port(
    port: int, process: subprocess.Popen[bytes] | None, log: Path, address: str = "127.0.0.1", seconds: float = 20
) -> None:
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        if process is not None and process.poll() is not None:
            raise RuntimeError(f"ended at once: {log.read_text()[-2000:]}")
        with socket.socket(socket.AF_INET6 if ":" in address else socket.AF_INET) as probe:
            if probe.connect_ex((address, port)) == 0:
                return
        time.sleep(0.02)
    raise RuntimeError(f"nothing listens on {port}: {log.read_text()[-2000:]}")


def wait_for_file(path: Path) -> None:
    deadline = time.monotonic() + 20
    while not path.exists() or not path.read_bytes():
        assert time.monotonic() < deadline, f"{path} is not written"
        time.sleep(0.01)


def wait_for_page(name: str, port: int, wanted: str) -> None:
    """Wait until a reload has taken effect everywhere: the workers of before answer for a moment yet."""
    deadline, seen = time.monotonic() + 20, 0
    while seen < 3:
        connection = http.client.HTTPConnection("127.0.0.1", port, timeout=5)
        connection.request("GET", "/index.html", headers={"Host": name})
        seen = seen + 1 if wanted in connection.getresponse().read().decode() else 0
        connection.close()
        assert time.monotonic() < deadline, f"the site of {name} does not come up"
        time.sleep(0 if seen else 0.02)


def wait_for_certificate(address: str, port: int, name: str, wanted: bytes) -> None:
    """Wait until a handshake shows that certificate (DER): the workers of before answer for a moment yet."""
    deadline, seen = time.monotonic() + 20, b""
    while seen != wanted:
        assert time.monotonic() < deadline, f"another certificate is served for {name}"
        chain = shake_hands(address, port, name).chain
        seen = chain[0].public_bytes(serialization.Encoding.DER) if chain else b""


@contextmanager
def running(
    command: Sequence[str],
    log: Path,
    port: int,
    env: dict[str, str] | None = None,
    address: str = "127.0.0.1",
    seconds: float = 20,
) -> Iterator[subprocess.Popen[bytes]]:
    """Run a server, wait until it listens, stop it by its process id."""
    with log.open("wb") as out:
        process = subprocess.Popen(
            list(command), stdout=out, stderr=out, stdin=subprocess.DEVNULL, env={**os.environ, **(env or {})}
        )
    try:
        wait_for_port(port, process, log, address, seconds)
        yield process
    finally:
        process.send_signal(signal.SIGTERM)
        try:
            process.wait(5)
        except subprocess.TimeoutExpired:
            process.kill()
            process.wait()


def find_program(name: str) -> str:
    """Return a server's program; its absence is a failure, never a skip."""
    found = shutil.which(name, path=os.environ.get("PATH", "") + ":/usr/sbin")
    assert found, f"{name} is not installed: run the README's test command, which installs it"
    return found


_TAKING_BACK = {"undo", "harden", "prove", "remove"}
"""Commands that may end when a server was told to reload: what is to be served after it they cannot always know."""


@dataclass
class Nginx:
    """A real nginx with its own prefix, or what takes its place."""

    folder: Path
    main_file: Path
    program: str
    http_port: int
    https_port: int

    def sites_file(self, text: str, name: str = "sites") -> Path:
        file = self.folder / "sites" / f"{name}.conf"
        file.write_text(text)
        return file

    def command(self, *arguments: str) -> list[str]:
        return [self.program, "-p", str(self.folder), "-c", str(self.main_file), *arguments]

    def workers(self) -> set[int]:
        """Return its workers by process id; none of what takes its place."""
        pid = self.folder / "nginx.pid"
        return {each.pid for each in psutil.Process(int(pid.read_text())).children()} if pid.exists() else set()

    def settle(self, before: set[int], began: float) -> None:
        """Wait until workers of before answer no more, where a file of its sites was changed since a moment."""
        changed = any(each.stat().st_mtime >= began for each in (self.folder / "sites").glob("*"))
        deadline = time.monotonic() + 5
        while changed and before & self.workers() and time.monotonic() < deadline:
            time.sleep(0.02)

    def reload(self) -> None:
        """Have it take its configuration, and wait until no worker of before answers any more."""
        wait_for_file(self.folder / "nginx.pid")  # which it writes after it listens
        master = psutil.Process(int((self.folder / "nginx.pid").read_text()))
        before, deadline = {each.pid for each in master.children()}, time.monotonic() + 10
        subprocess.run(self.command("-s", "reload"), check=True, capture_output=True)
        while before & {each.pid for each in master.children()}:
            assert time.monotonic() < deadline, "a worker of before the reload does not go away"
            time.sleep(0.02)


def plain_site(names: Sequence[str], port: int, root: Path, more: str = "") -> str:
    return (
        f"# the site of {names[0]}\nserver {{\n    listen 127.0.0.1:{port};  # plain\n"
        f"    server_name {' '.join(names)};\n    root {root};\n{more}}}\n"
    )


def write_nginx(folder: Path, http_port: int, https_port: int, program: str | None = None) -> Nginx:
    (folder / "sites").mkdir(parents=True)
    main_file = folder / "nginx.conf"
    as_root = "user root;\n" if os.geteuid() == 0 else ""
    temps = "".join(
        f"    {kind}_temp_path {folder}/tmp_{kind};\n" for kind in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")
    )
    main_file.write_text(
        f"{as_root}worker_processes 1;\npid {folder}/nginx.pid;\nerror_log {folder}/error.log;\n"
        f"events {{ worker_connections 256; }}\n"
        f"http {{\n    access_log {folder}/access.log;\n{temps}    include sites/*.conf;\n}}\n"
    )
    return Nginx(folder, main_file, program or find_program("nginx"), http_port, https_port)


@dataclass
class World:
    """A CA, a nameserver and an nginx on loopback, and an inkstamp.toml that knows them."""

    folder: Path
    nginx: Nginx
    nameserver: Nameserver
    directory: str
    ca: Any
    trust: Path
    config: Path
    home: Path
    env: dict[str, str] = field(default_factory=dict)

    def site(self, name: str, names: Sequence[str] = NAMES, more: str = "", address: str = "127.0.0.1") -> Path:
        """Add a plain site to nginx and its names to DNS; returns its document root."""
        root = self.folder / "www" / name
        root.mkdir(parents=True, exist_ok=True)
        (root / "index.html").write_text(f"<h1>{name}</h1>\n")
        self.nginx.sites_file(plain_site(names, self.nginx.http_port, root, more), name)
        for each in names:
            self.nameserver.table[each] = [address]
        self.nginx.reload()
        if names:
            wait_for_page(names[0], self.nginx.http_port, f"<h1>{name}</h1>")
        return root

    def run(
        self, *arguments: str, env: dict[str, str] | None = None, timeout: float = 120, program: str = "",
        data: str = "",
    ) -> Ran:  # fmt: skip
        """Run the built program as a user does, with `data` on standard input, or a Python script that runs it."""
        given = {**os.environ, "INKSTAMP_CONFIG": str(self.config), **self.env, **(env or {})}
        takes_back = bool(arguments) and arguments[0] in _TAKING_BACK
        before, began = self.nginx.workers() if takes_back else set(), time.time()
        command = [program or inkstamp_program(), *arguments]
        done = forked.run(command, given, timeout=timeout, script=bool(program), data=data.encode())
        if takes_back and done.returncode == 0:
            self.nginx.settle(before, began)
        return Ran(done.returncode, done.stdout, done.stderr)

    def edition(self, certificate: str, number: int) -> bytes:
        """The leaf (DER) of an edition on the shelf."""
        pem = (self.home / "shelf" / certificate / f"{number:04d}" / "leaf.pem").read_bytes()
        return x509.load_pem_x509_certificate(pem).public_bytes(serialization.Encoding.DER)

    def stamp_in_vain(self, name: str) -> Ran:
        """Order a certificate whose proof will not be seen.

        One time in a hundred the CA does not ask for a proof, since it remembers an earlier one, whatever it is told.
        """
        for _ in range(4):
            done = self.run("stamp", name, "--reissue")
            if done.status != 0:
                break
        return done

    def add_authority(self) -> None:
        done = self.run(
            "authority",
            "add",
            "quayside",
            "--directory",
            self.directory,
            "--email",
            "certs@saltmarsh.test",
            "--agree-terms",
            "--trust",
            str(self.trust),
        )
        assert done.status == 0, done.err

    def served(self, name: str, port: int | None = None) -> bytes:
        """Return the leaf (DER) that the live port serves, seen with the standard library alone."""
        context = ssl.create_default_context()
        context.check_hostname = False
        context.verify_mode = ssl.CERT_NONE
        with (
            socket.create_connection(("127.0.0.1", port or self.nginx.https_port), timeout=5) as plain,
            context.wrap_socket(plain, server_hostname=name) as tls,
        ):
            der = tls.getpeercert(binary_form=True)
        assert der
        return der

    def comes_to_serve(self, name: str, der: bytes) -> bool:
        """Tell whether a leaf is served within seconds: after a reload, workers of before may answer for a moment."""
        deadline = time.monotonic() + 5
        while self.served(name) != der:
            if time.monotonic() > deadline:
                return False
            time.sleep(0.02)
        return True

    def left_behind(self) -> list[str]:
        """Return proofs and partial files that should not be there."""
        found = [str(each) for each in (self.folder / "www").rglob("*") if ".well-known" in str(each)]
        folders = (self.home, self.nginx.folder, self.config.parent)
        return found + [str(each) for folder in folders for each in folder.rglob("*.part")]


def inkstamp_program() -> str:
    program = Path(sys.executable).parent / "inkstamp"
    assert program.exists(), "install the project into this environment first: pip install ."
    return str(program)


def write_config(folder: Path, nginx: Nginx, dns_port: int) -> tuple[Path, Path]:
    config, home = folder / "inkstamp.toml", folder / "home"
    config.write_text(
        f'# kept by hand\nhome = "home"\n\n[server.front]  # the only one\nkind = "nginx"\n'
        f'program = "{nginx.program}"\nmain_file = "{nginx.main_file}"\nprefix = "{nginx.folder}"\n\n'
        f'[view]\nresolver = "127.0.0.1:{dns_port}"\nhttp_port = {nginx.http_port}\n'
        f'https_port = {nginx.https_port}\nroots = "roots.pem"\n'
    )
    return config, home


def fetch(url: str, trust: Path) -> bytes:
    with urllib.request.urlopen(url, context=ssl.create_default_context(cafile=str(trust)), timeout=10) as reply:
        data: bytes = reply.read()
    return data


_CA_PROGRAM = "pebble"
_CA_ENVIRONMENT = {
    "nonces_rejected": "PEBBLE_WFE_NONCEREJECT",
    "authorizations_reused": "PEBBLE_AUTHZREUSE",
    "chain_length": "PEBBLE_CHAIN_LENGTH",
    "alternate_roots": "PEBBLE_ALTERNATE_ROOTS",
    "orders_per_page": "PEBBLE_WFE_ORDERS_PER_PAGE",
    "validates_at_once": "PEBBLE_VA_NOSLEEP",
    "validation_delay": "PEBBLE_VA_SLEEPTIME",
}
"""What a test may set (percent, seconds or numbers), by the variable that Debian's test CA reads."""


class OtherCa:
    """What a test may ask of the real ACME CA beside its API."""

    def __init__(self, management: str, trust: Path, log: Path, process: int) -> None:
        self.process = process
        self.management = management
        self.trust = trust
        self.log = log

    def root(self, number: int = 0) -> bytes:
        return fetch(f"{self.management}/roots/{number}", self.trust)

    def orders(self) -> int:
        """How many orders the CA opened, by its own log."""
        return self.log.read_text().count("Added order")

    def certificates(self) -> int:
        """How many certificates the CA issued, by its own log."""
        return self.log.read_text().count("Issued certificate serial")


@contextmanager
def other_ca(
    folder: Path,
    *,
    http_port: int,
    https_port: int,
    dns_port: int,
    env: dict[str, str],
    settings: Mapping[str, object] | None = None,
    options: Sequence[str] = (),
) -> Iterator[tuple[str, OtherCa]]:
    """Run the real ACME CA, which asks one nameserver for everything; gives its directory's URL."""
    api_port, management_port = free_ports(2)
    cert, key = make_tls_pair(folder, "localhost")
    written = {
        "listenAddress": f"127.0.0.1:{api_port}",
        "managementListenAddress": f"127.0.0.1:{management_port}",
        "certificate": str(cert),
        "privateKey": str(key),
        "httpPort": http_port,
        "tlsPort": https_port,
        "ocspResponderURL": "",
        "externalAccountBindingRequired": False,
        **(settings or {}),
    }
    (folder / "ca.json").write_text(json.dumps({_CA_PROGRAM: written}))
    usual = {"validates_at_once": "1", "nonces_rejected": "5", "authorizations_reused": "0"}
    log = folder / "ca.log"
    command = [find_program(_CA_PROGRAM), "-config", str(folder / "ca.json"), "-dnsserver", f"127.0.0.1:{dns_port}"]
    command += options
    known = {_CA_ENVIRONMENT[name]: value for name, value in {**usual, **env}.items()}
    with running(command, log, api_port, known) as process:
        wait_for_port(management_port, process, log)  # which it opens beside the other, now before it and now after it
        yield (
            f"https://localhost:{api_port}/dir",
            OtherCa(f"https://localhost:{management_port}", cert, log, process.pid),
        )


@contextmanager
def real_world(
    folder: Path,
    *,
    ca_env: dict[str, str] | None = None,
    ca_settings: Mapping[str, object] | None = None,
    ca_options: Sequence[str] = (),
) -> Iterator[World]:
    """Bring up real nginx and a real ACME CA, and take them down again."""
    http_port, https_port, dns_port = free_ports(3)
    nginx = write_nginx(folder / "nginx", http_port, https_port)
    nginx.sites_file(f"server {{ listen 127.0.0.1:{http_port} default_server; return 404; }}\n", "0-default")
    ports = {"http_port": http_port, "https_port": https_port, "dns_port": dns_port}
    with (
        Nameserver(dns_port, {}) as nameserver,
        running(nginx.command("-g", "daemon off;"), folder / "nginx.log", http_port),
        other_ca(folder, env=ca_env or {}, settings=ca_settings, options=ca_options, **ports) as (directory, ca),
    ):
        config, home = write_config(folder, nginx, dns_port)
        (folder / "roots.pem").write_bytes(ca.root())
        yield World(folder, nginx, nameserver, directory, ca, ca.trust, config, home)
