"""Standing answers: real nginx, Apache httpd and HAProxy answer every http-01 challenge of an account themselves."""

import http.client
import re
import socket
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from killing import killed_at
from more_servers import Apache, Proxy, apache, haproxy
from world import World, make_tls_pair, other_ca, plain_site

KILLS = 7
"""How often each is killed, spread over its places: the transaction is that of `harden`, which is killed at others."""
PATH = "/.well-known/acme-challenge/"
BLOCKED = """    location ^~ /.well-known/ { return 403; }
    location ~ /\\. { deny all; }
    location / { proxy_pass http://127.0.0.1:9; }
    deny all;
    auth_basic "staff";
    auth_basic_user_file /nowhere;
"""
HTACCESS = "RewriteEngine On\nRewriteRule ^ /index.html [L]\nRequire all denied\n"


def ask(
    port: int, host: str, path: str, method: str = "GET", address: str = "127.0.0.1", **headers: str
) -> tuple[int, bytes]:
    connection = http.client.HTTPConnection(address, port, timeout=5)
    try:
        connection.request(method, path, headers={"Host": host, **headers})
        reply = connection.getresponse()
        return reply.status, reply.read()
    finally:
        connection.close()


def thumbprint(world: World) -> str:
    shown = world.run("authority", "show", "quayside", "--json")
    found = re.search(r'"key_thumbprint": "([A-Za-z0-9_-]{43})"', shown.out)
    assert found, shown.out + shown.err
    return found[1]


@pytest.fixture(scope="module")
def httpd(world: World, folder: Path) -> Iterator[Apache]:
    with apache(folder / "httpd", "127.0.0.21", world.nginx.http_port) as made:
        yield made


@pytest.fixture(scope="module")
def edge(world: World, folder: Path) -> Iterator[Proxy]:
    port = world.nginx.http_port
    text = (
        f"frontend web\n    bind 127.0.0.22:{port}\n    http-request redirect scheme https code 301\n"
        f"    default_backend sites\nbackend sites\n    server nginx 127.0.0.1:{port}\n"
    )
    with haproxy(folder / "edge", "127.0.0.22", port, text) as made:
        yield made


@pytest.fixture(scope="module")
def street(world: World, folder: Path, httpd: Apache, edge: Proxy) -> World:
    """Sites that no file would come through, on each server, and certificates for them."""
    port = world.nginx.https_port
    cert, key = make_tls_pair(folder, "only-tls.saltmarsh.test")
    world.site("plain", ["plain.saltmarsh.test"])
    world.site("second", ["second.saltmarsh.test"])
    blocked = plain_site(["blocked.saltmarsh.test"], world.nginx.http_port, Path("/nowhere"), BLOCKED)
    world.nginx.sites_file(blocked, "blocked")
    world.nginx.sites_file(
        f"server {{ listen 127.0.0.1:{world.nginx.http_port}; server_name leads.saltmarsh.test;\n"
        "    return 301 https://nowhere.invalid$request_uri;\n}\n"
        f"server {{\n    listen 127.0.0.1:{port} ssl;\n    server_name only-tls.saltmarsh.test;\n"
        f"    ssl_certificate {cert};\n    ssl_certificate_key {key};\n    root {world.folder}/www/plain;\n}}\n",
        "leads",
    )  # fmt: skip
    world.nginx.reload()
    root = httpd.site("a-plain", ["plain.httpd.test"])
    (root / ".htaccess").write_text(HTACCESS)
    httpd.site("b-app", ["app.httpd.test"], "    ProxyPass / http://127.0.0.1:9/\n")
    httpd.site("c-rewritten", ["rewritten.httpd.test"],
               "    RewriteEngine On\n    RewriteRule ^ https://nowhere.invalid/ [R=301,L]\n")  # fmt: skip
    httpd.site("d-leads", ["leads.httpd.test"], "    Redirect permanent / https://nowhere.invalid/\n")
    httpd.site("e-locked", ["locked.httpd.test"],
               '    <Location "/">\n        AuthType Basic\n        AuthName staff\n        AuthUserFile /nowhere\n'
               "        Require valid-user\n    </Location>\n")  # fmt: skip
    entries = httpd.entry("httpd") + edge.entry("edge")
    by_server = {
        "front": ["plain.saltmarsh.test", "blocked.saltmarsh.test", "leads.saltmarsh.test", "only-tls.saltmarsh.test"],
        "httpd": [f"{each}.httpd.test" for each in ("plain", "app", "rewritten", "leads", "locked")],
        "edge": ["first.edge.test", "second.edge.test"],
    }
    for server, names in by_server.items():
        address = {"front": "127.0.0.1", "httpd": "127.0.0.21", "edge": "127.0.0.22"}[server]
        for name in names:
            world.nameserver.table[name] = [address]
            entries += f'[certificate."{name.replace(".", "-")}"]\nnames = ["{name}"]\nauthority = "quayside"\n'
            entries += f'via = "{server}"\n'
    world.config.write_text(world.config.read_text() + entries)
    return world


