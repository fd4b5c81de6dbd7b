"""Certificates on a real Apache httpd: from no TLS to TLS, renewed, and put back byte for byte when anything fails."""

import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import serialization
from more_servers import Apache, apache
from world import Ran, World, make_tls_pair, real_world

ADDRESS = "127.0.0.3"


@pytest.fixture(scope="module")
def world(folder: Path) -> Iterator[World]:
    with real_world(folder / "world") as made:
        made.add_authority()
        yield made


@pytest.fixture(scope="module")
def httpd(world: World, folder: Path) -> Iterator[Apache]:
    with apache(folder / "apache", ADDRESS, world.nginx.http_port) as made:
        world.config.write_text(world.config.read_text() + made.entry("httpd"))
        yield made


def add_site(world: World, httpd: Apache, name: str, more: str = "", text: str = "") -> str:
    domain = f"{name}.saltmarsh.test"
    world.nameserver.table[domain] = [ADDRESS]
    httpd.site(name, [domain], more, text=text)
    return domain


def openssl(world: World, domain: str, *more: str, request: str = "") -> str:
    """What the `openssl` program is shown at Apache's port."""
    done = subprocess.run(
        ["openssl", "s_client", "-connect", f"{ADDRESS}:{world.nginx.https_port}", "-servername", domain,
         "-CAfile", str(world.folder / "roots.pem"), *more],
        input=request, capture_output=True, text=True, timeout=20, check=False,
    )  # fmt: skip
    return done.stdout + done.stderr


def served(world: World, domain: str) -> tuple[bytes, str]:
    """The leaf (DER) and the whole report that the `openssl` program is shown."""
    report = openssl(world, domain, "-showcerts")
    begin = report.find("-----BEGIN CERTIFICATE-----")
    assert begin >= 0, report
    leaf = x509.load_pem_x509_certificate(report[begin:].encode())
    return leaf.public_bytes(serialization.Encoding.DER), report


def on_shelf(world: World, name: str) -> bytes:
    pem = (world.home / "shelf" / name / "current" / "leaf.pem").read_bytes()
    return x509.load_pem_x509_certificate(pem).public_bytes(serialization.Encoding.DER)


def stamp(world: World, domain: str, *more: str) -> Ran:
    return world.run("stamp", domain, "--as", domain.partition(".")[0], "--via", "httpd", *more)


def test_a_site_without_tls_gets_it_with_all_that_it_has_and_a_renewal_changes_no_configuration(
    world: World, httpd: Apache
) -> None:
    more = '    # a remark\n    ErrorDocument 404 "gone"\n    Alias /docs /usr/share\n'
    domain = add_site(world, httpd, "plain", more)
    before = httpd.site_file("plain").read_text()
    done = stamp(world, domain)
    assert done.status == 0, done.err
    leaf, report = served(world, domain)
    assert leaf == on_shelf(world, "plain")
    assert "Verify return code: 0 (ok)" in report
    after = httpd.site_file("plain").read_text()
    assert after.startswith(before.rstrip("\n"))
    assert after.count("ErrorDocument") == 2
    request = f"GET /index.html HTTP/1.0\r\nHost: {domain}\r\n\r\n"
    assert "<h1>plain</h1>" in openssl(world, domain, "-quiet", request=request)
    assert world.run("stamp", "plain", "--reissue").status == 0
    assert httpd.site_file("plain").read_text() == after
    assert served(world, domain)[0] == on_shelf(world, "plain") != leaf
    sites = world.run("--json", "survey").json["sites"]
    (found,) = [each for each in sites if each["site"]["server"] == "httpd" and domain in each["site"]["names"]
                and each["certificate"]]  # fmt: skip
    assert found["certificate"]["names"] == [domain]


