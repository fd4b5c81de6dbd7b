"""Keys that are encrypted on the shelf, on real servers, which start from nothing without a person, and go back."""

import os
import subprocess
import time
from collections.abc import Iterator
from contextlib import ExitStack
from dataclasses import dataclass
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import serialization
from more_servers import Apache, Mail, apache, haproxy, mail, ssh_machine
from world import World, find_program, make_tls_pair, real_world, running, wait_for_port

from inkstamp.standins.ports import free_ports
from inkstamp.view.handshake import shake_hands

HTTPD, FAR, EDGE = "127.0.0.3", "127.0.0.4", "127.0.0.5"
PASSPHRASE, OTHER = "gulls over the $harbour 'at' noon", "reeds"

pytestmark = pytest.mark.skipif(os.geteuid() != 0, reason="Postfix starts as root alone")


@dataclass
class Place:
    """Where a certificate is served."""

    world: World
    httpd: Apache
    far: Apache
    boxes: Mail

    def served(self, name: str, address: str, port: int = 0) -> bytes:
        """The leaf (DER) that the `openssl` program is shown."""
        port = port or self.world.nginx.https_port
        command = ["openssl", "s_client", "-connect", f"{address}:{port}", "-servername", name]
        done = subprocess.run(command, input="", capture_output=True, text=True, timeout=20, check=False)
        begin = done.stdout.find("-----BEGIN CERTIFICATE-----")
        assert begin >= 0, done.stdout + done.stderr
        leaf = x509.load_pem_x509_certificate(done.stdout[begin:].encode())
        return leaf.public_bytes(serialization.Encoding.DER)

    def wait_until_closed(self, address: str) -> None:
        """Wait until nothing serves there any more."""
        deadline = time.monotonic() + 20
        while shake_hands(address, self.world.nginx.https_port, "any.test").chain:
            assert time.monotonic() < deadline, "it does not stop"

    def restart_httpd(self, httpd: Apache) -> None:
        """Stop it, and start it again without a terminal: the keys have to be opened anew."""
        subprocess.run(httpd.command("-k", "stop"), check=True, capture_output=True)
        self.wait_until_closed(httpd.address)
        done = subprocess.run(httpd.command("-k", "start"), stdin=subprocess.DEVNULL, capture_output=True, check=False)
        assert done.returncode == 0, done.stdout + done.stderr + (httpd.folder / "error.log").read_bytes()[-2000:]
        wait_for_port(httpd.http_port, None, httpd.folder / "error.log", httpd.address)


@pytest.fixture(scope="module")
def place(folder: Path) -> Iterator[Place]:
    with ExitStack() as up:
        world = up.enter_context(real_world(folder / "world", ca_env={"nonces_rejected": "0"}))
        world.add_authority()
        http, https = world.nginx.http_port, world.nginx.https_port
        httpd = up.enter_context(apache(folder / "apache", HTTPD, http))
        far = up.enter_context(apache(folder / "far", FAR, http))
        (ssh_port,) = free_ports(1)
        machine = up.enter_context(ssh_machine(folder / "machine", FAR, ssh_port))
        boxes = up.enter_context(mail(folder / "mail", free_ports(5), "mail.saltmarsh.test"))
        (folder / "certificates").mkdir()
        cert, key = make_tls_pair(folder, "first.test")
        (folder / "certificates" / "first.pem").write_bytes(cert.read_bytes() + key.read_bytes())
        text = f"backend sites\n    server one 127.0.0.1:{http}\nfrontend web\n    bind {EDGE}:{http}\n"
        text += "    default_backend sites\n"
        edge = up.enter_context(haproxy(folder / "edge", EDGE, http, text))
        edge.main_file.write_text(
            edge.main_file.read_text() + f"frontend tls\n    bind {EDGE}:{https} ssl crt {folder}/certificates\n"
            "    http-request return status 200\n"
        )
        (folder / "one.pass").write_text(f"{PASSPHRASE}\n")
        (folder / "two.pass").write_text(OTHER)
        for each in ("one.pass", "two.pass"):
            (folder / each).chmod(0o600)
        entries = httpd.entry("httpd") + boxes.entries() + edge.entry("edge", "decrypt = true\n")
        entries += far.entry("far", machine.entry() + f'certificate_folder = "{folder}/far/certificates"\n')
        world.config.write_text(world.config.read_text() + entries)
        yield Place(world, httpd, far, boxes)
        for one in (httpd, far):  # where it was started again, it is no child of ours
            subprocess.run(one.command("-k", "stop"), check=False, capture_output=True)


