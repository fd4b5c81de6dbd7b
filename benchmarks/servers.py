"""Servers: `survey` of a large nginx, and installs on many sites, each beside what the server itself takes.

    python benchmarks/servers.py [SITES]

SITES (5,000) virtual hosts stand in files of ten, each with a certificate, key and chain of its own. Whole processes
are timed: median of five runs, after one that is not counted. An install is timed with a fiftieth of them (100), all
in one certificate, on a running nginx. Run it with the project installed; nginx must be there.
"""

import os
import shutil
import signal
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

RUNS = 5
PROGRAM = str(Path(sys.executable).parent / "inkstamp")
NGINX = shutil.which("nginx", path=f"{os.environ.get('PATH', '')}:/usr/sbin") or "nginx"
NOW = datetime.now(UTC)
Pair = tuple[x509.Certificate, ec.EllipticCurvePrivateKey]


def signed(name: str, issuer: Pair | None, *, ca: bool) -> Pair:
    """Make a certificate below `issuer`, a root without one."""
    key = ec.generate_private_key(ec.SECP256R1())
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
    by, signer = (issuer[0].subject, issuer[1]) if issuer else (subject, key)
    builder = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(by)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(NOW - timedelta(days=1))
        .not_valid_after(NOW + timedelta(days=90))
        .add_extension(x509.BasicConstraints(ca=ca, path_length=None), critical=True)
        .add_extension(x509.SubjectAlternativeName([x509.DNSName(name), x509.DNSName(f"www.{name}")]), critical=False)
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


def main() -> None:
    """Print the table."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 5000
    runs = RUNS if count > 100 else 1
    with tempfile.TemporaryDirectory(prefix="inkstamp-benchmark-") as made:
        folder = Path(made)
        write_sites(folder, count)
        ours = [PROGRAM, "--config", str(folder / "inkstamp.toml")]
        print(f"{f'{count} virtual hosts in {-(-count // 10)} files':<48}  seconds  CPU s  peak MB")
        rows = {
            "nginx -T": [NGINX, "-T", "-p", made, "-c", str(folder / "nginx.conf")],
            "inkstamp survey, each with certificate and key": [*ours, "--json", "survey"],
            "inkstamp survey of one name": [*ours, "--json", "survey", "s1.saltmarsh.test"],
        }
        for label, command in rows.items():
            wall, cpu, peak = timed(command, runs)
            print(f"{label:<48}{wall:9.2f}{cpu:7.2f}{peak:9}", flush=True)


if __name__ == "__main__":
    signal.signal(signal.SIGINT, signal.SIG_DFL)
    main()