def texts(street: World, httpd: Apache, edge: Proxy) -> dict[str, bytes]:
    folders = (street.nginx.folder / "sites", httpd.folder / "sites")
    found = {str(each): each.read_bytes() for folder in folders for each in sorted(folder.iterdir())}
    return {**found, str(edge.main_file): edge.main_file.read_bytes()}


def test_certificates_are_issued_where_no_file_comes_through_and_nothing_is_written_for_them(
    street: World, httpd: Apache, edge: Proxy
) -> None:
    before = texts(street, httpd, edge)
    preview = street.run("prove", "--standing", "front", "httpd", "edge", "--preview")
    assert preview.status == 0, preview.err
    assert preview.out.count("+++ ") >= 5
    assert texts(street, httpd, edge) == before
    assert "cannot ask for confirmation" in street.run("prove", "--standing", "front").err

    done = street.run("prove", "--standing", "front", "httpd", "edge", "--yes")

    assert done.status == 0, done.err
    after = texts(street, httpd, edge)
    assert after != before
    again = street.run("prove", "--standing", "front", "httpd", "edge")
    assert again.out.count("for the account at quayside already") == 3, again.err
    assert "there is no server “nowhere”" in street.run("prove", "--standing", "nowhere").err
    assert texts(street, httpd, edge) == after
    renewed = street.run("renew")
    assert renewed.status == 0, renewed.err
    assert len(list((street.home / "shelf").iterdir())) == 11
    assert texts(street, httpd, edge) == after
    assert street.left_behind() == []
    assert not (httpd.folder / "proofs").exists()


ENDS = {"front": ("127.0.0.1", "blocked.saltmarsh.test"), "httpd": ("127.0.0.21", "app.httpd.test"),
        "edge": ("127.0.0.22", "first.edge.test")}  # fmt: skip


def raw(address: str, port: int, request: bytes) -> bytes:
    """Send bytes as they are, and return all that comes back."""
    with socket.create_connection((address, port), timeout=5) as connection:
        connection.sendall(request)
        connection.shutdown(socket.SHUT_WR)
        return b"".join(iter(lambda: connection.recv(65_536), b""))


@pytest.mark.parametrize("server", ENDS)
def test_a_standing_answer_is_given_for_a_token_by_get_and_head_at_our_sites_alone(street: World, server: str) -> None:
    (address, name), port, known = ENDS[server], street.nginx.http_port, thumbprint(street)
    longest = "x" * 128
    for token in ("a", "AZaz09-_", longest):
        assert ask(port, name, PATH + token, address=address) == (200, f"{token}.{known}".encode())
        assert ask(port, f"{name.upper()}:{port}", f"{PATH}{token}?x=1", address=address)[0] == 200
        assert ask(port, name, PATH + token, "HEAD", address=address) == (200, b"")
        part = ask(port, name, PATH + token, address=address, Range="bytes=0-0")
        assert part in ((206, token[:1].encode()), (200, f"{token}.{known}".encode()))
    for path in ("", "a.b", "a%2Fb", "a/b", "..%2fa", "a%0A", "%61\n"[:3] + "%0a", longest + "x", "a%00", "é%20"):
        assert known.encode() not in ask(port, name, PATH + path.replace("é", "%C3%A9"), address=address)[1], path
    for method in ("POST", "PUT", "DELETE", "OPTIONS", "TRACE", "get"):
        assert known.encode() not in ask(port, name, PATH + "a", method, address=address)[1], method
    for host in ("strange.test", "127.0.0.1", "", f"{name}.strange.test", f"x{name}", "nobody.invalid"):
        assert known.encode() not in ask(port, host, PATH + "a", address=address)[1], host


