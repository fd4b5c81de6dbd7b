"""Certificates on a real HAProxy: without reload where its runtime API can do it, and on disk as well."""

import itertools
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from cryptography.hazmat.primitives import serialization
from more_servers import Proxy, haproxy, ssh_machine
from world import World, make_tls_pair

from inkstamp.standins.ports import free_ports
from inkstamp.view.handshake import shake_hands

_NUMBERS = itertools.count(5)


def pair(folder: Path, domain: str) -> str:
    cert, key = make_tls_pair(folder, domain)
    combined = folder / f"{domain}.both.pem"
    combined.write_bytes(cert.read_bytes() + key.read_bytes())
    for each in {cert, key} - {combined}:
        each.unlink()
    combined.chmod(0o640)
    return str(combined)


@dataclass
class Edge:
    """An HAProxy in front of the world's nginx, and a name that it is to serve."""

    proxy: Proxy
    domain: str
    address: str
    port: int

    def served(self, domain: str = "") -> bytes:
        found = shake_hands(self.address, self.port, domain or self.domain)
        return found.chain[0].public_bytes(serialization.Encoding.DER) if found.chain else b""


@contextmanager
def edge(world: World, folder: Path, name: str, tls: str) -> Iterator[Edge]:
    """Run an HAProxy whose one frontend has plain HTTP and `tls` behind `bind`, and configure a certificate for it."""
    domain, address, port = f"{name}.saltmarsh.test", f"127.0.0.{next(_NUMBERS)}", world.nginx.https_port
    world.site(name, [domain])
    world.nameserver.table[domain] = [address]
    bind = f"    bind {address}:{port} {tls}\n" if tls else ""
    text = (
        f"frontend web\n    bind {address}:{world.nginx.http_port}\n{bind}    default_backend sites\n"
        f"backend sites\n    server nginx 127.0.0.1:{world.nginx.http_port}\n"
    )
    with haproxy(folder / name, address, world.nginx.http_port, text) as made:
        entry = made.entry(name)
        entry += f'[certificate.{name}]\nnames = ["{domain}"]\nauthority = "quayside"\nvia = "front"\n'
        world.config.write_text(world.config.read_text() + entry + f'install = ["{name}"]\n')
        yield Edge(made, domain, address, port)


def test_a_certificate_in_a_folder_is_renewed_in_the_running_process_and_on_disk(world: World, folder: Path) -> None:
    certificates = folder / "in-folder"
    certificates.mkdir()
    own = pair(certificates, "other.test")
    theirs = Path(pair(certificates, "kept.saltmarsh.test"))
    with edge(world, folder, "kept", f"ssl crt {certificates}/ alpn h2,http/1.1") as at:
        before, other = at.proxy.main_file.read_bytes(), Path(own).read_bytes()
        done = world.run("stamp", "kept")
        assert done.status == 0, done.err
        assert at.served() == world.edition("kept", 1)
        assert world.run("stamp", "kept", "--reissue").status == 0
        assert at.served() == world.edition("kept", 2)
        assert at.proxy.reloads() == 0
        assert at.proxy.main_file.read_bytes() == before
        combined = world.home / "shelf" / "kept" / "current" / "combined.pem"
        assert theirs.read_bytes() == combined.read_bytes()
        assert theirs.stat().st_mode & 0o777 == 0o640
        assert Path(own).read_bytes() == other
        assert at.served("other.test") not in (b"", world.edition("kept", 2))
        assert world.run("undo", "kept").status == 0
        assert at.served() == world.edition("kept", 1)
        assert sorted(each.name for each in certificates.iterdir() if "other" not in each.name) == [theirs.name]


