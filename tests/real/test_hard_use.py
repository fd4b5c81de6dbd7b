"""What hard use found: nothing passes untried, a request may be repeated, one mistake stops no other."""

import re
from collections.abc import Iterator
from pathlib import Path

import pytest
from more_servers import Apache, apache
from world import World, make_tls_pair, real_world

from inkstamp.jobs.deployment.drift import places_of
from inkstamp.runtime import Runtime

HTTPD = "127.0.0.3"


@pytest.fixture(scope="module")
def world(folder: Path) -> Iterator[World]:
    with real_world(folder / "world") as made:
        made.add_authority()
        yield made


@pytest.fixture
def config(world: World) -> Iterator[str]:
    """The configuration as it is, which is put back."""
    text = world.config.read_text()
    yield text
    world.config.write_text(text)


def test_a_redirect_to_https_with_a_certificate_of_another_name_is_passed_over_as_cas_do(world: World) -> None:
    root = world.site("leads", ["leads.saltmarsh.test"])
    cert, key = make_tls_pair(world.folder, "somebody-else.test")
    https = world.nginx.https_port
    lead = f"return 301 https://leads.saltmarsh.test:{https}$request_uri;"
    world.nginx.sites_file(
        f"server {{ listen 127.0.0.1:{world.nginx.http_port}; server_name leads.saltmarsh.test; {lead} }}\n"
        f"server {{ listen 127.0.0.1:{https} ssl; server_name leads.saltmarsh.test; root {root};\n"
        f"  ssl_certificate {cert}; ssl_certificate_key {key}; }}\n",
        "leads",
    )
    world.nginx.reload()
    looked = world.run("precheck", "leads.saltmarsh.test")
    assert looked.status == 0, looked.out
    assert "with a certificate that is not valid" in re.sub(r"\s+", " ", looked.out)
    done = world.run("stamp", "leads.saltmarsh.test", "--as", "leads")
    assert done.status == 0, done.err


def test_the_same_request_again_is_no_mistake_and_another_one_is_told_what_differs(world: World) -> None:
    world.site("twice", ["twice.saltmarsh.test", "www.twice.saltmarsh.test"])
    asked = ["stamp", "twice.saltmarsh.test", "www.twice.saltmarsh.test", "--via", "front", "--as", "double"]
    assert world.run(*asked).status == 0
    again = world.run(*asked, "--key", "ecdsa-p256", "--install", "front")
    assert again.status == 0, again.err
    assert "nothing to do" in again.out
    other = world.run(*asked, "--key", "rsa-2048")
    assert other.status == 2
    assert "not as --key says" in other.flat
    fewer = world.run("stamp", "twice.saltmarsh.test", "--as", "double")
    assert fewer.status == 2
    assert "www.twice.saltmarsh.test as well" in fewer.flat


def test_what_failed_before_an_entry_was_written_leaves_nothing_behind(world: World, config: str) -> None:
    assert world.run("stamp", "nowhere.saltmarsh.test", "--as", "nowhere").status == 1
    assert world.config.read_text() == config
    entry = '\n[certificate.nowhere]\nnames = ["nowhere.saltmarsh.test"]\nauthority = "quayside"\nvia = "front"\n'
    world.config.write_text(config + entry)
    assert "last met" not in world.run("why", "nowhere").out
    assert "not issued" in world.run("why", "nowhere").out


def test_nothing_passes_that_was_not_tried(world: World, folder: Path, config: str) -> None:
    httpd: Apache
    with apache(folder / "apache", HTTPD, world.nginx.http_port) as httpd:
        world.config.write_text(config + httpd.entry("httpd"))
        httpd.site("both", ["east.saltmarsh.test"])
        world.nameserver.table["east.saltmarsh.test"] = [HTTPD]
        found = world.run("precheck", "east.saltmarsh.test", "--all")
        assert found.status == 0, found.out
        assert "is answered by httpd" in found.out
        lost = world.run("precheck", "nobody.saltmarsh.test", "*.saltmarsh.test")
        assert lost.status == 1
        assert "passes" not in lost.out
        assert re.search(r"was not tried: \w+", re.sub(r"\s+", " ", lost.out))
        assert world.run("--json", "precheck", "nobody.saltmarsh.test").json["names"][0]["tried"] is False


def test_a_mistake_in_one_entry_stops_no_other_and_everybody_is_told(world: World, config: str) -> None:
    world.site("fine", ["fine.saltmarsh.test"])
    entry = '\n[certificate.{0}]\nnames = ["{0}.saltmarsh.test"]\nauthority = "{1}"\nvia = "front"\n'
    world.config.write_text(config + entry.format("fine", "quayside") + entry.format("wrong", "nobody"))
    line = world.config.read_text().splitlines().index('authority = "nobody"') + 1
    done = world.run("renew")
    assert done.status == 1
    assert "there is no authority “nobody”" in done.flat
    assert f"line {line}" in done.flat
    assert world.run("--json", "why", "fine").json["why"]["status"]["state"] == "ok"
    states = {each["name"]: each["state"] for each in world.run("--json", "status").json["certificates"]}
    assert states["wrong"] == "configuration error"
    assert world.run("why", "wrong").status == 2
    fine = entry.format("fine", "quayside") + 'install = ["front"]\n'
    world.config.write_text(config + fine + fine.replace("te.fine", "te.twin"))
    told = world.run("status").flat
    assert "names and key algorithm of [certificate.fine], and is for front too" in told


def test_a_site_that_is_gone_and_an_entry_that_is_gone_are_told(world: World, config: str) -> None:
    world.site("leaves", ["leaves.saltmarsh.test"])
    assert world.run("stamp", "leaves.saltmarsh.test", "--as", "leaves").status == 0
    named = world.config.read_text()
    file = world.nginx.folder / "sites" / "leaves.conf"
    kept = file.read_text()
    file.unlink()
    world.nginx.reload()
    runtime = Runtime(world.config, world.home)
    edition = runtime.ledger.newest_edition("leaves")
    assert edition is not None
    assert places_of(runtime, edition).lost == "front has no site for leaves.saltmarsh.test any more"
    file.write_text(kept)
    world.nginx.reload()
    world.config.write_text(named.partition("\n[certificate.leaves]")[0] + "\n")
    shown = {each["name"]: each["state"] for each in world.run("--json", "status").json["certificates"]}
    assert shown["leaves"] == "not configured"


def test_what_a_remedy_says_to_type_works_where_only_an_application_answers(world: World) -> None:
    name = "app.saltmarsh.test"
    world.nameserver.table[name] = ["127.0.0.1"]
    port = world.nginx.http_port
    world.nginx.sites_file(
        f"server {{\n  listen 127.0.0.1:{port};\n  server_name {name};\n"
        "  location / { proxy_pass http://127.0.0.1:1; }\n}\n",
        "app",
    )
    world.nginx.reload()
    refused = world.run("stamp", name)
    assert refused.status == 1
    assert f"inkstamp stamp {name} --let-through" in refused.flat
    done = world.run("stamp", name, "--let-through")
    assert done.status == 0, done.err
    assert "the challenge path is open now" in done.flat
    assert world.run("prove", name, "--close-again").status == 0
    assert world.run("undo", name).status == 0