def test_a_site_that_has_tls_has_just_its_paths_changed(world: World, httpd: Apache) -> None:
    cert, key = make_tls_pair(httpd.folder, "tls.saltmarsh.test")
    root = httpd.folder / "www" / "tls"
    text = (
        f"<VirtualHost {ADDRESS}:{world.nginx.http_port}>\n    ServerName tls.saltmarsh.test\n"
        f"    DocumentRoot {root}\n    RewriteEngine on\n"
        f"    RewriteRule ^(.*)$ https://tls.saltmarsh.test:{world.nginx.https_port}$1 [R=301,L]\n</VirtualHost>\n"
        f"<VirtualHost {ADDRESS}:{world.nginx.https_port}>\n\tServerName tls.saltmarsh.test\n\tDocumentRoot {root}\n"
        f'\tSSLEngine on\n\tSSLCertificateFile   "{cert}"   \n\tSSLCertificateChainFile {cert}\n'
        f"\tSSLCertificateKeyFile {key}\n</VirtualHost>\n"
    )
    listen = f"Listen {ADDRESS}:{world.nginx.https_port}\n"
    taken = listen in "".join(each.read_text() for each in (httpd.folder / "sites").iterdir())
    domain = add_site(world, httpd, "tls", text=("" if taken else listen) + text)
    done = stamp(world, domain)
    assert done.status == 0, done.err
    assert served(world, domain)[0] == on_shelf(world, "tls")
    shelf = world.home / "shelf" / "tls" / "current"
    expected = text.replace(f'"{cert}"', str(shelf / "served.pem")).replace(str(key), str(shelf / "key.pem"))
    expected = expected.replace(f"\tSSLCertificateChainFile {cert}\n", "")
    assert httpd.site_file("tls").read_text().endswith(expected)


def test_a_plain_host_that_leads_to_https_gets_a_host_with_tls_that_does_not(world: World, httpd: Apache) -> None:
    name = "onward"
    more = (
        "    RewriteEngine on\n    RewriteCond %{HTTPS} off\n    RewriteCond %{REQUEST_URI} !^/.well-known/\n"
        f"    RewriteRule ^(.*)$ https://%{{HTTP_HOST}}:{world.nginx.https_port}$1 [R=301,L]\n"
        "    RewriteRule ^/old$ /index.html [L]\n"
    )
    domain = add_site(world, httpd, name, more)
    done = stamp(world, domain)
    assert done.status == 0, done.err
    after = httpd.site_file(name).read_text()
    assert after.count("https://%{HTTP_HOST}") == 1
    assert after.count("RewriteCond") == 2
    assert after.count("/old$") == 2


@pytest.mark.parametrize("fault", ["refused", "no effect", "broken before", "not running"])
def test_an_install_that_fails_puts_every_byte_back(world: World, httpd: Apache, fault: str) -> None:
    name = "fault" + fault.replace(" ", "")
    domain = add_site(world, httpd, name)
    if not (world.home / "shelf" / "steady").exists():
        steady = add_site(world, httpd, "steady")
        assert stamp(world, steady).status == 0
    live = served(world, "steady.saltmarsh.test")[0]
    program = httpd.folder / "httpd-wrapper"
    real = httpd.command()[0]
    lines = {
        "refused": f'case "$*" in *-t) grep -q "shelf/{name}/" {httpd.site_file(name)} && '
        '{ echo "AH00526: Syntax error" >&2; exit 1; };; esac',
        "no effect": 'case "$*" in *graceful) exit 0;; esac',
        "broken before": "",
        "not running": 'case "$*" in *graceful) echo "httpd not running" >&2; exit 1;; esac',
    }
    program.write_text(f'#!/bin/sh\n{lines[fault]}\nexec {real} "$@"\n')
    program.chmod(0o755)
    config = world.config.read_text()
    world.config.write_text(config.replace(f'program = "{real}"', f'program = "{program}"'))
    file = httpd.site_file(name)
    if fault == "broken before":
        file.write_text(file.read_text() + "Nonsense on\n")
    before = {each: each.read_bytes() for each in (httpd.folder / "sites").iterdir()}
    try:
        done = world.run("stamp", domain, "--as", name, "--via", "httpd", timeout=100)
    finally:
        text = world.config.read_text()
        world.config.write_text(text.replace(f'program = "{program}"', f'program = "{real}"'))
    assert done.status == 1
    told = {
        "refused": "AH00526: Syntax error",
        "no effect": "still serves another certificate",
        "broken before": "is broken already",
        "not running": "could not be reloaded",
    }
    assert told[fault] in done.flat
    assert {each: each.read_bytes() for each in (httpd.folder / "sites").iterdir()} == before
    assert served(world, "steady.saltmarsh.test")[0] == live
    if fault == "broken before":
        file.write_text(file.read_text().replace("Nonsense on\n", ""))
    again = stamp(world, domain) if fault == "broken before" else world.run("stamp", name)
    assert again.status == 0, again.err
    assert served(world, domain)[0] == on_shelf(world, name)
    assert world.left_behind() == []
