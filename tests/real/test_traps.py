"""The classic traps on the way of a proof, with real nginx and Apache: seen before the CA is asked, and opened."""

import re
import signal
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest
from killing import killed_at
from more_servers import Apache, apache
from world import World, make_tls_pair, real_world

ADDRESS = "127.0.0.3"
"""Apache's."""
NAME = "trap.saltmarsh.test"
PROOFS = "/.well-known/acme-challenge/"


@pytest.fixture(scope="module")
def shared(folder: Path) -> Iterator[World]:
    with real_world(folder / "world") as made:
        make_tls_pair(made.folder, NAME, days=-2, started=20)
        (made.folder / "app").mkdir()
        made.add_authority()
        yield made


@pytest.fixture(scope="module")
def running_httpd(shared: World, folder: Path) -> Iterator[Apache]:
    with apache(folder / "apache", ADDRESS, shared.nginx.http_port) as made:
        made.site("other", ["other.saltmarsh.test"])
        yield made


@pytest.fixture
def httpd(running_httpd: Apache) -> Iterator[Apache]:
    yield running_httpd
    running_httpd.site_file("trap").unlink(missing_ok=True)
    running_httpd.reload()


@pytest.fixture
def world(shared: World) -> Iterator[World]:
    before = shared.config.read_text()
    yield shared
    shared.config.write_text(before)
    assert shared.left_behind() == []


def configure(world: World, via: str, more: str = "") -> None:
    text = world.config.read_text().replace(
        "[server.front]  # the only one\n", f'[server.front]\nproof_folder = "{world.folder}/proofs"\n'
    )
    entry = f'\n[certificate.trap]\nnames = ["{NAME}"]\nauthority = "quayside"\nvia = "{via}"\n'
    world.config.write_text(text + more + entry)


def block(world: World, inside: str, root: str = "") -> str:
    """A plain virtual host of nginx; `{port}` and the like are filled in."""
    filled = inside.format(http=world.nginx.http_port, https=world.nginx.https_port, folder=world.folder)
    listen = f"listen 127.0.0.1:{world.nginx.http_port};"
    root = root or f"{world.folder}/www/trap"
    return f"server {{\n    {listen}\n    server_name {NAME};\n    root {root};\n{filled}}}\n"


def set_up(world: World, text: str) -> Path:
    """Make the trap the only site of its name, and wait until nginx has taken it."""
    file = world.nginx.sites_file(text, "trap")
    (world.folder / "www" / "trap").mkdir(parents=True, exist_ok=True)
    world.nameserver.table[NAME] = ["127.0.0.1"]
    subprocess.run(world.nginx.command("-t"), check=True, capture_output=True)
    world.nginx.reload()
    configure(world, "front")
    return file


TO_HTTPS = "    return 301 https://$host:{https}$request_uri;\n"
NGINX = {
    "redirect": (TO_HTTPS, ["answers everything with `return`"]),
    "redirect by if": (
        '    if ($scheme = "http") {{ return 301 https://$host:{https}$request_uri; }}\n',
        ["after a redirect to https", "may be taken elsewhere by `if"],
    ),
    "proxy": (
        "    location / {{ proxy_pass http://127.0.0.1:9; }}\n",
        ["answers 502", "is handed to an application (location /)", "trap.conf, line 5"],
    ),
    "front controller": (
        "    location / {{ rewrite ^ /index.html break; }}\n",
        ["something answers every path with a page of its own", "is rewritten"],
    ),
    "hidden folders": (
        "    location ~ /\\. {{ deny all; }}\n",
        ["answers 403", "allow everybody to read", "falls under the location for /\\."],
    ),
    "password": (
        '    auth_basic "members"; auth_basic_user_file {folder}/nobody;\n',
        ["answers 40", "allow everybody to read"],
    ),
    "loop": ("    location / {{ return 302 http://$host$uri; }}\n", ["the redirects go in a circle"]),
    "another port": (
        "    location / {{ return 302 http://$host:8081$uri; }}\n",
        ["redirected to port 8081, where CAs do not follow", "port 80 or 443"],
    ),
    "an address": (
        "    location / {{ return 302 http://127.0.0.1$uri; }}\n",
        ["redirected to the address 127.0.0.1, where CAs do not follow"],
    ),
}


