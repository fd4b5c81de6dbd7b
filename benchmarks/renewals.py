"""Many certificates of one busy nginx renewed in one run, beside a test and a reload by hand for each of them.

    python benchmarks/renewals.py [DUE [SITES]]

SITES (1,000) virtual hosts with TLS stand on an nginx, and the certificates of DUE (50) of them are due, at a real
ACME CA on loopback. What is timed is one `inkstamp renew`, the whole process. Run it with the project installed; nginx
and the CA must be there.
"""

import re
import subprocess
import sys
import tempfile
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parent.parent / "tests"))

from more_servers import Counting
from world import World, make_tls_pair, plain_site, real_world


def set_up(world: World, due: int, sites: int) -> Counting:
    """Fill the nginx; all certificates that will be due have their first edition."""
    cert, key = make_tls_pair(world.folder, "others.saltmarsh.test")
    port, tls = world.nginx.http_port, world.nginx.https_port
    world.nginx.sites_file(
        "".join(
            f"server {{ listen 127.0.0.1:{tls} ssl; server_name other{number}.saltmarsh.test;\n"
            f"ssl_certificate {cert}; ssl_certificate_key {key}; }}\n"
            for number in range(sites - due)
        ),
        "others",
    )
    counting = Counting(world.folder, world.nginx.program)
    text = world.config.read_text().replace(f'program = "{world.nginx.program}"', f'program = "{counting.program}"')
    root = world.folder / "www"
    root.mkdir()
    for number in range(due):
        name = f"site{number}.saltmarsh.test"
        world.nginx.sites_file(plain_site([name], port, root), f"site{number}")
        world.nameserver.table[name] = ["127.0.0.1"]
        text += f'\n[certificate.site{number}]\nnames = ["{name}"]\nauthority = "quayside"\nkey = "ecdsa-p256"\n'
        text += 'via = "front"\ninstall = ["front"]\n'
    world.config.write_text(text)
    world.nginx.reload()
    counting.begin()
    first = world.run("renew", timeout=3600)
    assert first.status == 0, first.err[-2000:]
    return counting


def main(due: int, sites: int) -> None:
    """Print the table."""
    with tempfile.TemporaryDirectory() as made:
        folder = Path(made)
        folder.chmod(0o755)
        with real_world(folder, ca_env={"nonces_rejected": "0"}) as world:
            world.add_authority()
            counting = set_up(world, due, sites)
            print(f"{f'{due} certificates of an nginx with {sites} sites':<52}  seconds  tests  reloads")
            start = time.perf_counter()
            for _ in range(due):
                for more in (["-t"], ["-s", "reload"]):
                    subprocess.run(world.nginx.command(*more), check=True, capture_output=True)
            label, seconds = "nginx -t and nginx -s reload by hand, for each", time.perf_counter() - start
            print(f"{label:<52}{seconds:9.2f}{due:7}{due:9}", flush=True)
            time.sleep(5)  # its workers of before end
            counting.begin()
            world.config.write_text(re.sub(r'key = "ecdsa-p256"', 'key = "ecdsa-p384"', world.config.read_text()))
            start = time.perf_counter()
            done = world.run("renew", timeout=3600)
            seconds = time.perf_counter() - start
            assert done.status == 0, done.err[-2000:]
            tests, reloads = counting.asked("-t"), counting.asked("reload")
            print(f"{'inkstamp renew, orders and all':<52}{seconds:9.2f}{tests:7}{reloads:9}")


if __name__ == "__main__":
    given = [int(each) for each in sys.argv[1:]]
    main(*(given + [50, 1000][len(given) :]))
