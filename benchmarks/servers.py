"""Servers: `survey` of a large nginx, and installs on many sites, each beside what the server itself takes.

    python benchmarks/servers.py [SITES]

SITES (5,000) virtual hosts stand in files of ten, each with a certificate, key and chain of its own. Whole processes
are timed; `survey` by the median of five runs, after one that is not counted. Installs are timed on 200 sites of one
running nginx, and on 20 machines behind real SSH servers. Run it with the project installed; nginx and sshd must be
there.
"""

import contextlib
import os
import shutil
import signal
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

sys.path.insert(0, str(Path(__file__).resolve().parent.parent / "tests"))

from more_servers import Counting, ssh_machine
from world import plain_site, running, write_nginx

from inkstamp.clock import SystemClock
from inkstamp.files import private_folder
from inkstamp.home import Home
from inkstamp.ledger.records import EditionRecord, OrderState
from inkstamp.ledger.shelf import EditionFiles, Shelf
from inkstamp.ledger.sqlite import SqliteDatabase
from inkstamp.ledger.store import Ledger
from inkstamp.pki.certificates import facts
from inkstamp.reach.local import LocalHost
from inkstamp.servers.base import Files
from inkstamp.servers.nginx.reading import Folders, hosts, read_configuration
from inkstamp.standins.ports import free_ports

RUNS = 5
PROGRAM = str(Path(sys.executable).parent / "inkstamp")
NGINX = shutil.which("nginx", path=f"{os.environ.get('PATH', '')}:/usr/sbin") or "nginx"
NOW = datetime.now(UTC)
Pair = tuple[x509.Certificate, ec.EllipticCurvePrivateKey]


def signed(name: str, issuer: Pair | None, *, ca: bool, names: Sequence[str] = ()) -> Pair:
    """Make a certificate below `issuer`, a root without one."""
    key = ec.generate_private_key(ec.SECP256R1())
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
    by, signer = (issuer[0].subject, issuer[1]) if issuer else (subject, key)
    covered = [x509.DNSName(each) for each in names or (name, f"www.{name}")]
    builder = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(by)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(NOW - timedelta(days=1))
        .not_valid_after(NOW + timedelta(days=90))
        .add_extension(x509.BasicConstraints(ca=ca, path_length=None), critical=True)
        .add_extension(x509.SubjectAlternativeName(covered), critical=False)
    )
    return builder.sign(signer, hashes.SHA256()), key


def pem(certificate: x509.Certificate) -> bytes:
    """Write a certificate."""
    return certificate.public_bytes(serialization.Encoding.PEM)


def key_pem(key: ec.EllipticCurvePrivateKey) -> bytes:
    """Write a key."""
    return key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )


def block(name: str, folder: Path) -> str:
    """Write a virtual host as they are found in the wild."""
    return f"""
server {{
    listen 127.0.0.1:18080;
    listen 127.0.0.1:18443 ssl;  # since 2019
    server_name {name} www.{name};
    root "{folder}/www/{name}";
    ssl_certificate {folder}/tls/{name}.pem;
    ssl_certificate_key {folder}/tls/{name}.key;
    location / {{ try_files $uri $uri/ /index.php?$args; }}
    location ~ \\.php$ {{ include fastcgi_params; fastcgi_pass unix:/run/php.sock; }}
}}
"""


def write_sites(folder: Path, count: int) -> None:
    """Write the configuration, the certificates, and a configuration of ours."""
    for each in ("sites", "tls", "temp"):
        (folder / each).mkdir()
    root = signed("Benchmark Root", None, ca=True)
    middle = signed("Benchmark Intermediate", root, ca=True)
    for start in range(0, count, 10):
        names = [f"s{number}.saltmarsh.test" for number in range(start, min(start + 10, count))]
        (folder / "sites" / f"{start:06}.conf").write_text("".join(block(name, folder) for name in names))
        for name in names:
            leaf, key = signed(name, middle, ca=False)
            (folder / "tls" / f"{name}.pem").write_bytes(pem(leaf) + pem(middle[0]))
            (folder / "tls" / f"{name}.key").write_bytes(key_pem(key))
            (folder / "tls" / f"{name}.key").chmod(0o600)
    (folder / "roots.pem").write_bytes(pem(root[0]))
    (folder / "fastcgi_params").write_text("".join(f"fastcgi_param  NAME_{n}  $arg_{n};\n" for n in range(25)))
    (folder / "nginx.conf").write_text(
        f"pid {folder}/pid;\nerror_log {folder}/error.log;\nevents {{}}\nhttp {{\n    access_log off;\n"
        f"    client_body_temp_path {folder}/temp;\n    server_names_hash_max_size 65536;\n"
        "    server_names_hash_bucket_size 128;\n    include sites/*.conf;\n}\n"
    )
    (folder / "inkstamp.toml").write_text(
        f'home = "{folder}/home"\n[server.front]\nkind = "nginx"\nprogram = "{NGINX}"\n'
        f'main_file = "{folder}/nginx.conf"\nprefix = "{folder}"\n'
        f'[view]\nhttp_port = 18080\nhttps_port = 18443\nroots = "{folder}/roots.pem"\n'
    )