@pytest.mark.parametrize("trap", NGINX)
def test_a_trap_in_nginx_is_told_with_its_remedy_and_opened_by_the_smallest_change(world: World, trap: str) -> None:
    inside, words = NGINX[trap]
    file = set_up(world, block(world, inside))
    (world.folder / "nobody").touch()
    (world.folder / "www" / "trap" / "index.html").write_text("<h1>welcome</h1>\n")
    before = file.read_bytes()
    checked = world.run("precheck", "trap")
    assert checked.status == 1, checked.out
    for word in words:
        assert word in checked.flat, f"“{word}” is not in {checked.out}"
    refused = world.stamp_in_vain("trap")
    assert refused.status == 1
    orders = world.ca.orders()
    assert "--let-through" in refused.flat
    preview = world.run("prove", "trap", "--let-through", "--preview")
    assert preview.status == 0, preview.err
    assert f"+    location ^~ {PROOFS}" in preview.out
    assert file.read_bytes() == before
    opened = world.run("prove", "trap", "--let-through")
    assert opened.status == 0, opened.err
    assert "serves the expected response" in opened.flat
    assert world.run("stamp", "trap").status == 0
    assert world.ca.orders() <= orders + 1  # none, if one was opened before its proof was looked at
    again = world.run("prove", "trap", "--let-through")
    assert (again.status, "was opened before" in again.flat) == (2, True)
    closed = world.run("prove", "trap", "--close-again")
    assert closed.status == 0, closed.err
    assert file.read_bytes() == before
    assert not (world.folder / "proofs").exists()
    assert world.run("precheck", "trap").status == 1


APACHE = {
    "redirect": ("    Redirect permanent / https://trap.saltmarsh.test/\n", ["is redirected by `Redirect permanent"]),
    "rewrite": (
        "    RewriteEngine on\n    RewriteCond %{{HTTP_HOST}} ^trap\n"
        "    RewriteRule ^(.*)$ https://%{{HTTP_HOST}}$1 [R=301,L]\n",
        ["may be rewritten by `RewriteRule"],
    ),
    "proxy": (
        '    ProxyPass "/" "http://127.0.0.1:9/"\n',
        ["answers 503", "is handed to an application", "trap.conf, line 5"],
    ),
    "hidden folders": (
        '    <DirectoryMatch "/\\.">\n        Require all denied\n    </DirectoryMatch>\n',
        ["answers 403", "allow everybody to read"],
    ),
    "password": (
        '    <Location "/">\n        AuthType Basic\n        AuthName "members"\n        AuthUserFile {folder}/nobody\n'
        "        Require valid-user\n    </Location>\n",
        ["answers 401", "allow everybody to read"],
    ),
    "front controller": (
        "    RewriteEngine on\n    RewriteRule ^ /index.html [L]\n",
        ["something answers every path with a page of its own"],
    ),
}


@pytest.mark.parametrize("trap", APACHE)
def test_a_trap_in_apache_is_told_with_its_remedy_and_opened_by_the_smallest_change(
    world: World, httpd: Apache, trap: str
) -> None:
    inside, words = APACHE[trap]
    httpd.site("trap", [NAME], inside.format(folder=httpd.folder))
    (httpd.folder / "nobody").touch()
    world.nameserver.table[NAME] = [ADDRESS]
    configure(world, "httpd", httpd.entry("httpd"))
    before = httpd.site_file("trap").read_bytes()
    checked = world.run("precheck", "trap")
    assert checked.status == 1, checked.out
    for word in words:
        assert word in checked.flat, f"“{word}” is not in {checked.out}"
    opened = world.run("prove", "trap", "--let-through")
    assert opened.status == 0, opened.err
    assert world.run("stamp", "trap", "--reissue").status == 0
    httpd.site_file("trap").write_text(httpd.site_file("trap").read_text() + "# somebody's later remark\n")
    assert world.run("prove", "trap", "--close-again").status == 0
    assert httpd.site_file("trap").read_bytes() == before + b"# somebody's later remark\n"
    assert not (httpd.folder / "proofs").exists()


def test_a_redirect_to_https_with_an_expired_certificate_is_passed_over_and_told(world: World) -> None:
    tls = (
        f"server {{ listen 127.0.0.1:{world.nginx.https_port} ssl; server_name {NAME}; root {world.folder}/www/trap;\n"
        f"  ssl_certificate {world.folder}/{NAME}.pem; ssl_certificate_key {world.folder}/{NAME}.key; }}\n"
    )
    set_up(world, block(world, TO_HTTPS) + tls)
    checked = world.run("precheck", "trap")
    assert checked.status == 0, checked.out
    assert "after a redirect to https" in checked.flat
    reason = r"certificate that is not valid \((certificate has expired|self-signed certificate)\)"
    assert re.search(reason, checked.flat)
    assert world.run("stamp", "trap", "--reissue").status == 0


