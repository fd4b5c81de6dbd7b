"""Visitors who keep their connections notice nothing of installs, on real nginx, Apache httpd and HAProxy."""

import threading
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import pytest
import urllib3
from more_servers import apache, haproxy
from world import World, real_world

from inkstamp.jobs.lifecycle.install import install_edition
from inkstamp.runtime import Runtime

HTTPD, EDGE = "127.0.0.3", "127.0.0.4"
NAME = "club.saltmarsh.test"
INSTALLS = 50


@pytest.fixture(scope="module")
def world(folder: Path) -> Iterator[World]:
    """One name on all three, its certificate with two editions."""
    with real_world(folder / "world", ca_env={"nonces_rejected": "0"}) as made:
        made.add_authority()
        port = made.nginx.http_port
        frontend = (
            f"frontend web\n    bind {EDGE}:{port}\n    default_backend sites\n"
            f"backend sites\n    server nginx 127.0.0.1:{port}\n"
        )
        with apache(folder / "apache", HTTPD, port) as httpd, haproxy(folder / "edge", EDGE, port, frontend) as edge:
            made.site("club", [NAME])
            httpd.site("club", [NAME])
            text = made.config.read_text() + httpd.entry("httpd") + edge.entry("edge")
            text += f'[certificate.club]\nnames = ["{NAME}"]\nauthority = "quayside"\nvia = "front"\n'
            made.config.write_text(f'{text}install = ["front", "httpd", "edge"]\n')
            for more in ([], ["--reissue"]):
                done = made.run("stamp", "club", *more)
                assert done.status == 0, done.err
            yield made


def test_no_request_fails_through_fifty_installs_in_a_row(world: World) -> None:
    over, counts = threading.Event(), {address: Counter[str]() for address in ("127.0.0.1", HTTPD, EDGE)}

    def visit(address: str) -> None:
        # A server may close a connection that idles; who finds it closed asks once more (RFC 9112 section 9.3.1).
        again = urllib3.Retry(total=1, connect=0, read=1, redirect=0, status=0)
        pool = urllib3.HTTPSConnectionPool(
            address, world.nginx.https_port, ca_certs=str(world.folder / "roots.pem"), server_hostname=NAME,
            assert_hostname=NAME, retries=again, timeout=10,
        )  # fmt: skip
        while not over.wait(0.01):  # some eighty requests a second of each, and time for those who change the servers
            try:
                answer = pool.request("GET", "/index.html", headers={"Host": NAME})
                counts[address][f"status {answer.status}"] += 1
            except urllib3.exceptions.HTTPError as error:
                counts[address][str(error)] += 1

    visitors = [threading.Thread(target=visit, args=(address,)) for address in counts]
    for each in visitors:
        each.start()
    runtime = Runtime(world.config, world.home)
    try:
        for number in range(INSTALLS):
            install_edition(runtime, "club", number % 2 + 1, preview=False)
    finally:
        over.set()
        for each in visitors:
            each.join()
        runtime.close(0)
    assert all(set(seen) == {"status 200"} for seen in counts.values()), counts
    assert all(seen["status 200"] > INSTALLS for seen in counts.values()), counts
