"""Entries of the configuration changed without an editor: comments stay, what would not load is refused."""

import os
from pathlib import Path

import forked
import pytest
from world import Ran, inkstamp_program, make_tls_pair

FILE = """# ours, by hand
home = "home"

[authority.quayside]
directory = "https://acme.quayside.test/directory"  # the usual one

[server.front]   # the only one
kind = "nginx"
main_file = "/etc/nginx/nginx.conf"
reload = ["systemctl", "reload", "nginx"]

[certificate.shop]  # Crew 1
names = ["shop.saltmarsh.test"]  # more to come
authority = "quayside"
via = "front"
install = ["front"]

[group.web]
authority = "quayside"
via = "front"
"""


@pytest.fixture
def config(tmp_path: Path) -> Path:
    file = tmp_path / "inkstamp.toml"
    file.write_text(FILE)
    return file


def run(config: Path, *arguments: str) -> Ran:
    done = forked.run([inkstamp_program(), "--config", str(config), *arguments], dict(os.environ), timeout=60)
    return Ran(done.returncode, done.stdout, done.stderr)


def test_settings_are_changed_as_typed_and_every_comment_stays(config: Path) -> None:
    done = run(config, "server", "change", "front", "redirect=yes", "hsts_days=30", "tls=strict", "reload=")
    assert done.status == 0, done.err
    text = config.read_text()
    assert all(each in text for each in ("# ours, by hand", "# the usual one", "# the only one", "# more to come"))
    assert "redirect = true" in text
    assert "reload" not in text
    assert "redirect" in done.out
    again = run(config, "server", "change", "front", "redirect=yes", "tls=strict")
    assert (again.status, config.read_text()) == (0, text)
    assert "says that already" in again.out
    assert run(config, "certificate", "change", "shop", "key=rsa-2048", "via=front", "keep=5").status == 0
    assert 'key = "rsa-2048"' in config.read_text()
    shown = run(config, "certificate", "show", "shop", "--json").json["entries"][0]
    assert (shown["settings"]["keep"], shown["settings"]["install"]) == (5, ["front"])
    listed = run(config, "server", "show")
    assert "front" in listed.out
    assert "shop +1" in listed.out
    assert "authority" in run(config, "certificate", "show", "shop").out


def test_entries_are_added_and_taken_out_again_byte_for_byte(config: Path) -> None:
    before = config.read_bytes()
    added = run(config, "server", "add", "edge", "kind=haproxy", "reach=ssh://root@edge.saltmarsh.test", "sudo=on")
    assert added.status == 0, added.err
    assert "sudo = true" in config.read_text()
    assert run(config, "nameserver", "add", "ns", "address=127.0.0.1:5300", "seconds=20").status == 0
    assert run(config, "nameserver", "show", "ns", "--json").json["entries"][0]["settings"]["seconds"] == 20
    assert run(config, "nameserver", "remove", "ns").status == 0
    assert run(config, "server", "remove", "edge").status == 0
    assert config.read_bytes() == before


@pytest.mark.parametrize(
    ("arguments", "told"),
    [
        (["server", "change", "front", "redirekt=true"], "did you mean “redirect”"),
        (["server", "change", "front", "redirect=perhaps"], "is true or false"),
        (["server", "change", "front", "hsts_days=many"], "is a number"),
        (["server", "change", "front", "redirect"], "is not KEY=VALUE"),
        (["server", "change", "front", "kind=webserver"], "known values"),
        (["server", "change", "nobody", "kind=nginx"], "there is no server “nobody”"),
        (["server", "change", "front", "kind=files", "root=/srv/www", "main_file="], "could not be used any more"),
        (["server", "add", "front", "kind=nginx"], "there is a server “front” already"),
        (["server", "add", "Front!", "kind=nginx"], "cannot be the name"),
        (["server", "add", "edge"], "what kind of server"),
        (["server", "change", "front", "files=one"], "is a table"),
        (["server", "remove", "front"], "is used by shop, group web"),
        (["certificate", "change", "shop", "authority=nobody"], "nobody"),
        (["certificate", "change", "shop", "install=nobody"], "nobody"),
        (["certificate", "change", "shop"], "nothing was said to change"),
        (["certificate", "change", "shop", "--group", "web"], "is in the configuration file"),
        (["certificate", "change", "shop", "names=not a name"], "name"),
    ],
)
def test_what_is_not_possible_gets_one_clear_error_and_nothing_is_written(
    config: Path, arguments: list[str], told: str
) -> None:
    done = run(config, *arguments)
    assert (done.status, config.read_text()) == (2, FILE), done.out + done.err
    assert told in done.flat, done.err


def test_an_entry_with_a_mistake_is_shown_and_can_be_corrected(config: Path) -> None:
    config.write_text(
        FILE.replace('kind = "nginx"', 'kind = "webserver"').replace(
            'authority = "quayside"\nvia', 'authority = "nowhere"\nvia', 1
        )
    )
    assert "error" in run(config, "server", "show").out
    assert run(config, "server", "change", "front", "kind=nginx").status == 0
    assert run(config, "certificate", "change", "shop", "authority=quayside").status == 0
    assert config.read_text() == FILE


def test_a_certificate_of_the_roster_is_changed_there_and_moved_to_another_group(config: Path) -> None:
    (roots, _) = make_tls_pair(config.parent, "roots.saltmarsh.test")
    more = f'[group.slow]\nauthority = "quayside"\nvia = "front"\nkeep = 7\n[view]\nroots = "{roots}"\n'
    config.write_text(f"{FILE}\n{more}")
    before = config.read_bytes()
    assert run(config, "enrol", "--group", "web", "bay.saltmarsh.test", "--customer", "Crew 1", "--offline").status == 0
    name = "bay.saltmarsh.test"
    done = run(config, "certificate", "change", name, "key=rsa-3072", "--group", "slow", "--customer", "")
    assert done.status == 0, done.err
    assert "Crew 1 -> not set" in done.out
    shown = run(config, "certificate", "show", name, "--json").json["entries"][0]
    assert "in group slow" in shown["where"]
    assert (shown["settings"]["key"], shown["settings"]["keep"]) == ("rsa-3072", 7)
    assert "customer" not in shown["settings"]
    assert run(config, "certificate", "change", name, "key=").status == 0
    assert run(config, "certificate", "change", name, "install=nobody").status == 2
    assert config.read_bytes() == before