def enter(place: Place, name: str, server: str, passphrases: str = "one.pass", via: str = "front") -> str:
    """Write a certificate's entry; returns its domain name."""
    domain, world = f"{name}.saltmarsh.test", place.world
    world.config.write_text(
        world.config.read_text()
        + f'\n[certificate.{name}]\nnames = ["{domain}"]\nauthority = "quayside"\nvia = "{via}"\n'
        f'install = ["{server}"]\nkey_passphrase_file = "../{passphrases}"\n'
    )
    return domain


def is_closed(world: World, name: str, number: int, passphrase: str) -> bool:
    """Tell whether the `openssl` program reads an edition's key with its passphrase, and with no other one."""
    file = world.home / "shelf" / name / f"{number:04d}" / "key.pem"
    shown = subprocess.run(["openssl", "asn1parse", "-in", str(file)], capture_output=True, text=True, check=True)
    opened = [
        subprocess.run(["openssl", "pkey", "-in", str(file), "-passin", "stdin", "-noout"], input=each, text=True,
                       capture_output=True, check=False).returncode
        for each in (passphrase, "gulls")
    ]  # fmt: skip
    return ":scrypt" in shown.stdout and opened[0] == 0 and opened[1] != 0


def plain_keys(*folders: Path) -> list[str]:
    """Return the files in which a key lies open."""
    files = [each for folder in folders for each in folder.rglob("*") if each.is_file() and not each.is_symlink()]
    return [str(each) for each in files if b"BEGIN PRIVATE KEY" in each.read_bytes() and "accounts" not in each.parts]


def test_apache_is_told_each_passphrase_by_a_program_that_hands_all_others_on_and_goes_last(place: Place) -> None:
    world, httpd = place.world, place.httpd
    asked, own = httpd.folder / "asked", httpd.folder / "ask"
    own.write_text(f'#!/bin/sh\necho "$*" >> {asked}\necho stones\n')
    own.chmod(0o700)
    httpd.main_file.write_text(httpd.main_file.read_text() + f"SSLPassPhraseDialog  exec:{own}\n")
    customer(httpd, "stones", world.nginx.https_port)
    names = {
        "regatta": enter(place, "regatta", "httpd", via="httpd"),
        "quay": enter(place, "quay", "httpd", "two.pass", via="httpd"),
    }
    for name, domain in names.items():
        world.nameserver.table[domain] = [HTTPD]
        httpd.site(name, [domain])
    before = {each: each.read_bytes() for each in (httpd.main_file, *(httpd.site_file(each) for each in names))}
    for name, domain in names.items():
        done = world.run("stamp", name)
        assert done.status == 0, done.err
        assert place.served(domain, HTTPD) == world.edition(name, 1)
    program = world.home / "given" / ".passphrases-httpd"
    assert program.stat().st_mode & 0o777 == 0o700
    assert PASSPHRASE not in program.read_text()
    asked.unlink(missing_ok=True)
    place.restart_httpd(httpd)
    assert [place.served(domain, HTTPD) for domain in names.values()] == [world.edition(name, 1) for name in names]
    assert asked.read_text().split() == ["customer.saltmarsh.test:443", "RSA"], "theirs is asked for theirs alone"
    for _ in range(2):
        assert world.run("stamp", "quay", "--reissue").status == 0
    assert place.served(names["quay"], HTTPD) == world.edition("quay", 3)
    refused = world.run("undo", "regatta")
    assert refused.status != 0
    assert "the passphrases of quay are told by the program that this install brought" in refused.flat
    for name in ("quay", "quay", "quay", "regatta"):
        done = world.run("undo", name)
        assert done.status == 0, done.err
    assert {each: each.read_bytes() for each in before} == before
    assert not program.exists()
    assert plain_keys(world.home) == []


def customer(httpd: Apache, passphrase: str, port: int) -> None:
    """Give Apache a site with an encrypted key that is not ours."""
    name = "customer.saltmarsh.test"
    cert, key = make_tls_pair(httpd.folder, name)
    closed = httpd.folder / "customer.key"
    subprocess.run(["openssl", "pkcs8", "-topk8", "-in", str(key), "-passout", f"pass:{passphrase}", "-out", closed],
                   check=True)  # fmt: skip
    host = f"<VirtualHost {HTTPD}:{port}>\n    ServerName {name}\n    SSLEngine on\n"
    host += f"    SSLCertificateFile {cert}\n    SSLCertificateKeyFile {closed}\n</VirtualHost>\n"
    httpd.site("customer", [name], text=f"Listen {HTTPD}:{port}\n{host}")


