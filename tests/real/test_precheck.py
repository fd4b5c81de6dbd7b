"""`precheck`: what a CA will look at, found before it does, with real nginx and real BIND."""

import re
import time
from collections.abc import Iterator

import dns.flags
import dns.message
import dns.rcode
import pytest
from bind_world import BindWorld, bind_world
from world import World, real_world

from inkstamp.standins.nameserver import Nameserver
from inkstamp.standins.ports import free_ports
from inkstamp.view.lookups import Records
from inkstamp.view.point import View

NAME = "rowing.saltmarsh.test"


def flat(text: str) -> str:
    return re.sub(r"\s+", " ", text)


@pytest.fixture(scope="module")
def world(tmp_path_factory: pytest.TempPathFactory) -> Iterator[World]:
    with real_world(tmp_path_factory.mktemp("precheck")) as made:
        made.site("rowing", [NAME])
        yield made


def test_a_name_that_will_pass_is_said_to_and_the_trial_leaves_nothing(world: World) -> None:
    done = world.run("precheck", NAME, "--all")
    assert done.status == 0, done.out + done.err
    assert f"{NAME} at 127.0.0.1: serves the expected response" in flat(done.out)
    assert "127.0.0.1 is answered by front" in flat(done.out)
    assert f"next inkstamp stamp {NAME}" in flat(done.out)
    assert world.left_behind() == []


TRAPS = {
    "page": ("location / { return 200 '<h1>app</h1>'; }", "something answers every path with a page of its own"),
    "moved": ("location / { root /nowhere; }", "cannot open the document root /nowhere"),
    "loop": ("rewrite ^(.*)$ http://$host$1? redirect;", "redirects go in a circle"),
}


@pytest.mark.parametrize("trap", list(TRAPS))
def test_the_classic_traps_are_found_before_the_ca_finds_them(trap: str, world: World) -> None:
    more, told = TRAPS[trap]
    name = f"{trap}.saltmarsh.test"
    root = world.folder / "www" / trap
    root.mkdir(parents=True)
    world.nginx.sites_file(
        f"server {{ listen 127.0.0.1:{world.nginx.http_port}; server_name {name}; root {root};\n{more}\n}}\n", trap
    )
    world.nameserver.table[name] = ["127.0.0.1"]
    world.nginx.reload()
    deadline = time.monotonic() + 10
    while True:  # the workers of before answer for a moment yet
        done = world.run("precheck", name)
        if told in flat(done.out) or time.monotonic() > deadline:
            break
    assert done.status == 1
    assert told in flat(done.out)
    assert "FAILS" in done.out
    assert list(root.iterdir()) == []


def test_addresses_that_are_not_ours_or_missing_are_told_and_many_names_stand_in_one_table(world: World) -> None:
    names = [f"n{number}.saltmarsh.test" for number in range(20)]
    world.site("many", names)
    world.nameserver.table[names[3]] = ["127.0.0.1", "192.0.2.1"]
    del world.nameserver.table[names[4]]
    done = world.run("precheck", *names, "nohost.saltmarsh.test")
    assert done.status == 1
    text = flat(done.out)
    assert f"{names[3]}: 192.0.2.1 is neither this machine nor a configured server" in text
    assert f"{names[4]}: does not exist in DNS (NXDOMAIN)" in text
    assert "no virtual host of server “front” answers plain HTTP for nohost.saltmarsh.test" in text
    assert len(re.findall(r"^n\d+\.saltmarsh\.test +passes", done.out, re.MULTILINE)) == 18
    data = world.run("precheck", names[0], "--json").json["names"]
    assert (data[0]["passes"], data[0]["addresses"], data[0]["method"]) == (True, ["127.0.0.1"], "http-01")
    assert world.left_behind() == []


def test_caa_is_climbed_to_and_judged_for_the_authority_that_is_meant(world: World) -> None:
    world.add_authority()
    text = world.config.read_text()
    world.config.write_text(text.replace("[authority.quayside]", '[authority.quayside]\ncaa = ["quayside.test"]'))
    for records, status, told in (
        (['0 issue "quayside.test"'], 0, ""),
        (['0 issue "fogbell.test"'], 1, 'add there: saltmarsh.test. CAA 0 issue "quayside.test"'),
        (['0 issue "quayside.test; validationmethods=dns-01"'], 1, "it is limited to dns-01"),
    ):
        world.nameserver.records["saltmarsh.test", "CAA"] = records
        done = world.run("precheck", NAME)
        assert done.status == status, done.out
        assert told in flat(done.out)
    del world.nameserver.records["saltmarsh.test", "CAA"]