def test_a_site_that_has_tls_alone_and_one_that_another_virtual_host_answers_for(world: World) -> None:
    pair = f"ssl_certificate {world.folder}/{NAME}.pem; ssl_certificate_key {world.folder}/{NAME}.key;"
    tls = block(world, f"    {pair}\n").replace(f"{world.nginx.http_port};", f"{world.nginx.https_port} ssl;")
    set_up(world, tls)
    checked = world.run("precheck", "trap")
    assert checked.status == 1
    assert "answers 404" in checked.flat
    assert "has no virtual host for plain HTTP: this one has TLS alone" in checked.flat


def test_a_document_root_that_is_not_the_one_served_is_found_by_alias(world: World) -> None:
    alias = f"    location {PROOFS} {{{{ alias {{folder}}/elsewhere/; }}}}\n"
    set_up(world, block(world, alias))
    (world.folder / "elsewhere").mkdir(exist_ok=True)
    assert world.run("precheck", "trap").status == 0
    assert world.run("stamp", "trap", "--reissue").status == 0
    assert not list((world.folder / "elsewhere").iterdir())


@pytest.mark.parametrize(
    ("addresses", "told"),
    [
        (["::1", "127.0.0.1"], "at ::1: no connection: Connection refused"),
        (["127.0.0.1", "127.0.0.5"], "at 127.0.0.5: no connection: Connection refused"),
        (["127.0.0.1", ADDRESS], f"at {ADDRESS}: answers 404"),
    ],
)
def test_one_wrong_address_is_told_with_its_record(
    world: World, httpd: Apache, addresses: list[str], told: str
) -> None:
    assert httpd.address == ADDRESS
    set_up(world, block(world, ""))
    world.nameserver.table[NAME] = addresses
    checked = world.run("precheck", "trap")
    assert checked.status == 1
    assert told in checked.flat
    assert f"correct the {'AAAA' if '::1' in addresses else 'A'} record in DNS" in checked.flat
    assert "at 127.0.0.1: serves the expected response" in world.run("precheck", "trap", "--all").flat


def test_a_change_that_the_server_refuses_or_that_does_not_help_goes_back_byte_for_byte(world: World) -> None:
    only_once = f"    location ~ ^{PROOFS} {{{{ return 403; }}}}\n    location = {PROOFS}x {{{{ }}}}\n"
    file = set_up(world, block(world, only_once))
    before = file.read_bytes()
    world.nameserver.table[NAME] = ["127.0.0.1", "127.0.0.5"]  # no change of nginx helps against a wrong address
    done = world.run("prove", "trap", "--let-through", timeout=200)
    assert done.status == 1
    assert "is not seen from outside after the change either" in done.flat
    assert "all files are restored" in done.flat
    assert file.read_bytes() == before
    assert not (world.folder / "proofs").exists()
    world.nameserver.table[NAME] = ["127.0.0.1"]
    file.write_text(before.decode() + "nonsense;\n")
    broken = world.run("prove", "trap", "--let-through")
    assert broken.status == 1
    assert "is broken already" in broken.flat
    assert "nothing was changed" in broken.flat
    file.write_bytes(before)


def let_through_and_die(world: World, place: int) -> list[str]:
    """Open the way, killed behind a numbered action or write (0 for none); returns what each of these was."""
    done, places = killed_at(place, world.folder / "places", world.config, ["prove", "trap", "--let-through"])
    # How often it looks until the reload has taken effect differs, so a late place may not be come to.
    assert done.returncode in {0, -signal.SIGKILL if place else 0}, done.stderr
    return places


def test_killed_anywhere_while_opening_the_way_the_next_run_opens_it_and_all_can_go_back(world: World) -> None:
    file = set_up(world, block(world, TO_HTTPS))
    before = file.read_bytes()
    places = let_through_and_die(world, 0)
    assert world.run("prove", "trap", "--close-again").status == 0
    changing = [
        number
        for number, what in enumerate(places, 1)
        if any(word in what for word in ("passages", "trap.conf", " run ", "-s reload"))
    ]
    assert len(changing) > 5
    for number in changing:
        let_through_and_die(world, number)
        done = world.run("prove", "trap", "--let-through")
        assert done.status == 0 or "was opened before" in done.flat, f"{places[number - 1]}: {done.err}"
        assert world.run("precheck", "trap").status == 0
        assert world.run("prove", "trap", "--close-again").status == 0
        assert file.read_bytes() == before, places[number - 1]
        assert not (world.folder / "proofs").exists(), places[number - 1]