def test_dovecot_reads_the_passphrase_from_its_file_also_after_a_start_from_nothing(place: Place) -> None:
    world, boxes = place.world, place.boxes
    domain = enter(place, "mail", "boxes")
    world.site("mail", [domain])
    before = boxes.texts()
    done = world.run("stamp", "mail")
    assert done.status == 0, done.err
    imaps = boxes.ports["imaps"]
    assert place.served(domain, "127.0.0.1", imaps) == world.edition("mail", 1)
    told = world.home / "given" / "mail" / "passphrase"
    assert f"\nssl_key_password = <{told}\n" in boxes.dovecot.read_text()
    assert told.read_text() == PASSPHRASE, "without the end of the line, which would be part of it"
    command = [find_program("dovecot"), "-c", str(boxes.dovecot)]
    subprocess.run([*command, "stop"], check=True, capture_output=True)
    subprocess.run(command, check=True, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    try:
        wait_for_port(imaps, None, boxes.folder / "dovecot" / "log")
        assert place.served(domain, "127.0.0.1", imaps) == world.edition("mail", 1)
        done = world.run("undo", "mail")
        assert done.status == 0, done.err
        assert boxes.texts() == before
        assert not told.exists()
    finally:
        subprocess.run([*command, "stop"], check=False, capture_output=True)


def test_a_server_that_is_told_so_gets_the_plain_key_and_nothing_else_of_ours_holds_it(place: Place) -> None:
    world = place.world
    domain = enter(place, "club", "edge")
    world.site("club", [domain])
    world.nameserver.table[domain] = [EDGE]
    done = world.run("stamp", "club")
    assert done.status == 0, done.err
    assert place.served(domain, EDGE) == world.edition("club", 1)
    assert world.run("stamp", "club", "--reissue").status == 0
    assert place.served(domain, EDGE) == world.edition("club", 2)
    assert plain_keys(world.home) == [f"{world.home}/given/club/decrypted-combined.pem"]
    for _ in range(2):
        done = world.run("undo", "club")
        assert done.status == 0, done.err
    assert plain_keys(world.home) == []


def test_another_machine_is_given_encrypted_key_and_passphrases_and_its_apache_restarts(place: Place) -> None:
    world, far = place.world, place.far
    domain = enter(place, "west", "far", via="far")
    world.nameserver.table[domain] = [FAR]
    far.site("west", [domain])
    world.config.write_text(
        world.config.read_text().replace('via = "front"\ninstall = ["far"]', 'via = "far"\ninstall = ["far"]')
    )
    before = [each.read_bytes() for each in (far.main_file, far.site_file("west"))]
    done = world.run("stamp", "west")
    assert done.status == 0, done.err
    place.restart_httpd(far)
    assert place.served(domain, FAR) == world.edition("west", 1)
    copies = far.folder / "certificates"
    assert (copies / "west" / "passphrases").stat().st_mode & 0o777 == 0o600
    assert plain_keys(copies, world.home) == []
    assert not [each for each in (world.home / "undo").rglob("*") if each.is_file() and b"harbour" in each.read_bytes()]
    done = world.run("undo", "west")
    assert done.status == 0, done.err
    assert [each.read_bytes() for each in (far.main_file, far.site_file("west"))] == before
    assert not copies.exists()


def test_nginx_starts_from_nothing_with_an_encrypted_key_and_undo_restores_every_byte(place: Place) -> None:
    world = place.world
    domain = enter(place, "rowing", "front")
    world.site("rowing", [domain])
    before = (world.nginx.folder / "sites" / "rowing.conf").read_bytes()
    done = world.run("stamp", "rowing")
    assert done.status == 0, done.err
    assert place.served(domain, "127.0.0.1") == world.edition("rowing", 1)
    assert is_closed(world, "rowing", 1, PASSPHRASE)
    text = (world.nginx.folder / "sites" / "rowing.conf").read_text()
    assert f"ssl_password_file {world.folder.parent}/one.pass;" in text.replace("/world/..", "")
    assert world.run("stamp", "rowing", "--reissue").status == 0
    assert place.served(domain, "127.0.0.1") == world.edition("rowing", 2)
    assert (world.nginx.folder / "sites" / "rowing.conf").read_text() == text
    subprocess.run(world.nginx.command("-s", "quit"), check=True, capture_output=True)
    place.wait_until_closed("127.0.0.1")
    with running(world.nginx.command("-g", "daemon off;"), world.folder / "again.log", world.nginx.http_port):
        assert place.served(domain, "127.0.0.1") == world.edition("rowing", 2)
        assert PASSPHRASE not in done.out + done.err
        for _ in range(2):
            gone = world.run("undo", "rowing")
            assert gone.status == 0, gone.err
        assert (world.nginx.folder / "sites" / "rowing.conf").read_bytes() == before
    assert plain_keys(world.home) == []
