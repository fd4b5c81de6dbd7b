"""The whole round against a real nginx and a real ACME CA."""

import os
import re
import socket
import ssl
import stat
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding
from world import NAMES, World, make_tls_pair, real_world

from inkstamp.acme.patience import POLLING
from inkstamp.clock import SystemClock
from inkstamp.config.model import Certificate
from inkstamp.jobs.lifecycle.proposal import Plan
from inkstamp.jobs.lifecycle.provisioning import carry_out
from inkstamp.runtime import Runtime


@pytest.fixture(scope="module")
def world(tmp_path_factory: pytest.TempPathFactory) -> Iterator[World]:
    with real_world(tmp_path_factory.mktemp("round")) as made:
        made.add_authority()
        yield made


class WaitsRecorded(SystemClock):
    """The machine's clock, and what was waited by it."""

    def __init__(self) -> None:
        super().__init__()
        self.waits: list[float] = []
        """Seconds, one after another."""

    def sleep(self, seconds: float) -> None:
        self.waits.append(seconds)
        super().sleep(seconds)


def leaf_on_shelf(world: World, name: str) -> x509.Certificate:
    return x509.load_pem_x509_certificate((world.home / "shelf" / name / "current" / "leaf.pem").read_bytes())


def test_stamp_takes_a_plain_site_to_a_served_certificate(world: World) -> None:
    world.site("rowing")
    before = (world.nginx.folder / "sites" / "rowing.conf").read_text()
    config_before = world.config.read_text()

    done = world.run("stamp", *NAMES, "--as", "rowing")

    assert done.status == 0, done.err
    assert "edition 1 is served" in done.out
    assert "[certificate.rowing] will be added" in done.err
    # the configuration grew, and lost nothing
    assert world.config.read_text().startswith(config_before)
    assert "# kept by hand" in world.config.read_text()
    # nginx's file: lines were added behind the listen, all else is as it was
    after = (world.nginx.folder / "sites" / "rowing.conf").read_text()
    added = re.search(r"plain\n((?:.*\n)*?)    server_name", after)
    assert added
    assert after.replace(added[1], "") == before
    assert "ssl_protocols TLSv1.2 TLSv1.3;" in added[1]
    # the public is served it, with the intermediate, and a client that trusts the root believes it
    context = ssl.create_default_context(cafile=str(world.folder / "roots.pem"))
    with (
        socket.create_connection(("127.0.0.1", world.nginx.https_port)) as plain,
        context.wrap_socket(plain, server_hostname=NAMES[1]) as tls,
    ):
        assert tls.getpeercert(binary_form=True) == ssl.PEM_cert_to_DER_cert(
            (world.home / "shelf/rowing/current/leaf.pem").read_text()
        )
    assert world.left_behind() == []


def test_the_shelf_keeps_its_secrets_and_openssl_finds_key_and_chain_fitting(world: World) -> None:
    folder = world.home / "shelf" / "rowing" / "current"
    assert os.readlink(folder) == "0001"
    assert sorted(each.name for each in folder.iterdir()) == [
        "combined.pem", "issuers.pem", "key.pem", "leaf.pem", "served.pem"
    ]  # fmt: skip
    for secret in [
        folder / "key.pem",
        folder / "combined.pem",
        world.home / "accounts" / "quayside.pem",
        world.home / "ledger.db",
    ]:
        assert stat.S_IMODE(secret.stat().st_mode) == 0o600
    for private in [world.home, folder.resolve(), world.home / "accounts"]:
        assert stat.S_IMODE(private.stat().st_mode) == 0o700
    from_key = subprocess.run(
        ["openssl", "pkey", "-in", folder / "key.pem", "-pubout"], capture_output=True, check=True
    )
    from_leaf = subprocess.run(
        ["openssl", "x509", "-in", folder / "leaf.pem", "-noout", "-pubkey"], capture_output=True, check=True
    )
    assert from_key.stdout == from_leaf.stdout
    verified = subprocess.run(
        ["openssl", "verify", "-CAfile", world.folder / "roots.pem", "-untrusted", folder / "issuers.pem",
         folder / "leaf.pem"],
        capture_output=True, check=False,
    )  # fmt: skip
    assert verified.returncode == 0, verified.stderr
    key = (folder / "key.pem").read_text().splitlines()[1]
    everything = "".join(world.run(*each).out for each in (["history", "--json"], ["status", "--json"]))
    assert key not in everything


def test_stamp_again_changes_nothing_and_asks_the_ca_nothing(world: World) -> None:
    orders = world.ca.orders()
    for arguments in (["rowing"], list(NAMES), [NAMES[0]]):
        done = world.run("stamp", *arguments)
        assert done.status == 0, done.err
        assert "nothing to do" in done.out
    renewed = world.run("renew")
    assert renewed.status == 0
    assert "1 checked, 0 renewed, 0 failed" in renewed.out
    assert world.ca.orders() == orders


