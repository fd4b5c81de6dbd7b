"""TLS settings of sites: changed as wanted and seen from outside, or everything as it was, byte for byte."""

import json
import os
import socket
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest
from killing import killed_at
from more_servers import Apache, apache, haproxy, lighttpd, mail
from world import World, make_tls_pair, write_nginx

from inkstamp.standins.ports import free_ports
from inkstamp.view.protocols import try_versions

HTTPD = "127.0.0.9"
OLD_TOO = "    ssl_ciphers ALL:@SECLEVEL=0;\n"
"""Without it, OpenSSL takes no TLS 1.0, whatever the protocols say."""


def tls_site(world: World, name: str, more: str = "", *, address: str = "127.0.0.1") -> Path:
    """An nginx site with TLS that accepts old protocols, and its plain half."""
    domain = f"{name}.saltmarsh.test"
    certificate, key = make_tls_pair(world.folder, domain)
    root = world.folder / "www" / name
    root.mkdir(parents=True, exist_ok=True)
    (root / "index.html").write_text(name)
    world.nameserver.table[domain] = [address]
    file = world.nginx.folder / "sites" / f"{name}.conf"
    file.write_text(
        f"server {{\n    listen {address}:{world.nginx.http_port};\n    server_name {domain};\n    root {root};\n}}\n"
        f"server {{\n    listen {address}:{world.nginx.https_port} ssl;\n    server_name {domain};\n    root {root};\n"
        f"    ssl_certificate {certificate};\n    ssl_certificate_key {key};\n"
        f"    ssl_protocols TLSv1 TLSv1.1 TLSv1.2;  # for the old scanners\n{more}}}\n"
    )
    world.nginx.reload()
    return file


def head(world: World, url_port: int, domain: str, address: str, *, tls: bool) -> str:
    """What curl's neighbour `openssl` or a plain socket is answered."""
    request = f"GET / HTTP/1.1\r\nHost: {domain}\r\nConnection: close\r\n\r\n"
    command = ["openssl", "s_client", "-quiet", "-connect", f"{address}:{url_port}", "-servername", domain]
    if tls:
        return subprocess.run(command, input=request, capture_output=True, text=True, timeout=20, check=False).stdout
    with socket.create_connection((address, url_port), timeout=5) as plain:
        plain.sendall(request.encode())
        return plain.recv(65536).decode()


def test_a_site_of_nginx_is_hardened_seen_so_from_outside_and_brought_back_byte_for_byte(world: World) -> None:
    file = tls_site(
        world, "reed",
        more=f"{OLD_TOO}    add_header X-Own yes;\n    location /shop {{\n        add_header X-Shop yes;\n    }}\n",
    )  # fmt: skip
    before, domain, port = file.read_bytes(), "reed.saltmarsh.test", world.nginx.https_port
    wish = ["--policy", "strict", "--replace-ciphers", "--redirect", "--hsts-days", "30", "--http2"]
    preview = world.run("harden", domain, *wish, "--preview")
    assert (preview.status, file.read_bytes()) == (0, before), preview.err
    assert "clients that know no more than TLS 1.0 and TLS 1.1" in preview.flat
    assert "+" in preview.out
    unsure = world.run("harden", domain, *wish)
    assert (unsure.status, file.read_bytes()) == (2, before), unsure.err
    done = world.run("harden", domain, *wish, "--yes")
    assert done.status == 0, done.err
    ready = try_versions("127.0.0.1", port, domain)
    assert (ready.versions, ready.alpn, ready.static) == (("TLS 1.2", "TLS 1.3"), "h2", False)
    assert "# for the old scanners" in file.read_text()
    assert "max-age=2592000" in head(world, port, domain, "127.0.0.1", tls=True)
    text = file.read_text()
    assert text.count("add_header Strict-Transport-Security") == 2, "the location has headers of its own"
    plain = head(world, world.nginx.http_port, domain, "127.0.0.1", tls=False)
    assert plain.startswith("HTTP/1.1 301"), plain
    again = world.run("harden", domain, *wish, "--yes")
    assert (again.status, file.read_text()) == (0, text)
    assert "has these settings already" in again.out
    off = world.run("harden", domain, "--no-redirect", "--no-hsts", "--no-http2", "--yes")
    assert off.status == 0, off.err
    assert "Strict-Transport-Security" not in file.read_text()
    assert "return 301" not in file.read_text()
    assert world.run("harden", domain, "--undo").status == 0
    assert file.read_text() == text
    assert world.run("harden", domain, "--undo").status == 0
    assert file.read_bytes() == before
    assert world.run("harden", domain, "--undo").status == 2