def timed(command: Sequence[str], runs: int = RUNS) -> tuple[float, float, int]:
    """Run a program; returns median seconds, median CPU seconds, and the peak of its memory in MB."""
    walls, cpus, peak = [], [], 0
    for number in range(runs + 1):
        before = os.times()
        start = time.perf_counter()
        with subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as process:
            _, _, usage = os.wait4(process.pid, 0)
        after = os.times()
        if number:
            walls.append(time.perf_counter() - start)
            cpus.append(after.children_user + after.children_system - before.children_user - before.children_system)
            peak = max(peak, usage.ru_maxrss // 1024)
    return statistics.median(walls), statistics.median(cpus), peak


def survey_table(folder: Path, count: int, runs: int) -> None:
    """Time `survey` beside the server's own dump of its configuration."""
    write_sites(folder, count)
    ours = [PROGRAM, "--config", str(folder / "inkstamp.toml"), "--json", "survey"]
    print(f"{f'{count} virtual hosts in {-(-count // 10)} files':<48}  seconds  CPU s  peak MB")
    rows = {
        "nginx -T": [NGINX, "-T", "-p", str(folder), "-c", str(folder / "nginx.conf")],
        "inkstamp survey, each with certificate and key": ours,
        "inkstamp survey of one name": [*ours, "s1.saltmarsh.test"],
    }
    for label, command in rows.items():
        wall, cpu, peak = timed(command, runs)
        print(f"{label:<48}{wall:9.2f}{cpu:7.2f}{peak:9}", flush=True)
    start = time.perf_counter()
    host = LocalHost()
    files = Files(host)
    found = hosts(read_configuration(Folders(str(folder / "nginx.conf"), str(folder)), files.read, files.glob))
    print(f"{f'reading the configuration alone, {len(found)} hosts':<48}{time.perf_counter() - start:9.2f}")


def shelved(home: Path, name: str, names: Sequence[str]) -> None:
    """Put two editions of a certificate on the shelf of a home, as if a CA had issued them."""
    ledger, shelf = Ledger(SqliteDatabase(private_folder(home) / "ledger.db"), SystemClock()), Shelf(Home(home))
    root = signed("Benchmark Root", None, ca=True)
    for number in (1, 2):
        leaf, key = signed(name, root, ca=False, names=names)
        shelf.put(name, number, EditionFiles(key_pem(key), pem(leaf), [pem(root[0])]))
        known = facts(leaf)
        order = ledger.move_order(ledger.intend_order(name, "quayside", list(names)), OrderState.OPENED)
        edition = EditionRecord(
            certificate=name, number=number, names=known.names, issuer=known.issuer, root="", authority="quayside",
            serial=known.serial, sha256=known.sha256, not_before=known.not_before, not_after=known.not_after,
        )  # fmt: skip
        ledger.add_edition(order, edition, "issued")
    ledger.close()


_ENTRIES = '[authority.quayside]\ndirectory = "https://ca.test/"\nagree_terms = true\n'


def install_table(folder: Path, count: int) -> None:
    """Time one install on many sites of a running nginx, and count how often that was tested and reloaded."""
    http, https = free_ports(2)
    names = [f"s{number}.saltmarsh.test" for number in range(count)]
    nginx = write_nginx(folder / "nginx", http, https)
    for name in names:
        nginx.sites_file(plain_site([name], http, folder), name)
    counting = Counting(folder, nginx.program)
    config = folder / "inkstamp.toml"
    config.write_text(
        f'home = "{folder}/home"\n{_ENTRIES}[server.front]\nkind = "nginx"\nprogram = "{counting.program}"\n'
        f'main_file = "{nginx.main_file}"\nprefix = "{nginx.folder}"\n[certificate.wide]\nauthority = "quayside"\n'
        f'names = ["*.saltmarsh.test"]\nvia = "by-hand"\nproof = "dns-01"\ninstall = ["front"]\n'
        f"[view]\nhttp_port = {http}\nhttps_port = {https}\n"
    )
    shelved(folder / "home", "wide", ["*.saltmarsh.test"])
    print(f"\n{f'a wildcard on {count} sites of one nginx':<48}  seconds  tests  reloads")
    with running(nginx.command("-g", "daemon off;"), folder / "log", http):
        start = time.perf_counter()
        for more in (["-t"], ["-s", "reload"]):
            subprocess.run(nginx.command(*more), check=True, capture_output=True)
        print(f"{'nginx -t and nginx -s reload by hand':<48}{time.perf_counter() - start:9.2f}{1:7}{1:9}")
        for label, number in (("inkstamp install, sites without TLS", 1), ("inkstamp install, of the next edition", 2)):
            counting.begin()
            start = time.perf_counter()
            subprocess.run([PROGRAM, "--config", str(config), "install", "wide", "--edition", str(number)], check=True,
                           capture_output=True)  # fmt: skip
            seconds, tests, reloads = time.perf_counter() - start, counting.asked(" -t"), counting.asked(" reload")
            print(f"{label:<48}{seconds:9.2f}{tests:7}{reloads:9}", flush=True)


def machines_table(folder: Path, count: int) -> None:
    """Time installs on machines over SSH."""
    text = _ENTRIES
    with contextlib.ExitStack() as stack:
        for number, port in enumerate(free_ports(count)):
            machine = stack.enter_context(ssh_machine(folder / f"m{number}", "127.0.0.1", port))
            (machine.folder / "tls").mkdir()
            files = f'[{{ path = "{machine.folder}/tls/site.pem", form = "combined" }}]'
            text += f'[server.m{number}]\nkind = "files"\nfiles = {files}\nreload = ["true"]\n{machine.entry()}'
            http, https = free_ports(2)
            nginx = write_nginx(machine.folder / "nginx", http, https)
            nginx.sites_file(plain_site([f"s{number}.saltmarsh.test"], http, machine.folder))
            text += f'[server.n{number}]\nkind = "nginx"\nmain_file = "{nginx.main_file}"\n{machine.entry()}'
        everyone = [f"m{number}" for number in range(count)]
        for name, servers in (("one", everyone[:1]), ("all", everyone)):
            text += f'[certificate.{name}]\nnames = ["{name}.saltmarsh.test"]\nauthority = "quayside"\n'
            text += f'via = "by-hand"\nproof = "dns-01"\ninstall = {servers}\n'.replace("'", '"')
            shelved(folder / "home", name, [f"{name}.saltmarsh.test"])
        config = folder / "inkstamp.toml"
        config.write_text(f'home = "{folder}/home"\n{text}')
        print(f"\n{'a file, a reload, on machines over SSH':<48}  seconds")
        for label, command in (
            ("one machine", ["install", "one"]),
            (f"{count} machines, one after the other", ["install", "all"]),
            (f"{count} machines, 10 at once", ["install", "all", "--edition", "1", "--at-once", "10"]),
            (f"inkstamp survey, an nginx on each of {count}", ["survey"]),
        ):
            start = time.perf_counter()
            done = subprocess.run([PROGRAM, "--config", str(config), *command], check=False, capture_output=True)
            # That sites lack TLS is found by the survey, whose status tells it.
            assert done.returncode == 0 or command == ["survey"], done.stderr.decode()
            print(f"{label:<48}{time.perf_counter() - start:9.2f}", flush=True)


@contextlib.contextmanager
def fresh_folder() -> Iterator[Path]:
    """Give a folder that servers without root's rights can enter."""
    with tempfile.TemporaryDirectory(prefix="inkstamp-benchmark-") as made:
        Path(made).chmod(0o755)
        yield Path(made)


def main() -> None:
    """Print the tables."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 5000
    with fresh_folder() as folder:
        survey_table(folder, count, RUNS if count > 100 else 1)
    with fresh_folder() as folder:
        install_table(folder, min(200, count))
    with fresh_folder() as folder:
        machines_table(folder, min(20, count))


if __name__ == "__main__":
    signal.signal(signal.SIGINT, signal.SIG_DFL)
    main()
