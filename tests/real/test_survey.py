"""What is here, told rightly: sites of real servers here and over SSH, their files, and who answers for a name."""

from collections.abc import Iterator
from pathlib import Path

import pytest
from more_servers import Apache, apache, ssh_machine
from world import World, make_tls_pair, real_world

from inkstamp.standins.ports import free_ports

FAR, STRANGE = "127.0.0.3", "127.0.0.6"


@pytest.fixture(scope="module")
def world(folder: Path) -> Iterator[World]:
    with real_world(folder / "world", ca_env={"nonces_rejected": "0"}) as made:
        made.add_authority()
        made.site("club", ["club.saltmarsh.test"])
        assert made.run("stamp", "club.saltmarsh.test", "--as", "club").status == 0
        yield made


@pytest.fixture(scope="module")
def far(world: World, folder: Path) -> Iterator[Apache]:
    """An Apache httpd on another machine, with a site whose files are in a bad state."""
    cert, key = make_tls_pair(folder, "far.saltmarsh.test")
    key.chmod(0o644)
    (port,) = free_ports(1)
    with (
        ssh_machine(folder / "far", FAR, port) as machine,
        apache(folder / "far-apache", FAR, world.nginx.http_port) as httpd,
    ):
        text = (
            f"Listen {FAR}:{world.nginx.https_port}\n<VirtualHost {FAR}:{world.nginx.https_port}>\n"
            f"    ServerName far.saltmarsh.test\n    SSLEngine on\n    SSLProtocol -all +TLSv1.3\n"
            f"    SSLCertificateFile {cert}\n    SSLCertificateKeyFile {key}\n</VirtualHost>\n"
        )
        httpd.site("far", ["far.saltmarsh.test"], text=text)
        world.nameserver.table["far.saltmarsh.test"] = [FAR]
        entry = httpd.entry("far", f'reach = "ssh://{FAR}:{port}"\nssh_config = "{machine.client}"\n')
        world.config.write_text(world.config.read_text() + entry)
        yield httpd


def test_key_chain_rights_and_settings_are_told_of_every_site_here_and_far(world: World, far: Apache) -> None:
    done = world.run("--json", "survey")
    sites = {name: each for each in done.json["sites"] for name in each["site"]["names"]}
    club, other = sites["club.saltmarsh.test"], sites["far.saltmarsh.test"]
    assert (club["whole_chain"], club["issuers"], club["key_matches"]) == (True, 1, True)
    assert club["key_rights"].startswith("0600 ")
    assert club["site"]["settings"] == ["ssl_protocols TLSv1.2 TLSv1.3"]
    assert (other["whole_chain"], other["issuers"], other["key_matches"]) == (False, 0, None)
    assert other["site"]["settings"] == ["SSLProtocol -all +TLSv1.3"]
    told = {finding["topic"]: finding["seen"] for finding in other["findings"]}
    assert "is self-signed" in told["trust"]
    assert "everybody may read its key" in told["key"]
    assert done.status == 1
    assert "BEGIN" not in done.out


def test_a_key_that_does_not_fit_and_a_chain_that_is_cut_off_are_told(world: World) -> None:
    shelf = world.home / "shelf" / "club" / "0001"
    world.site("torn", ["torn.saltmarsh.test"])
    other = make_tls_pair(world.folder, "other.test")[1]
    (world.folder / "torn.pem").write_bytes((shelf / "leaf.pem").read_bytes())
    (world.nginx.folder / "sites" / "torn.conf").write_text(
        f"server {{ listen 127.0.0.1:{world.nginx.https_port} ssl; server_name torn.saltmarsh.test; "
        f"ssl_certificate {world.folder}/torn.pem; ssl_certificate_key {other}; }}\n"
    )
    told = world.run("survey", "torn.saltmarsh.test").flat
    (world.nginx.folder / "sites" / "torn.conf").unlink()
    assert "incomplete chain: “" in told
    assert "does not match the certificate" in told
    assert "does not cover torn.saltmarsh.test" in told


def test_it_is_told_who_answers_for_a_name_and_when_none_of_the_servers_does(world: World, far: Apache) -> None:
    world.nameserver.table["club.saltmarsh.test"] = ["127.0.0.1", STRANGE]
    cert, key = make_tls_pair(world.folder, "strange.test")
    world.site("strange", ["strange.test"])
    (world.nginx.folder / "sites" / "strange.conf").write_text(
        f"server {{ listen {STRANGE}:{world.nginx.https_port} ssl; server_name strange.test; "
        f"ssl_certificate {cert}; ssl_certificate_key {key}; }}\n"
    )
    world.nginx.reload()
    (world.nginx.folder / "sites" / "strange.conf").unlink()
    found = {each["name"]: each["findings"] for each in
             world.run("--json", "survey", "club.saltmarsh.test", "far.saltmarsh.test").json["names"]}  # fmt: skip
    world.nameserver.table["club.saltmarsh.test"] = ["127.0.0.1"]
    here, strange = found["club.saltmarsh.test"]
    assert (here["severity"], "is front: it serves serial" in here["seen"]) == ("ok", True)
    assert (strange["severity"], f"{STRANGE}:" in strange["seen"]) == ("note", True)
    assert "no site of these servers has the name there" in strange["seen"], "every loopback address is this machine's"
    (far_away,) = found["far.saltmarsh.test"]
    assert "is far: it serves serial" in far_away["seen"]


def test_what_the_running_server_serves_is_compared_with_its_files(world: World, far: Apache) -> None:
    good = world.run("survey", "--live").flat
    assert good.count("serves what is in its file") == 2
    make_tls_pair(far.folder.parent, "far.saltmarsh.test")
    stale = world.run("survey", "--live").flat
    assert "which differs from its file fix: reload server “far”" in stale


def test_a_machine_that_is_away_is_told_and_hides_nothing_of_the_others(world: World, far: Apache) -> None:
    text = world.config.read_text()
    world.config.write_text(text.replace('reach = "ssh://', 'reach = "ssh://nobody-at-all@'))
    done = world.run("survey")
    world.config.write_text(text)
    assert done.status == 1
    assert "club.saltmarsh.test" in done.out
    assert f"bad far: the connection to {FAR} does not come about" in done.flat