def test_a_block_for_plain_http_and_tls_at_once_gets_the_redirect_and_a_header_for_tls_alone(world: World) -> None:
    domain, address = "both.saltmarsh.test", "127.0.0.13"
    file, port = tls_site(world, "both", address=address), world.nginx.https_port
    plain, tls = file.read_text().split("server {")[1:]
    listen = next(line for line in plain.splitlines() if "listen" in line)
    file.write_text(f"server {{\n{listen}{tls}")
    world.nginx.reload()
    before = file.read_bytes()
    done = world.run("harden", domain, "--redirect", "--hsts-days", "30", "--yes")
    assert done.status == 0, done.err
    assert "max-age=2592000" in head(world, port, domain, address, tls=True)
    answer = head(world, world.nginx.http_port, domain, address, tls=False)
    assert " 301 " in answer
    assert "Strict-Transport-Security" not in answer, "it must not be in what is said by plain HTTP"
    off = world.run("harden", domain, "--no-redirect", "--no-hsts", "--yes")
    assert off.status == 0, off.err
    assert " 200 " in head(world, world.nginx.http_port, domain, address, tls=False)
    roots = world.folder / "clients.pem"
    roots.write_bytes((world.folder / f"{domain}.pem").read_bytes())
    asks = world.run("harden", domain, "--client-roots", str(roots), "--yes")
    assert asks.status == 0, asks.err
    assert " 400 " in head(world, port, domain, address, tls=True)
    for _ in range(3):
        assert world.run("harden", domain, "--undo").status == 0
    assert file.read_bytes() == before


def test_a_cipher_list_that_somebody_chose_stays_unless_it_is_to_be_replaced(world: World) -> None:
    file = tls_site(world, "moss", more="    ssl_ciphers ECDHE-ECDSA-AES128-SHA:ECDHE-ECDSA-AES128-GCM-SHA256;\n")
    domain = "moss.saltmarsh.test"
    done = world.run("harden", domain, "--yes")
    assert done.status == 0, done.err
    assert "cipher list of its own" in done.flat
    assert "ECDHE-ECDSA-AES128-SHA:" in file.read_text()
    assert world.run("harden", domain, "--replace-ciphers", "--yes").status == 0
    assert "ECDHE+AESGCM" in file.read_text()


def test_a_line_that_other_sites_read_too_is_not_changed_for_one_of_them(world: World) -> None:
    shared = world.nginx.folder / "shared.inc"
    shared.write_text("ssl_session_timeout 5m;\nadd_header X-All yes;\n")
    first = tls_site(world, "fern", more=f"    include {shared};\n")
    second = tls_site(world, "ivy", more=f"    include {shared};\n")
    shared.write_text("ssl_ciphers HIGH:!aNULL;\n")
    world.nginx.reload()
    before = (first.read_bytes(), second.read_bytes(), shared.read_bytes())
    refused = world.run("harden", "fern.saltmarsh.test", "--yes")
    assert (refused.status, first.read_bytes(), second.read_bytes(), shared.read_bytes()) == (1, *before)
    assert "also read by the virtual host of ivy" in refused.flat
    both = world.run("harden", "fern.saltmarsh.test", "ivy.saltmarsh.test", "--yes")
    assert both.status == 0, both.err
    assert "ECDHE+AESGCM" in shared.read_text()