def test_a_new_edition_is_switched_to_without_touching_the_configuration(world: World) -> None:
    before = (world.nginx.folder / "sites" / "rowing.conf").read_bytes()
    old = world.served(NAMES[0])
    done = world.run("stamp", "rowing", "--reissue")
    assert done.status == 0, done.err
    assert (world.nginx.folder / "sites" / "rowing.conf").read_bytes() == before
    assert world.served(NAMES[0]) != old
    assert os.readlink(world.home / "shelf" / "rowing" / "current") == "0002"


def test_check_tells_what_is_served_and_whether_the_roots_trust_it(world: World) -> None:
    good = world.run("check", NAMES[0])
    assert good.status == 0
    assert f"{NAMES[0]}: warnings" in good.out, "plain HTTP is open beside it"
    assert "leads to the trusted root" in good.flat
    other, _ = make_tls_pair(world.folder, "other-root.test")
    bad = world.run("check", "rowing", "--roots", str(other), "--json")
    assert bad.status == 1
    report = bad.json["names"][0]
    assert [f["topic"] for f in report["findings"] if f["severity"] == "bad"] == ["trust"]
    assert report["chain"][0]["names"] == list(NAMES)
    nobody = world.run("check", "nobody.saltmarsh.test")
    assert nobody.status == 1
    assert "NXDOMAIN" in nobody.out


def test_survey_finds_the_sites_through_includes_with_their_certificates(world: World) -> None:
    world.site("bakery", ["bakery.saltmarsh.test"])
    done = world.run("survey", "--json")
    assert done.status == 0, done.err
    sites = {site["site"]["names"][0]: site for site in done.json["sites"] if site["site"]["names"]}
    rowing, bakery = sites[NAMES[0]], sites["bakery.saltmarsh.test"]
    assert rowing["certificate"]["names"] == list(NAMES)
    assert rowing["days_left"] > 1000
    assert rowing["site"]["root"] == str(world.folder / "www" / "rowing")
    assert {listen["port"] for listen in rowing["site"]["listens"]} == {world.nginx.http_port, world.nginx.https_port}
    assert bakery["certificate"] is None
    assert "inkstamp stamp bakery.saltmarsh.test" in bakery["findings"][0]["remedy"]
    # nginx itself sees the same names
    dumped = subprocess.run(world.nginx.command("-T"), capture_output=True, text=True, check=True).stdout
    for name in sites:
        assert f"server_name {name}" in dumped


@pytest.mark.parametrize(("key", "shown"), [("rsa-2048", "rsa-2048"), ("ecdsa-p384", "ecdsa-p384")])
def test_other_kinds_of_key_are_issued_and_served(world: World, key: str, shown: str) -> None:
    name = f"{key}.saltmarsh.test"
    world.site(key, [name])
    done = world.run("stamp", name, "--as", key, "--key", key)
    assert done.status == 0, done.err
    report = world.run("check", name, "--json").json["names"][0]
    assert report["chain"][0]["key"] == shown


def test_an_rsa_account_key_signs_the_whole_round_and_several_cas_need_a_choice(world: World) -> None:
    other = world.folder / "second.toml"
    other.write_text(world.config.read_text().split("[certificate")[0].replace('"home"', '"home2"'))
    added = world.run(
        "authority", "add", "second", "--directory", world.directory, "--agree-terms", "--trust", str(world.trust),
        "--account-key", "rsa-2048", "--config", str(other),
    )  # fmt: skip
    assert added.status == 0, added.err
    world.site("rs256", ["rs256.saltmarsh.test"])
    unsure = world.run("stamp", "rs256.saltmarsh.test", "--config", str(other))
    assert unsure.status == 2
    assert "quayside, second" in unsure.err
    done = world.run("--config", str(other), "stamp", "rs256.saltmarsh.test", "--authority", "second")
    assert done.status == 0, done.err


def test_a_site_that_redirects_to_a_virtual_host_with_tls_is_proven_and_updated(world: World) -> None:
    name = "museum.saltmarsh.test"
    cert, key = make_tls_pair(world.folder, name, days=1)
    root = world.folder / "www" / "museum"
    root.mkdir(parents=True)
    http, https = world.nginx.http_port, world.nginx.https_port
    text = (
        f"server {{ listen 127.0.0.1:{http}; server_name {name}; return 301 https://{name}:{https}$request_uri; }}\n"
        f"server {{\n  listen 127.0.0.1:{https} ssl; server_name {name}; root {root};\n"
        f"  ssl_certificate {cert};   # the old one\n  ssl_certificate_key {key};\n}}\n"
    )
    file = world.nginx.sites_file(text, "museum")
    world.nameserver.table[name] = ["127.0.0.1"]
    world.nginx.reload()
    done = world.run("stamp", name, "--as", "museum")
    assert done.status == 0, done.err
    assert "after a redirect to https" in " ".join(done.err.split())
    shelf = world.home / "shelf" / "museum" / "current"
    expected = text.replace(str(cert), f"{shelf}/served.pem").replace(str(key), f"{shelf}/key.pem")
    assert file.read_text() == expected