@settings(max_examples=150, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(tail=st.binary(max_size=40).map(lambda data: data.replace(b" ", b"").replace(b"\r", b"").replace(b"\n", b"")))
def test_whatever_is_asked_for_only_a_well_formed_token_comes_back(street: World, tail: bytes) -> None:
    for address, name in ENDS.values():
        request = (
            b"GET " + PATH.encode() + tail + b" HTTP/1.1\r\nHost: " + name.encode() + b"\r\nConnection: close\r\n\r\n"
        )
        said = raw(address, street.nginx.http_port, request)
        body = said.partition(b"\r\n\r\n")[2]
        if body.endswith(b"." + thumbprint_once(street).encode()):
            token = body[:-44]
            assert re.fullmatch(rb"[A-Za-z0-9_-]{1,128}", token), (tail, said)
            assert said.startswith(b"HTTP/1.1 200 ")


_KNOWN: dict[Path, str] = {}


def thumbprint_once(world: World) -> str:
    if world.home not in _KNOWN:
        _KNOWN[world.home] = thumbprint(world)
    return _KNOWN[world.home]


def test_precheck_tries_the_standing_answer_and_writes_no_file(street: World) -> None:
    asked = ("blocked-saltmarsh-test", "app-httpd-test", "first-edge-test")
    done = street.run("precheck", *asked, "--json")
    assert done.out.count("serves the expected response") == len(asked), done.out + done.err
    assert street.left_behind() == []


def test_accounts_with_one_key_are_both_answered_for_and_a_key_rollover_changes_every_server(
    street: World, folder: Path, httpd: Apache, edge: Proxy
) -> None:
    text = street.config.read_text()
    (dns_port,) = re.findall(r'resolver = "127.0.0.1:([0-9]+)"', text)
    (folder / "second").mkdir()
    with other_ca(folder / "second", http_port=street.nginx.http_port, https_port=street.nginx.https_port,
                  dns_port=int(dns_port), env={}) as (directory, ca):  # fmt: skip
        roots = street.folder / "roots.pem"
        roots.write_bytes(roots.read_bytes() + ca.root())
        add = ("authority", "add", "lighthouse", "--directory", directory, "--trust", str(ca.trust), "--agree-terms")
        assert street.run(*add).status == 0
        stamp = ("stamp", "second.saltmarsh.test", "--as", "second", "--authority", "lighthouse", "--via", "front")
        refused = street.run(*stamp)
        assert "for another account key than this CA's" in " ".join(refused.err.split())

        table = "[authority.lighthouse]\n"
        street.config.write_text(street.config.read_text().replace(table, f'{table}account_key_of = "quayside"\n'))
        done = street.run(*stamp, "--json")
        assert done.status == 0, done.err

        assert street.run("prove", "--standing", "front", "--for", "plain.saltmarsh.test", "--yes").status == 0
        assert street.run("prove", "--standing", "edge", "--for", "third.edge.test", "--yes").status == 0
        before, known = texts(street, httpd, edge), thumbprint(street)
        httpd.main_file.rename(httpd.main_file.with_suffix(".away"))
        stuck = street.run("authority", "rollover", "quayside")
        httpd.main_file.with_suffix(".away").rename(httpd.main_file)
        assert stuck.status == 1
        assert (texts(street, httpd, edge), thumbprint(street)) == (before, known)
        rolled = street.run("authority", "rollover", "quayside")
        assert rolled.status == 0, rolled.err
        assert thumbprint(street) != known
        after = texts(street, httpd, edge)
        new = thumbprint(street).encode()
        for name, each in before.items():
            assert after[name].decode() == each.replace(known.encode(), new).decode()
        assert known.encode() not in b"".join(after.values())
        whole = killed_at(0, street.folder / "places", street.config, ["authority", "rollover", "lighthouse"])[1]
        first_change = next(number for number, place in enumerate(whole, 1) if "rollover" in place)
        killed_at(first_change, street.folder / "places", street.config, ["authority", "rollover", "lighthouse"])
        assert (street.home / "accounts" / "quayside.next.pem").exists()
        for certificate in ("second", "app-httpd-test", "first-edge-test"):
            again = street.run("stamp", certificate, "--reissue")
            assert again.status == 0, again.err
        assert sorted(each.name for each in (street.home / "accounts").iterdir()) == ["quayside.pem"]
        street.config.write_text(text)


def test_a_key_rollover_killed_anywhere_leaves_servers_that_answer_for_the_key_that_counts(street: World) -> None:
    rollover = ["authority", "rollover", "quayside"]
    places = killed_at(0, street.folder / "places", street.config, rollover)[1]
    for number in range(1, len(places) + 1, len(places) // KILLS):
        killed_at(number, street.folder / "places", street.config, rollover)
        for name in ("first-edge-test", "plain-saltmarsh-test"):
            done = street.run("stamp", name, "--reissue")
            assert done.status == 0, (number, places[number - 1], done.err.splitlines())
    assert [each.name for each in (street.home / "accounts").iterdir()] == ["quayside.pem"]


def test_taking_it_back_leaves_every_byte_as_it_was_but_for_what_was_installed_since(
    street: World, httpd: Apache, edge: Proxy
) -> None:
    config = street.config.read_text()
    with_installs = config.replace('via = "front"\n', 'via = "front"\ninstall = ["front"]\n', 1)
    with_installs = with_installs.replace('via = "httpd"\n', 'via = "httpd"\ninstall = ["httpd"]\n', 1)
    street.config.write_text(with_installs)
    for name in ("plain-saltmarsh-test", "plain-saltmarsh-test", "plain-httpd-test"):
        done = street.run("stamp", name, "--reissue")
        assert done.status == 0, done.err
    assert httpd.site_file("a-plain").read_text().count("INKSTAMP_TOKEN") == 2, "and none in the copy with TLS"

    done = street.run("prove", "--standing", "front", "httpd", "edge", "--take-back")

    assert done.status == 0, done.err
    texts_now = texts(street, httpd, edge)
    assert not any(b"inkstamp_" in each or b"INKSTAMP" in each for each in texts_now.values())
    newest = max(int(each.name) for each in (street.home / "shelf" / "plain-saltmarsh-test").glob("0*"))
    assert street.served("plain.saltmarsh.test") == street.edition("plain-saltmarsh-test", newest)
    assert street.run("undo", "plain-saltmarsh-test").status == 0
    assert "no standing answer was put" in street.run("prove", "--standing", "front", "--take-back").err
    assert street.run("stamp", "app-httpd-test", "--reissue").status == 1
    lost = street.run("stamp", "first-edge-test", "--reissue")
    assert "inkstamp prove --standing edge" in " ".join(lost.err.split())
    street.config.write_text(config)


def stand_and_die(world: World, place: int, *more: str) -> list[str]:
    done, places = killed_at(place, world.folder / "places", world.config, ["prove", "--standing", "front", *more])
    assert done.returncode == (0 if not place or len(places) < place else -9), done.stderr
    return places


def test_killed_at_any_write_the_next_run_puts_it_there_and_taking_it_back_leaves_every_byte(
    street: World, httpd: Apache, edge: Proxy
) -> None:
    before = texts(street, httpd, edge)
    places = stand_and_die(street, 0, "--yes")
    with_answer = texts(street, httpd, edge)
    back = stand_and_die(street, 0, "--take-back")
    assert texts(street, httpd, edge) == before
    for number in range(1, len(places) + 1, len(places) // KILLS):
        stand_and_die(street, number, "--yes")
        done = street.run("prove", "--standing", "front", "--yes")
        assert done.status == 0, f"killed behind {places[number - 1]}: {done.err}"
        assert texts(street, httpd, edge) == with_answer, places[number - 1]
        stand_and_die(street, number % len(back) + 1, "--take-back")  # each time at another place
        again = street.run("prove", "--standing", "front", "--take-back")
        assert again.status == 0 or "no standing answer was put" in again.err, again.err
        assert texts(street, httpd, edge) == before, places[number - 1]
    assert not (street.home / "standing" / "front").exists()