@pytest.mark.parametrize("place", range(1, 12, 2))
def test_a_change_that_is_killed_is_put_back_by_the_next_one(world: World, place: int) -> None:
    file = tls_site(world, "lily")
    before = file.read_bytes()
    killed_at(place, world.folder / "places", world.config, ["harden", "lily.saltmarsh.test", "--yes"])
    again = world.run("harden", "lily.saltmarsh.test", "--yes")
    assert again.status == 0, again.err
    assert world.run("harden", "lily.saltmarsh.test", "--undo").status == 0
    assert file.read_bytes() == before
    assert all(json.loads(each.read_text())["done"] for each in (world.home / "hardened").glob("front/*/manifest.json"))


def test_the_next_renewal_puts_back_what_a_killed_change_left_before_it_installs_anything(world: World) -> None:
    file = tls_site(world, "rush")
    before = file.read_bytes()
    for place in range(3, 40):
        ended, _ = killed_at(place, world.folder / "places", world.config, ["harden", "rush.saltmarsh.test", "--yes"])
        if file.read_bytes() != before or ended.returncode == 0:
            break
    assert file.read_bytes() != before
    assert ended.returncode != 0
    world.site("alder", ["alder.saltmarsh.test"])
    entry = '[certificate.alder]\nnames = ["alder.saltmarsh.test"]\nauthority = "quayside"\nvia = "front"\n'
    world.config.write_text(f'{world.config.read_text()}\n{entry}install = ["front"]\n')
    done = world.run("renew")
    assert done.status == 0, done.err
    assert "rolling back an interrupted change" in done.flat
    assert file.read_bytes() == before


def test_a_setting_that_another_site_of_the_address_decides_is_told_and_everything_put_back(world: World) -> None:
    files = [
        tls_site(world, name, "    ssl_ciphers ALL:@SECLEVEL=0;\n", address="127.0.0.8") for name in ("aspen", "birch")
    ]
    before = [each.read_bytes() for each in files]
    ready = try_versions("127.0.0.8", world.nginx.https_port, "birch.saltmarsh.test")
    done = world.run("harden", "birch.saltmarsh.test", "--replace-ciphers", "--yes")
    if done.status != 0:  # releases of nginx, and of its library, differ in who decides
        assert "still accepts" in done.flat
        assert [each.read_bytes() for each in files] == before
        assert try_versions("127.0.0.8", world.nginx.https_port, "birch.saltmarsh.test").versions == ready.versions
    else:
        assert "does not accept TLS 1.3, which its settings allow" in done.flat
    both = world.run("harden", "birch.saltmarsh.test", "aspen.saltmarsh.test", "--replace-ciphers", "--yes")
    assert both.status == 0, both.err
    assert try_versions("127.0.0.8", world.nginx.https_port, "birch.saltmarsh.test").versions == ("TLS 1.2", "TLS 1.3")


def test_a_server_that_does_not_run_is_not_changed_since_nothing_could_be_tested(world: World) -> None:
    http_port, port = free_ports(2)
    idle = write_nginx(world.folder / "idle", http_port, port)
    certificate, key = make_tls_pair(world.folder, "idle.saltmarsh.test")
    file = idle.sites_file(
        f"server {{ listen 127.0.0.1:{port} ssl; server_name idle.saltmarsh.test;\n"
        f"ssl_certificate {certificate}; ssl_certificate_key {key}; }}\n",
        "idle",
    )
    before = file.read_bytes()
    entry = f'kind = "nginx"\nprogram = "{idle.program}"\nmain_file = "{idle.main_file}"\nprefix = "{idle.folder}"\n'
    world.config.write_text(f"{world.config.read_text()}\n[server.idle]\n{entry}")
    done = world.run("harden", "idle", "--yes")
    assert (done.status, file.read_bytes()) == (1, before)
    assert "does not run" in done.flat


