"""`check` of many names: seconds, CPU and memory, beside `openssl s_client` run for each name, 16 at once.

    python benchmarks/checks.py [NAMES]

NAMES (1,000) sites of one nginx, each with a certificate of its own below an intermediate, and a wildcard in a BIND for
their addresses. Both sides shake hands once with each name, read the chain and verify it to the root; ours asks DNS
for each name's addresses as well, and knows all roots of this machine, not just the one that is needed. Then 100 names
in full depth: all versions of TLS, ciphers, sessions, groups, CAA, plain HTTP beside it.
"""

import subprocess
import sys
import tempfile
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import NamedTuple

sys.path.insert(0, str(Path(__file__).resolve().parent.parent / "tests"))

from authority_of_tests import Signer
from bind_world import PRIMARY, named_conf, zone_file
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from world import Nginx, find_program, inkstamp_program, running, write_nginx

from inkstamp.standins.ports import free_ports
from inkstamp.view.point import system_roots_file

ZONE = "many.saltmarsh.test"
BEGIN = datetime.now(UTC).replace(microsecond=0) - timedelta(days=1)
DEEP = 100


class Figures(NamedTuple):
    """What a command took."""

    wall: float
    cpu: float
    peak: float


def measured(command: Sequence[str], given: str = "") -> Figures:
    """Run a command with its children; seconds, CPU seconds, megabytes of the largest process."""
    script = (
        "import json, resource, subprocess, sys, time\n"
        "began = time.perf_counter()\n"
        "done = subprocess.run(sys.argv[1:], capture_output=True, text=True)\n"
        "usage = resource.getrusage(resource.RUSAGE_CHILDREN)\n"
        "print(time.perf_counter() - began, usage.ru_utime + usage.ru_stime, usage.ru_maxrss / 1024, done.returncode)\n"
        "print(done.stdout[-300:], done.stderr[-300:])\n"
    )
    done = subprocess.run(
        [sys.executable, "-c", script, *command], input=given, capture_output=True, text=True, check=True
    )
    wall, cpu, peak, status = done.stdout.splitlines()[0].split()
    if status != "0":
        raise SystemExit(f"{command[0]}: {done.stdout}")
    return Figures(float(wall), float(cpu), float(peak))


def set_up(folder: Path, count: int, nginx: Nginx, dns_port: int) -> list[str]:
    """Write sites, certificates, the zone and a configuration; returns the names."""
    root = Signer("Saltmarsh Benchmark Root", start=BEGIN, days=3650)
    middle = Signer("Saltmarsh Benchmark CA", root, start=BEGIN, days=1000)
    (folder / "roots.pem").write_bytes(root.certificate.public_bytes(Encoding.PEM))
    known = system_roots_file()
    public = known.read_bytes() if known is not None else b""
    (folder / "all-roots.pem").write_bytes((folder / "roots.pem").read_bytes() + public)
    names = [f"site{number}.{ZONE}" for number in range(count)]
    text = []
    for each in names:
        leaf = Signer(each, middle, ca=False, names=(each,), start=BEGIN)
        chain = [signer.certificate.public_bytes(Encoding.PEM) for signer in (leaf, middle)]
        (folder / f"{each}.pem").write_bytes(b"".join(chain))
        key = leaf.key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
        (folder / f"{each}.key").write_bytes(key)
        text.append(
            f"server {{ listen 127.0.0.1:{nginx.https_port} ssl; listen 127.0.0.1:{nginx.http_port}; "
            f"server_name {each}; ssl_certificate {folder}/{each}.pem; ssl_certificate_key {folder}/{each}.key; "
            f"return 200 ok; }}\n"
        )
    nginx.sites_file("".join(text), "many")
    (folder / "zone").write_text(zone_file("test", [f"*.{ZONE}. A 127.0.0.1"]))
    zone = f'zone "test" {{ type primary; file "{folder}/zone"; }};\n'
    (folder / "named.conf").write_text(named_conf(folder, PRIMARY, dns_port, zone, "minimal-responses yes;"))
    (folder / "inkstamp.toml").write_text(
        f'home = "home"\n[view]\nresolver = "127.0.0.1:{dns_port}"\nhttp_port = {nginx.http_port}\n'
        f'https_port = {nginx.https_port}\nroots = "all-roots.pem"\n'
    )
    return names


def main(count: int) -> None:
    """Print the table."""
    with tempfile.TemporaryDirectory(prefix="checks-") as place:
        folder = Path(place)
        folder.chmod(0o755)
        http_port, https_port, dns_port = free_ports(3)
        nginx = write_nginx(folder / "nginx", http_port, https_port)
        main_file = nginx.main_file
        main_file.write_text(main_file.read_text().replace("http {", "http { server_names_hash_max_size 65536;", 1))
        names = set_up(folder, count, nginx, dns_port)
        named = [find_program("named"), "-g", "-c", str(folder / "named.conf")]
        with (
            running(named, folder / "named.log", dns_port),
            running(nginx.command("-g", "daemon off;"), folder / "nginx.log", https_port),
        ):
            report(folder, names, https_port)


def report(folder: Path, names: Sequence[str], https_port: int) -> None:
    """Time everything once, after a short run that is not counted."""
    rows: list[tuple[str, int, Figures]] = []
    client = f"openssl s_client -connect 127.0.0.1:{https_port} -servername @ -verify_hostname @ -verify_return_error"

    def ours(some: Sequence[str], *more: str) -> Figures:
        listed = folder / "names.txt"
        listed.write_text("\n".join(some))
        command = [inkstamp_program(), "--config", str(folder / "inkstamp.toml"), "check", "--from", str(listed), *more]
        return measured(command)

    def theirs(some: Sequence[str]) -> Figures:
        return measured(
            ["xargs", "-P", "16", "-I", "@", *client.split(), "-CAfile", str(folder / "roots.pem")], "\n".join(some)
        )

    ours(names[:50], "--quick")
    for some in (names[: len(names) // 4], names):
        rows.append(("openssl s_client for each, 16 at once", len(some), theirs(some)))
        rows.append(("inkstamp check --quick", len(some), ours(some, "--quick")))
    rows.append(("inkstamp check", min(DEEP, len(names)), ours(names[:DEEP])))
    print(f"{'':<38}  names  seconds  ms each  CPU ms each  peak MB")
    for told, count, each in rows:
        print(f"{told:<38}  {count:5d}  {each.wall:7.2f}  {each.wall / count * 1e3:7.2f}  "
              f"{each.cpu / count * 1e3:11.2f}  {each.peak:7.0f}")  # fmt: skip


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 1000)
