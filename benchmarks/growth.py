"""How seconds, CPU and memory grow: requests, chains, `survey` and `check` of 100, 1,000 and 10,000.

    python benchmarks/growth.py [COUNT…]

Whole processes, once each, after a small one that is not counted; "of each" is what one name, certificate or host
takes. In the first row of each table the start of the program weighs most.
"""

import os
import sys
import tempfile
from collections.abc import Callable
from contextlib import ExitStack
from importlib import import_module
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).resolve().parent.parent / "tests"))
sys.path.insert(0, str(Path(__file__).resolve().parent))

from bind_world import PRIMARY
from world import find_program, inkstamp_program, running, write_nginx

from inkstamp.pki.certificates import to_pem
from inkstamp.standins.ports import free_ports

checks, requests, servers = map(import_module, ("checks", "requests", "servers"))
measured = checks.measured
_CHAINS = (
    "import sys\nfrom datetime import UTC, datetime\nfrom pathlib import Path\n"
    "from inkstamp.pki.certificates import pem_certificates\nfrom inkstamp.pki.chain import Pool, find_paths\n"
    "pool, roots = (pem_certificates(Path(each).read_bytes()) for each in sys.argv[1:])\nknown = Pool(pool, roots)\n"
    "sys.exit(0 if all(find_paths(each, known, (), datetime.now(UTC)) for each in pool) else 1)\n"
)


def csr(folder: Path, count: int) -> Any:
    """A key, and a request for so many names."""
    names = [f"s{number}.saltmarsh.test" for number in range(count)]
    place = folder / f"csr{count}"
    place.mkdir()
    return measured([inkstamp_program(), "csr", "make", *names, "--private-ca", "--into", str(place)])


def chains(folder: Path, count: int) -> Any:
    """Certificates read, and a path to a root found for each."""
    root, pool, _ = requests.hierarchy(count)
    (folder / "pool.pem").write_bytes(b"".join(map(to_pem, pool)))
    (folder / "root.pem").write_bytes(to_pem(root))
    return measured([sys.executable, "-c", _CHAINS, str(folder / "pool.pem"), str(folder / "root.pem")])


def survey(folder: Path, count: int) -> Any:
    """Virtual hosts of one nginx, each with a certificate and key of its own."""
    place = folder / f"survey{count}"
    place.mkdir()
    servers.write_sites(place, count)
    return measured([inkstamp_program(), "--config", str(place / "inkstamp.toml"), "survey"])


def check(folder: Path, count: int) -> Any:
    """Names of one nginx, each with a certificate of its own, looked at by `check --quick`."""
    place = folder / f"check{count}"
    place.mkdir(mode=0o755)
    http_port, https_port, dns_port = free_ports(3)
    nginx = write_nginx(place / "nginx", http_port, https_port)
    text = nginx.main_file.read_text().replace("http {", "http { server_names_hash_max_size 131072;", 1)
    nginx.main_file.write_text(text)
    listed = place / "names.txt"
    listed.write_text("\n".join(checks.set_up(place, count, nginx, dns_port)))
    with ExitStack() as stack:
        named = [find_program("named"), "-g", "-c", str(place / "named.conf")]
        stack.enter_context(running(named, place / "named.log", dns_port, address=PRIMARY))
        stack.enter_context(running(nginx.command("-g", "daemon off;"), place / "nginx.log", https_port, seconds=300))
        program = [inkstamp_program(), "--config", str(place / "inkstamp.toml")]
        return measured([*program, "check", "--quick", "--from", str(listed)])


TABLES: dict[str, Callable[[Path, int], Any]] = {
    "csr make, so many names": csr,
    "certificates, a path for each": chains,
    "survey, so many virtual hosts": survey,
    "check --quick, so many names": check,
}


def main(counts: list[int]) -> None:
    """Print the tables."""
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
    os.environ["INKSTAMP_CONFIG"] = "/nowhere/inkstamp.toml"
    with tempfile.TemporaryDirectory(prefix="growth-") as place:
        folder = Path(place)
        folder.chmod(0o755)
        csr(folder, 1)
        for told, work in TABLES.items():
            print(f"{told:<34}  seconds  ms of each  CPU ms of each  peak MB")
            for count in counts:
                found = work(folder, count)
                print(f"{count:>34}  {found.wall:7.2f}  {found.wall / count * 1e3:10.3f}  "
                      f"{found.cpu / count * 1e3:14.3f}  {found.peak:7.0f}", flush=True)  # fmt: skip


if __name__ == "__main__":
    main([int(each) for each in sys.argv[1:]] or [100, 1_000, 10_000])