def test_check_names_the_command_that_helps_and_none_that_would_change_nothing(world: World) -> None:
    tls_site(world, "oak", OLD_TOO, address="127.0.0.10")  # where no other site decides
    told = world.run("check", "oak.saltmarsh.test").flat
    assert "inkstamp harden oak.saltmarsh.test warn" in told
    assert "inkstamp harden oak.saltmarsh.test --redirect" in told
    assert world.run("harden", "oak.saltmarsh.test", "--replace-ciphers", "--redirect", "--yes").status == 0
    assert "inkstamp harden" not in world.run("check", "oak.saltmarsh.test").flat


@pytest.fixture(scope="module")
def httpd(world: World, folder: Path) -> Iterator[Apache]:
    with apache(folder / "apache", HTTPD, world.nginx.http_port) as made:
        world.config.write_text(world.config.read_text() + made.entry("httpd"))
        yield made


def test_a_site_of_apache_is_hardened_seen_so_from_outside_and_brought_back_byte_for_byte(
    world: World, httpd: Apache
) -> None:
    domain, port = "pike.saltmarsh.test", world.nginx.https_port
    certificate, key = make_tls_pair(world.folder, domain)
    world.nameserver.table[domain] = [HTTPD]
    root = world.folder / "www" / "pike"
    root.mkdir(parents=True)
    (root / "index.html").write_text("pike")
    httpd.site(
        "pike", [domain],
        text=f"Listen {HTTPD}:{port}\n<VirtualHost {HTTPD}:{world.nginx.http_port}>\n    ServerName {domain}\n"
        f"    DocumentRoot {root}\n    <Directory {root}>\n        Require all granted\n    </Directory>\n"
        "</VirtualHost>\n"
        f"<VirtualHost {HTTPD}:{port}>\n    ServerName {domain}\n    DocumentRoot {root}\n    SSLEngine on\n"
        f"    <Directory {root}>\n        Require all granted\n    </Directory>\n"
        f"    SSLCertificateFile {certificate}\n    SSLCertificateKeyFile {key}\n    SSLProtocol all -SSLv3\n"
        "    SSLCipherSuite ALL:@SECLEVEL=0\n</VirtualHost>\n",
    )  # fmt: skip
    file = httpd.site_file("pike")
    before = file.read_bytes()
    wish = ["--policy", "strict", "--replace-ciphers", "--redirect", "--hsts-days", "30", "--http2"]
    done = world.run("harden", domain, *wish, "--yes")
    assert done.status == 0, done.err
    ready = try_versions(HTTPD, port, domain)
    assert (ready.versions, ready.alpn, ready.static) == (("TLS 1.2", "TLS 1.3"), "h2", False)
    assert "max-age=2592000" in head(world, port, domain, HTTPD, tls=True)
    assert " 301 " in head(world, world.nginx.http_port, domain, HTTPD, tls=False)
    assert "already" in world.run("harden", domain, *wish, "--yes").out
    off = world.run("harden", domain, "--no-redirect", "--no-hsts", "--no-http2", "--yes")
    assert off.status == 0, off.err
    assert "Rewrite" not in file.read_text()
    assert world.run("harden", "httpd", "--undo").status == 0
    assert world.run("harden", "httpd", "--undo").status == 0
    assert file.read_bytes() == before


