"""Two certificates for one site, one with an RSA key and one with an ECDSA key, on real nginx and Apache httpd."""

import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import serialization
from more_servers import apache
from world import World, real_world

HTTPD = "127.0.0.3"
SITES = {"nginx": ("127.0.0.1", "front"), "apache": (HTTPD, "httpd")}


@pytest.fixture(scope="module")
def world(folder: Path) -> Iterator[World]:
    with real_world(folder / "world", ca_env={"nonces_rejected": "0"}) as made:
        made.add_authority()
        with apache(folder / "apache", HTTPD, made.nginx.http_port) as httpd:
            made.site("nginx", ["nginx.saltmarsh.test"])
            httpd.site("apache", ["apache.saltmarsh.test"])
            text = made.config.read_text() + httpd.entry("httpd")
            for name, (address, server) in SITES.items():
                made.nameserver.table[f"{name}.saltmarsh.test"] = [address]
                for key, end in (("ecdsa-p256", ""), ("rsa-2048", "-rsa")):
                    text += f'[certificate.{name}{end}]\nnames = ["{name}.saltmarsh.test"]\nauthority = "quayside"\n'
                    text += f'via = "{server}"\ninstall = ["{server}"]\nkey = "{key}"\n'
            made.config.write_text(text)
            yield made


def served(world: World, kind: str, cipher: str) -> bytes:
    """The leaf (DER) that `openssl` is shown when it takes just one sort of key."""
    command = ["openssl", "s_client", "-connect", f"{SITES[kind][0]}:{world.nginx.https_port}", "-tls1_2"]
    command += ["-servername", f"{kind}.saltmarsh.test", "-cipher", cipher]
    done = subprocess.run(command, input="", capture_output=True, text=True, timeout=20, check=False)
    begin = done.stdout.find("-----BEGIN CERTIFICATE-----")
    assert begin >= 0, done.stdout + done.stderr
    return x509.load_pem_x509_certificate(done.stdout[begin:].encode()).public_bytes(serialization.Encoding.DER)


@pytest.mark.parametrize("kind", ["nginx", "apache"])
def test_the_second_certificate_stands_beside_the_first_and_each_is_renewed_and_undone_by_itself(
    world: World, kind: str
) -> None:
    assert world.run("stamp", kind).status == 0
    done = world.run("stamp", f"{kind}-rsa")
    assert done.status == 0, done.err
    assert (served(world, kind, "aECDSA"), served(world, kind, "aRSA")) == (
        world.edition(kind, 1), world.edition(f"{kind}-rsa", 1),
    )  # fmt: skip
    for name, number in ((f"{kind}-rsa", 2), (kind, 2)):
        assert world.run("stamp", name, "--reissue").status == 0
        assert served(world, kind, "aRSA" if "rsa" in name else "aECDSA") == world.edition(name, number)
    assert "is installed beside this certificate" in world.run("check", f"{kind}-rsa").flat
    assert world.run("undo", kind).status == 0
    assert (served(world, kind, "aECDSA"), served(world, kind, "aRSA")) == (
        world.edition(kind, 1), world.edition(f"{kind}-rsa", 2),
    )  # fmt: skip
