"""Sites without TLS get it in the manner that is configured, and it holds on the real servers."""

import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
import urllib3
from more_servers import apache, haproxy
from world import World, make_tls_pair, real_world

from inkstamp.servers.tls_policy import policies

HTTPD, EDGE = "127.0.0.3", "127.0.0.4"
SITES = {"nginx": "127.0.0.1", "apache": HTTPD, "haproxy": EDGE}


@pytest.fixture(scope="module")
def world(folder: Path) -> Iterator[World]:
    """Three sites, one on each kind of server, all to be given TLS with everything that can be asked for."""
    with real_world(folder / "world", ca_env={"nonces_rejected": "0"}) as made:
        made.add_authority()
        port = made.nginx.http_port
        cert, _ = make_tls_pair(folder, "visitors.test")
        manner = f'tls = "strict"\nhttp2 = true\nredirect = true\nhsts_days = 180\nclient_roots = "{cert}"\n'
        frontend = (
            f"frontend web\n    bind {EDGE}:{port}\n    default_backend sites\n"
            f"backend sites\n    server nginx 127.0.0.1:{port}\n"
        )
        with apache(folder / "apache", HTTPD, port) as httpd, haproxy(folder / "edge", EDGE, port, frontend) as edge:
            made.site("nginx", ["nginx.saltmarsh.test"])
            made.site("haproxy", ["haproxy.saltmarsh.test"])
            httpd.site("apache", ["apache.saltmarsh.test"])
            text = made.config.read_text().replace('kind = "nginx"\n', f'kind = "nginx"\n{manner}')
            text += httpd.entry("apache", manner) + edge.entry("haproxy", manner)
            for name, via in (("nginx", "front"), ("apache", "apache"), ("haproxy", "front")):
                made.nameserver.table[f"{name}.saltmarsh.test"] = [SITES[name]]
                install = "front" if name == "nginx" else name
                text += f'[certificate.{name}]\nnames = ["{name}.saltmarsh.test"]\nauthority = "quayside"\n'
                text += f'via = "{via}"\ninstall = ["{install}"]\n'
            made.config.write_text(text)
            yield made


@pytest.mark.parametrize("kind", ["nginx", "apache", "haproxy"])
def test_policy_redirect_hsts_and_client_certificates_hold_and_the_next_proof_still_passes(
    world: World, folder: Path, kind: str
) -> None:
    name, address = f"{kind}.saltmarsh.test", SITES[kind]
    done = world.run("stamp", kind)
    assert done.status == 0, done.err
    http = urllib3.HTTPConnectionPool(address, world.nginx.http_port, retries=False)
    host = {"Host": f"{name}:{world.nginx.http_port}", "Connection": "close"}
    sent_on, deadline = http.request("GET", "/index.html?a=b", headers=host, redirect=False), time.monotonic() + 10
    while sent_on.status == 200 and time.monotonic() < deadline:  # a worker of before the reload
        sent_on = http.request("GET", "/index.html?a=b", headers=host, redirect=False)
    target = f"https://{name}:{world.nginx.https_port}/index.html?a=b"
    assert (sent_on.status, sent_on.headers.get("Location")) == (301, target)
    assert "Strict-Transport-Security" not in sent_on.headers
    proof = http.request("GET", "/.well-known/acme-challenge/none", headers=host, redirect=False)
    assert proof.status == 404
    page = ask(world, folder, kind, ["-cert", f"{folder}/visitors.test.pem", "-key", f"{folder}/visitors.test.key"])
    assert "max-age=15552000" in page
    assert f"<h1>{kind}</h1>" in page
    assert "ALPN protocol: h2" in ask(world, folder, kind, ["-alpn", "h2,http/1.1"], request="")
    assert f"<h1>{kind}</h1>" not in ask(world, folder, kind, [])
    assert "no peer certificate" in ask(world, folder, kind, ["-cipher", "ECDHE-ECDSA-AES128-SHA", "-tls1_2"])
    again = world.run("stamp", kind, "--reissue")
    assert again.status == 0, again.err


def ask(world: World, folder: Path, kind: str, more: list[str], request: str | None = None) -> str:
    """What `openssl` gets for a request."""
    name = f"{kind}.saltmarsh.test"
    command = ["openssl", "s_client", "-connect", f"{SITES[kind]}:{world.nginx.https_port}", "-servername", name]
    page = f"GET /index.html HTTP/1.0\r\nHost: {name}\r\n\r\n"
    more = [*more, "-ign_eof"] if request is None else more
    shown = (page if request is None else request).encode()
    done = subprocess.run([*command, *more], input=shown, capture_output=True, timeout=20, check=False, cwd=folder)
    return (done.stdout + done.stderr).decode("utf-8", "replace")


def test_each_policy_allows_what_openssl_reads_in_it() -> None:
    for name, policy in policies().items():
        command = ["openssl", "ciphers", "-v", "-s", "-tls1_2", policy.ciphers]
        told = subprocess.run(command, capture_output=True, text=True, check=True).stdout.splitlines()
        known = [line for line in told if "TLSv1.3" not in line]
        weak = [line for line in known if "Kx=RSA" in line or "Mac=AEAD" not in line]
        assert len(known) > 4, name
        assert bool(weak) is (name == "wide"), weak
