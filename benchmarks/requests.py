"""Requests and what comes back: `csr make`, `collect` of a large ZIP, sorting certificates into chains.

    python benchmarks/requests.py [CERTIFICATES]

Whole processes are timed beside the `openssl` program: median of seven runs (one for up to 100), after one that is not
counted.
CERTIFICATES (2,000) is how many are sorted; a quarter of them are in the ZIP. Run it with the project installed.
"""

import io
import os
import resource
import statistics
import subprocess
import sys
import tempfile
import time
import zipfile
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from inkstamp.pki.certificates import to_pem
from inkstamp.pki.chain import Pool, find_paths

RUNS = 7
_SMALL = 100
"""Up to so many certificates it is tried whether all runs, and nothing is measured."""
PROGRAM = str(Path(sys.executable).parent / "inkstamp")
NOW = datetime.now(UTC)
Pair = tuple[x509.Certificate, ec.EllipticCurvePrivateKey]


def signed(name: str, issuer: Pair | None, *, public: object = None) -> Pair:
    """Make a certificate below `issuer`, a root without one; a leaf when `public` is its key."""
    key = ec.generate_private_key(ec.SECP256R1())
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
    by, signer = (issuer[0].subject, issuer[1]) if issuer else (subject, key)
    builder = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(by)
        .public_key(public or key.public_key())  # type: ignore[arg-type]
        .serial_number(x509.random_serial_number())
        .not_valid_before(NOW - timedelta(days=1))
        .not_valid_after(NOW + timedelta(days=90))
        .add_extension(x509.BasicConstraints(ca=public is None, path_length=None), critical=True)
        .add_extension(x509.SubjectAlternativeName([x509.DNSName(name)]), critical=False)
    )
    return builder.sign(signer, hashes.SHA256()), key