def test_a_frontend_of_haproxy_is_hardened_and_brought_back_byte_for_byte(world: World, folder: Path) -> None:
    domain, address, port = "lock.saltmarsh.test", "127.0.0.11", world.nginx.https_port
    certificate, key = make_tls_pair(world.folder, domain)
    combined = folder / "lock.pem"
    combined.write_bytes(certificate.read_bytes() + key.read_bytes())
    world.site("lock", [domain])
    world.nameserver.table[domain] = [address]
    text = (
        f"frontend web\n    mode http\n    bind {address}:{world.nginx.http_port}\n"
        f"    bind {address}:{port} ssl crt {combined} ssl-min-ver TLSv1.0 ciphers ALL:@SECLEVEL=0  # scanners\n"
        f"    default_backend sites\nbackend sites\n    mode http\n    server nginx 127.0.0.1:{world.nginx.http_port}\n"
    )
    with haproxy(folder / "lock", address, world.nginx.http_port, text) as proxy:
        world.config.write_text(world.config.read_text() + proxy.entry("lock"))
        before = proxy.main_file.read_bytes()
        assert "TLS 1.0" in try_versions(address, port, domain).versions
        wish = ["--replace-ciphers", "--redirect", "--hsts-days", "30"]
        done = world.run("harden", domain, *wish, "--yes")
        assert done.status == 0, done.err
        ready = try_versions(address, port, domain)
        assert (ready.versions, ready.static) == (("TLS 1.2", "TLS 1.3"), False)
        assert "max-age=2592000" in head(world, port, domain, address, tls=True).lower()
        assert " 301 " in head(world, world.nginx.http_port, domain, address, tls=False)
        assert "already" in world.run("harden", domain, *wish, "--yes").out
        assert "# scanners" in proxy.main_file.read_text()
        off = world.run("harden", domain, "--no-redirect", "--no-hsts", "--yes")
        assert off.status == 0, off.err
        assert world.run("harden", "lock", "--undo").status == 0
        assert world.run("harden", "lock", "--undo").status == 0
        assert proxy.main_file.read_bytes() == before


def test_a_lighttpd_is_hardened_as_far_as_it_has_settings_and_told_what_it_has_not(world: World, folder: Path) -> None:
    domain, address, port = "dyke.saltmarsh.test", "127.0.0.12", world.nginx.https_port
    certificate, key = make_tls_pair(world.folder, domain)
    more = (
        'server.modules += ( "mod_openssl" )\n'
        f'$SERVER["socket"] == "{address}:{port}" {{\n    ssl.engine = "enable"\n    ssl.pemfile = "{certificate}"\n'
        f'    ssl.privkey = "{key}"\n'
        '    ssl.openssl.ssl-conf-cmd = ("MinProtocol" => "TLSv1", "CipherString" => "ALL:@SECLEVEL=0")\n}\n'
        f'$HTTP["host"] == "{domain}" {{\n}}\n'
    )
    with lighttpd(folder / "dyke", address, world.nginx.http_port, more) as light:
        world.config.write_text(world.config.read_text() + light.entry("dyke"))
        before = light.main_file.read_bytes()
        done = world.run("harden", domain, "--policy", "strict", "--replace-ciphers", "--http2", "--yes")
        assert done.status == 0, done.err
        assert "HTTP/2 cannot be set on lighttpd" in done.flat
        assert try_versions(address, port, domain).versions == ("TLS 1.2", "TLS 1.3")
        assert world.run("harden", "dyke", "--undo").status == 0
        assert light.main_file.read_bytes() == before


@pytest.mark.skipif(os.geteuid() != 0, reason="Postfix starts as root alone")
def test_mail_servers_are_hardened_and_brought_back_byte_for_byte(world: World, folder: Path) -> None:
    domain = "mail.saltmarsh.test"
    with mail(folder / "mail", free_ports(5), domain) as post:
        world.config.write_text(world.config.read_text() + post.entries())
        own = "ssl_min_protocol = TLSv1\nssl_cipher_list = ALL:@SECLEVEL=0\n"
        post.dovecot.write_text(f"{post.dovecot.read_text()}{own}")
        before = post.texts()
        done = world.run("harden", "post", "boxes", "--policy", "strict", "--replace-ciphers", "--yes")
        assert done.status == 0, done.err
        post.expect_sound()
        assert try_versions("127.0.0.1", post.ports["imaps"], domain).versions == ("TLS 1.2", "TLS 1.3")
        assert try_versions("127.0.0.1", post.ports["smtp"], domain, upgrade="smtp").versions == ("TLS 1.2", "TLS 1.3")
        assert "already" in world.run("harden", "post", "boxes", "--replace-ciphers", "--yes").out
        assert world.run("harden", "post", "boxes", "--undo").status == 0
        assert post.texts() == before