def test_a_name_that_the_folder_does_not_know_is_added_without_a_reload_and_taken_out_again(
    world: World, folder: Path
) -> None:
    certificates = folder / "grows"
    certificates.mkdir()
    pair(certificates, "first.test")
    with edge(world, folder, "fresh", f"ssl crt {certificates}") as at:
        done = world.run("stamp", "fresh")
        assert done.status == 0, done.err
        assert at.served() == world.edition("fresh", 1)
        assert (certificates / "fresh.pem").stat().st_mode & 0o777 == 0o600
        assert world.run("undo", "fresh").status == 0
        assert at.served() not in (b"", world.edition("fresh", 1))
        assert not (certificates / "fresh.pem").exists()
        assert at.proxy.reloads() == 0


def test_a_crt_list_gets_a_line_and_a_bind_a_word_and_both_lose_them_again(world: World, folder: Path) -> None:
    first = pair(folder, "list.test")
    crt_list = folder / "list.txt"
    crt_list.write_text(f"# what is served\n{first} [alpn h2] list.test !bad.list.test\n")
    with edge(world, folder, "listed", f"ssl crt-list {crt_list}") as at:
        before = crt_list.read_text()
        done = world.run("stamp", "listed")
        assert done.status == 0, done.err
        assert at.served() == world.edition("listed", 1)
        shelf = world.home / "shelf" / "listed" / "current" / "combined.pem"
        assert crt_list.read_text() == f"{before}{shelf}\n"
        assert at.proxy.reloads() == 0
        assert world.run("undo", "listed").status == 0
        assert crt_list.read_text() == before
    with edge(world, folder, "word", f"ssl crt {first} alpn h2 # a remark") as at:
        before = at.proxy.main_file.read_text()
        done = world.run("stamp", "word")
        assert done.status == 0, done.err
        shelf = world.home / "shelf" / "word" / "current" / "combined.pem"
        assert at.proxy.main_file.read_text() == before.replace(f"crt {first}", f"crt {first} crt {shelf}")
        assert at.proxy.reloads() == 1
        assert world.run("stamp", "word", "--reissue").status == 0
        assert at.served() == world.edition("word", 2)
        assert at.proxy.reloads() == 1


def test_plain_http_alone_gets_tls_beside_it_and_what_haproxy_refuses_is_put_back(world: World, folder: Path) -> None:
    with edge(world, folder, "bare", "") as at:
        before = at.proxy.main_file.read_text()
        done = world.run("stamp", "bare")
        assert done.status == 0, done.err
        shelf = world.home / "shelf" / "bare" / "current" / "combined.pem"
        line = f"    bind {at.address}:{world.nginx.http_port}\n"
        new = f"    bind {at.address}:{at.port} ssl crt {shelf} alpn h2,http/1.1 ssl-min-ver TLSv1.2\n"
        assert at.proxy.main_file.read_text() == before.replace(line, line + new)
        assert at.served() == world.edition("bare", 1)
        at.proxy.main_file.write_text(at.proxy.main_file.read_text() + "    nonsense here\n")
        broken = world.run("stamp", "bare", "--reissue")
        assert (broken.status, "nonsense" in broken.flat, "broken already" in broken.flat) == (1, True, True)
        assert at.served() == world.edition("bare", 1)


def test_a_haproxy_on_another_machine_is_changed_through_its_socket_there(world: World, folder: Path) -> None:
    with edge(world, folder, "far", f"ssl crt {pair(folder, 'far.saltmarsh.test')}") as at:
        (port,) = free_ports(1)
        with ssh_machine(folder / "far-machine", "127.0.0.1", port) as machine:
            entry = f'certificate_folder = "{machine.folder}/certificates"\n{machine.entry()}[certificate.far]'
            world.config.write_text(world.config.read_text().replace("[certificate.far]", entry))
            done = world.run("stamp", "far")
            assert done.status == 0, done.err
            copy = machine.folder / "certificates" / "far" / "combined.pem"
            assert f"crt {copy}" in at.proxy.main_file.read_text()
            assert (copy.stat().st_mode & 0o777, at.proxy.reloads()) == (0o600, 1)
            assert world.run("stamp", "far", "--reissue").status == 0
            assert at.served() == world.edition("far", 2)
            assert at.proxy.reloads() == 1  # the second time its socket was enough