def hierarchy(count: int) -> tuple[x509.Certificate, list[x509.Certificate], list[Pair]]:
    """Make a root, `count` certificates below it (one in ten an intermediate), and the intermediates."""
    root = signed("Root", None)
    middle = [signed(f"CA {number}", root) for number in range(max(count // 10, 1))]
    shared = ec.generate_private_key(ec.SECP256R1()).public_key()
    leaves = [signed(f"s{n}.test", middle[n % len(middle)], public=shared)[0] for n in range(count - len(middle))]
    return root[0], [*leaves, *(each for each, _ in middle)], middle


def timed(command: Sequence[str], folder: Path, *, runs: int = RUNS) -> tuple[float, float]:
    """Return the median seconds and the CPU seconds of one run; `{n}` in the command is another number each time."""
    walls = []
    for number in range(runs + 1):
        typed = [part.replace("{n}", str(number)) for part in command]
        if number == 1:
            before = resource.getrusage(resource.RUSAGE_CHILDREN)
        began = time.perf_counter()
        done = subprocess.run(typed, cwd=folder, capture_output=True, text=True, check=False)
        walls.append(time.perf_counter() - began)
        if done.returncode:
            raise SystemExit(f"{typed}: {done.stderr}")
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    cpu = (after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime) / runs
    return statistics.median(walls[1:]), cpu


def requests(folder: Path, runs: int) -> None:
    print(f"{'a P-256 key and its request, whole process':<58}  seconds  CPU s  times openssl")
    subject = ["-subj", "/CN=example.org", "-addext", "subjectAltName=DNS:example.org,DNS:www.example.org"]
    new = ["openssl", "req", "-new", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes"]
    rows = [
        ("openssl req -new", [*new, *subject, "-keyout", "o{n}.key", "-out", "o{n}.csr"]),
        ("python -c 'import cryptography.x509'", [sys.executable, "-c", "import cryptography.x509"]),
        ("inkstamp csr make", [PROGRAM, "csr", "make", "example.org", "www.example.org", "--as", "i{n}"]),
        ("openssl req -text -verify", ["openssl", "req", "-in", "o1.csr", "-noout", "-text", "-verify"]),
        ("inkstamp csr show", [PROGRAM, "csr", "show", "o1.csr"]),
    ]
    base = 0.0
    for told, command in rows:
        wall, cpu = timed(command, folder, runs=runs)
        base = base or wall
        print(f"{told:<58}  {wall:7.3f}  {cpu:5.3f}  {wall / base:13.1f}")


def collecting(folder: Path, count: int) -> None:
    """Time `collect --preview` of a ZIP in which one of `count` certificates is ours."""
    root, pool, middle = hierarchy(count - 1)
    (folder / "roots.pem").write_bytes(to_pem(root))
    config = folder / "inkstamp.toml"
    config.write_text(
        'home = "home"\n[authority.fogbell]\nkind = "portal"\n[certificate.site]\nnames = ["site.test"]\n'
        'authority = "fogbell"\n[view]\nroots = "roots.pem"\n'
    )
    os.environ["INKSTAMP_CONFIG"] = str(config)
    ordered = subprocess.run([PROGRAM, "order", "site"], capture_output=True, text=True, check=False)
    request = x509.load_pem_x509_csr(ordered.stdout[ordered.stdout.index("-----") :].encode())
    leaf, _ = signed("site.test", middle[0], public=request.public_key())
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for number, each in enumerate([*pool, leaf]):
            archive.writestr(f"{number}.crt", to_pem(each))
    (folder / "all.zip").write_bytes(out.getvalue())
    print(f"\n{f'a ZIP of {count} certificates, whole process':<58}  seconds  CPU s   peak MB")
    (folder / "all.pem").write_bytes(b"".join(map(to_pem, pool)))
    wall, cpu = timed(["openssl", "storeutl", "-noout", "-certs", "all.pem"], folder)
    print(f"{'openssl storeutl -certs, which only reads them':<58}  {wall:7.3f}  {cpu:5.3f}         -")
    reading = "import sys; from cryptography import x509; x509.load_pem_x509_certificates(open('all.pem', 'rb').read())"
    wall, cpu = timed([sys.executable, "-c", reading], folder)
    print(f"{'python, which only reads them':<58}  {wall:7.3f}  {cpu:5.3f}         -")
    wall, cpu = timed([PROGRAM, "collect", "all.zip", "--preview"], folder)
    # Not the child's ru_maxrss, which it takes over from the parent that started it.
    script = (
        "import re, sys; from inkstamp.cli.main import run; run(['collect', 'all.zip', '--preview'])\n"
        "sys.stderr.write(re.search(r'VmHWM:\\s+(\\d+)', open('/proc/self/status').read())[1])"
    )
    ran = subprocess.run([sys.executable, "-c", script], cwd=folder, capture_output=True, text=True, check=True)
    peak = int(ran.stderr.split()[-1])
    print(f"{'inkstamp collect all.zip --preview':<58}  {wall:7.3f}  {cpu:5.3f}  {peak / 1024:8.0f}")


def sorting(count: int) -> None:
    print(f"\n{'certificates sorted into chains, a path for each':<58}  seconds  ms each")
    for many in (count // 4, count // 2, count):
        root, pool, _ = hierarchy(many)
        pool.reverse()
        began = time.perf_counter()
        for each in pool:
            for other in pool[:20]:
                _ = each.issuer == other.subject
        naive = (time.perf_counter() - began) / 20 * len(pool)
        began = time.perf_counter()
        known = Pool(pool, [root])
        found = sum(1 for each in pool if find_paths(each, known, (), NOW))
        wall = time.perf_counter() - began
        if found != many:
            raise SystemExit(f"{found} of {many} have a path")
        print(
            f"{f'{many}, names compared pair by pair (reckoned from 20)':<58}  {naive:7.3f}  {naive / many * 1000:7.3f}"
        )
        print(f"{f'{many}, ours':<58}  {wall:7.3f}  {wall / many * 1000:7.3f}")


def main(count: int) -> None:
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
    os.environ["INKSTAMP_CONFIG"] = "/nowhere/inkstamp.toml"
    with tempfile.TemporaryDirectory() as folder:
        requests(Path(folder), RUNS if count > _SMALL else 1)
        collecting(Path(folder), count // 4)
    sorting(count)


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else 2_000)