def test_a_zone_whose_signatures_are_wrong_is_told_apart_from_one_that_fails() -> None:
    class Validating(Nameserver):
        """Fails for every name unless checking is disabled, as validating resolvers do for a zone badly signed."""

        def answer(self, data: bytes, limit: int) -> bytes:
            query = dns.message.from_wire(data)
            if query.flags & dns.flags.CD:
                return super().answer(data, limit)
            reply = dns.message.make_response(query)
            reply.set_rcode(dns.rcode.SERVFAIL)
            return reply.to_wire()

    (port,) = free_ports(1)
    with Validating(port, {"a.test": ["127.0.0.1"]}):
        assert Records(View(resolver=("127.0.0.1", port))).is_broken_by_dnssec("a.test")
    with Nameserver(port, {"a.test": ["127.0.0.1"]}):
        assert not Records(View(resolver=("127.0.0.1", port))).is_broken_by_dnssec("a.test")


@pytest.fixture(scope="module")
def signed(tmp_path_factory: pytest.TempPathFactory) -> Iterator[BindWorld]:
    with bind_world(tmp_path_factory.mktemp("zones")) as made:
        yield made


def test_for_a_wildcard_the_zone_its_aliases_and_every_nameserver_are_looked_at(signed: BindWorld) -> None:
    done = signed.run("precheck", "*.saltmarsh.test", "*.ferry.saltmarsh.test", "--all")
    assert done.status == 1, "what makes the records is not said, so nothing was tried"
    assert len(re.findall(r"^\*\S+ +not tried", done.out, re.MULTILINE)) == 2
    assert "the record goes into the zone saltmarsh.test" in flat(done.out)
    assert "the record goes into the zone proofs.tides.test (as ferry.proofs.tides.test)" in flat(done.out)
    more = [f"saltmarsh.test 60 NS {name}.saltmarsh.test." for name in ("ns3", "lame")]
    more += ["ns3.saltmarsh.test 60 A 127.0.0.1", "lame.saltmarsh.test 60 A 127.0.0.9"]
    signed.change(*(f"update add {each}" for each in more))
    lame = signed.run("precheck", "*.saltmarsh.test")
    assert lame.status == 1
    assert "lame.saltmarsh.test (127.0.0.9) gave no" in flat(lame.out)
    assert signed.run("precheck", "*.nozone.example", "--via", "nobody").status == 2
    signed.change(*(f"update delete {each.replace(' 60 ', ' ')}" for each in more))


def test_the_key_of_a_nameserver_is_tried_with_a_record_that_goes_again(signed: BindWorld) -> None:
    wrong = signed.folder / "wrong.key"
    wrong.write_text('key "somebody" { algorithm hmac-sha256; secret "c2FsdG1hcnNo"; };\n')
    wrong.chmod(0o600)
    text = '\n[nameserver.{0}]\naddress = "127.0.0.1:{1}"\nkey_file = "{2}"\n'
    tables = [text.format("good", signed.dns_port, signed.folder / "primary.tsig")]
    tables += [text.format("wrong", signed.dns_port, wrong)]
    tables += [text.format("other", signed.dns_port, signed.folder / "other.tsig")]
    second = text.format("second", signed.dns_port, signed.folder / "primary.tsig")
    tables += [second.replace("127.0.0.1", "[::1]")]
    signed.configure("".join(tables))
    asked = ["precheck", "*.rowing.saltmarsh.test", "--via"]
    done = signed.run(*asked, "good", "--all")
    assert done.status == 0, done.out + done.err
    assert "nameservers of saltmarsh.test have the record" in flat(done.out)
    for via, told in (
        ("wrong", "the key “somebody”"),
        ("other", "rowing.saltmarsh.test with the key “other”"),
        ("second", "secondary"),
    ):
        refused = signed.run(*asked, via)
        assert refused.status == 1
        assert told in flat(refused.out)
        assert "FAILS" in refused.out
    assert signed.txt("_acme-challenge.rowing.saltmarsh.test") == []
    assert "could not take" not in signed.run(*asked, "good").err, "nothing of what was refused is in the ledger"