def test_a_certificate_for_one_name_costs_the_ca_no_more_requests_than_the_protocol_needs(
    tmp_path: Path,
) -> None:
    """Seven with a known account: new order, authorization, challenge, order, finalize, order, certificate."""
    clock = WaitsRecorded()
    with real_world(tmp_path, ca_env={"nonces_rejected": "0"}) as quiet:
        quiet.add_authority()
        quiet.site("rowing", NAMES[:1])  # a name that the CA has not seen yet: it may reuse its authorizations
        runtime = Runtime(quiet.config, quiet.home, clock=clock)
        entry = Certificate(names=NAMES[:1], authority="quayside", via="front", install=("front",))
        carry_out(runtime, Plan(name="rowing", entry=entry, write=True))
        counts = dict(runtime.accounts.get("quayside").requests)
        runtime.close(0)
    polls = counts.pop("order")
    assert counts == {
        "directory": 1, "nonce": 1, "new order": 1, "authorization": 1, "challenge": 1, "finalize": 1, "certificate": 1,
    }  # fmt: skip
    # How often the order has to be polled is up to the CA's pace: each poll follows a wait, four times the last one,
    # and there are two things to wait for, the validation and the certificate.
    growing = [POLLING.first * POLLING.factor**tries for tries in range(8)]
    waits = [wait for wait in clock.waits if wait in growing]
    second = waits.index(POLLING.first, 1)
    assert waits == growing[:second] + growing[: len(waits) - second]
    assert polls == len(waits)


def test_renew_gives_a_configured_certificate_its_first_edition_and_leaves_the_others_alone(world: World) -> None:
    editions = {each: os.readlink(each) for each in (world.home / "shelf").glob("*/current")}
    with world.config.open("a") as config:
        config.write(
            '\n[certificate.fresh]\nnames = ["fresh.saltmarsh.test"]\nauthority = "quayside"\nvia = "front"\n'
            'install = ["front"]\n'
        )
    world.site("fresh", ["fresh.saltmarsh.test"])
    preview = world.run("renew", "--preview")
    assert "fresh: due, not issued yet" in preview.out
    done = world.run("renew", "--at-once", "3")
    assert done.status == 0, done.err
    assert "fresh: edition 1 on front" in done.out
    assert leaf_on_shelf(world, "fresh").public_bytes(Encoding.DER) == world.served("fresh.saltmarsh.test")
    assert {each: os.readlink(each) for each in editions} == editions


def test_several_names_of_one_customer_share_one_virtual_host_and_one_certificate(world: World) -> None:
    names = [f"n{number}.saltmarsh.test" for number in range(8)]
    world.site("many", names)
    certificates = world.ca.certificates()
    done = world.run("stamp", *names, "--as", "many")
    assert done.status == 0, done.err
    assert world.ca.certificates() == certificates + 1
    assert {world.served(each) for each in names} == {leaf_on_shelf(world, "many").public_bytes(Encoding.DER)}


def test_the_steps_of_the_round_can_be_taken_one_by_one(world: World) -> None:
    name = "ferry.saltmarsh.test"
    world.site("ferry", [name])
    orders = world.ca.orders()
    early = world.run("collect", "rowing")
    assert early.status == 2
    ordered = world.run("order", name, "--as", "ferry")
    assert ordered.status == 3, ordered.err
    assert "inkstamp prove ferry" in ordered.out
    assert world.run("why", "ferry", "--json").json["why"]["stall"]["next_command"] == "inkstamp stamp ferry"
    unproven = world.run("collect", "ferry")
    assert unproven.status == 3
    assert "inkstamp prove ferry" in unproven.err
    proven = world.run("prove", "ferry")
    assert proven.status == 0, proven.err
    assert "is ready" in proven.out
    assert world.left_behind() == []
    assert world.run("prove", "ferry", "--txt", "a", "b").status == 2
    assert world.run("collect", "ferry").status == 0
    assert world.run("stamp", "ferry").status == 0
    assert world.ca.orders() - orders == 1
    assert world.served(name) == leaf_on_shelf(world, "ferry").public_bytes(Encoding.DER)
