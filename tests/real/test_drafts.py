"""Challenge types of IETF drafts: real BIND, and the simulated CA, which validates with code of its own."""

import json
import re
import time
from collections.abc import Iterator
from dataclasses import dataclass

import pytest
from bind_world import PRIMARY, SECONDARY, BindWorld, bind_world

from inkstamp.proof.dns01 import account_record_name
from inkstamp.standins.ca import SimulatedCa
from inkstamp.standins.mailbox import HookReceiver
from inkstamp.standins.ports import free_ports

ZONE = "saltmarsh.test"
KEY = "primary.tsig"


@dataclass
class DraftWorld:
    """BIND, and a CA that offers the challenges of drafts."""

    world: BindWorld
    ca: SimulatedCa
    account: str
    text: str
    """The configuration that each test begins with."""

    def certificate(self, name: str, *names: str, more: str = "") -> None:
        """Configure a certificate of the CA."""
        told = ", ".join(f'"{each}"' for each in names)
        entry = f'\n[certificate.{name}]\nauthority = "beacon"\nnames = [{told}]\n{more}\n'
        self.world.config.write_text(self.world.config.read_text() + entry)

    def record(self, name: str, *, policy: str = "", until: float = 0, issuer: str = "quayside.test") -> str:
        end = f"; persistUntil={int(until)}" if until else ""
        value = f"{issuer}; accounturi={self.account}{policy}{end}"
        return f'update add _validation-persist.{name} 60 TXT "{value}"'

    def clear(self, name: str) -> None:
        self.world.change(f"update delete _validation-persist.{name} TXT")


@pytest.fixture(scope="module")
def drafts(tmp_path_factory: pytest.TempPathFactory) -> Iterator[DraftWorld]:
    folder = tmp_path_factory.mktemp("drafts")
    (api_port,) = free_ports(1)
    with (
        bind_world(folder) as world,
        SimulatedCa(api_port, folder / "beacon", dns_port=world.dns_port, http_port=world.nginx.http_port) as ca,
    ):
        ca.state.mood.offers = ("http-01", "dns-01", "dns-account-01", "dns-persist-01")
        roots = folder / "roots.pem"
        roots.write_bytes(roots.read_bytes() + ca.state.hierarchy.roots_file.read_bytes())
        done = world.run("authority", "add", "beacon", "--directory", ca.directory_url, "--agree-terms", "--trust",
                         str(ca.state.hierarchy.api_root_file))  # fmt: skip
        assert done.status == 0, done.err
        shown = json.loads(world.run("authority", "show", "beacon", "--json").out)
        text = world.config.read_text() + f'\n[nameserver.primary]\nkey_file = "{KEY}"\nseconds = 30\n'
        yield DraftWorld(world, ca, shown["authority"]["account_url"], text)


@pytest.fixture
def made(drafts: DraftWorld) -> DraftWorld:
    drafts.world.config.write_text(drafts.text.replace("[authority.beacon]\n", "[authority.beacon]\ndraft = true\n"))
    return drafts


def flat(text: str) -> str:
    return re.sub(r"\s+", " ", text)


def test_a_draft_is_used_only_where_the_configuration_says_so(drafts: DraftWorld) -> None:
    drafts.world.config.write_text(drafts.text)
    refused = drafts.world.run("stamp", ZONE, "--authority", "beacon", "--via", "primary", "--proof", "dns-persist-01")
    assert refused.status == 2
    assert "“dns-persist-01” is an IETF draft" in flat(refused.err)
    assert "draft = true under [authority.beacon]" in flat(refused.err)
    usual = drafts.world.run("stamp", ZONE, "--authority", "beacon", "--via", "primary", "--as", "usual")
    assert usual.status == 0, usual.err
    assert "challenge dns-01," in flat(usual.err)


def test_an_account_proves_a_name_at_a_label_of_its_own_beside_others(made: DraftWorld) -> None:
    world, name = made.world, f"rowing.{ZONE}"
    own = account_record_name(made.account, name)
    world.change(f"update add _acme-challenge.{name} 60 CNAME elsewhere.test.")  # another system has that name
    done = world.run("stamp", name, f"*.{name}", "--authority", "beacon", "--via", "primary", "--proof",
                     "dns-account-01", "--as", "own")  # fmt: skip
    assert done.status == 0, done.err
    assert world.txt(own) == [], "nothing is left"
    checked = json.loads(world.run("precheck", "own", "--json").out)
    assert [(each["method"], each["passes"]) for each in checked["names"]] == [("dns-account-01", True)] * 2, [
        each["findings"] for each in checked["names"]
    ]
    assert own in json.dumps(checked)
    world.change(f"update delete _acme-challenge.{name} CNAME")


def test_a_record_is_put_once_and_renewals_need_no_right_to_the_zone(made: DraftWorld) -> None:
    world = made.world
    place = f"_validation-persist.{ZONE}"
    world.change(f'update add {place} 60 TXT "fogbell.test; accounturi=https://fogbell.test/7"')
    done = world.run("stamp", ZONE, f"*.{ZONE}", "--authority", "beacon", "--via", "primary", "--as", "marsh")
    assert done.status == 0, done.err
    assert "challenge dns-persist-01, or dns-01" in flat(done.err)
    ours = f"quayside.test; accounturi={made.account}; policy=wildcard"
    for server in (PRIMARY, SECONDARY):
        assert world.txt(place, server) == sorted(["fogbell.test; accounturi=https://fogbell.test/7", ours])
    serial = world.records(ZONE, "SOA")
    key = world.folder / KEY
    key.rename(key.with_suffix(".away"))
    try:
        again = world.run("stamp", "marsh", "--reissue")
        assert again.status == 0, again.err
        rolled = world.run("authority", "rollover", "beacon")
        assert rolled.status == 0, rolled.err
        assert world.run("stamp", "marsh", "--reissue").status == 0, "a new account key changes nothing"
    finally:
        key.with_suffix(".away").rename(key)
    assert world.records(ZONE, "SOA") == serial
    shown = world.run("prove", "marsh", "--persistent", "--preview")
    assert f"all 2 nameservers of {ZONE} have the record for {made.account}, without an end" in flat(shown.out)

    ending = world.run("prove", "marsh", "--persistent", "--until", "2031-05-01T00:00+00:00", "--yes")
    assert ending.status == 0, ending.err
    assert f"{ours}; persistUntil=1935360000" in world.txt(place)
    assert ours not in world.txt(place), "the record of before is taken out"
    gone = world.run("prove", "marsh", "--persistent", "--take-back", "--yes")
    assert gone.status == 0, gone.err
    assert world.txt(place) == ["fogbell.test; accounturi=https://fogbell.test/7"], "those of others stay"
    made.clear(ZONE)


def test_a_person_is_shown_the_record_and_told_what_is_wrong_with_it_and_in_time_when_it_ends(
    made: DraftWorld,
) -> None:
    world, name = made.world, f"ferry.{ZONE}"
    made.certificate("ferry", name, f"*.{name}", more='via = "by-hand"\nproof = "dns-persist-01"')
    first = world.run("stamp", "ferry")
    assert first.status == 3, first.err
    assert f"quayside.test; accounturi={made.account}; policy=wildcard" in flat(first.err)
    wrong = {
        made.record(name, policy="; policy=wildcard", issuer="fogbell.test"): "is for another CA, fogbell.test",
        made.record(name).replace("accounturi=", "accounturi=x"): "is for another account",
        made.record(name): "does not allow wildcards",
        made.record(name, policy="; policy=wildcard", until=time.time() - 5): "ran out on",
    }
    for line, reason in wrong.items():
        world.change(line)
        told = world.run("stamp", "ferry")
        assert told.status == 3
        assert reason in flat(told.err)
        made.clear(name)
    world.change(made.record(name, policy="; policy=wildcard", until=time.time() + 40 * 86_400))
    done = world.run("stamp", "ferry")
    assert done.status == 0, done.err
    assert "may be removed" not in done.err, "the record has to stay"

    (port,) = free_ports(1)
    (world.folder / "hook.key").touch(mode=0o600)
    (world.folder / "hook.key").write_bytes(b"a key that both sides know")
    hook = f'\n[messenger.night]\nkind = "webhook"\nurl = "http://127.0.0.1:{port}/in"\nkey_file = "hook.key"\n'
    world.config.write_text(world.config.read_text() + hook)
    with HookReceiver(port) as receiver:
        run = world.run("renew")
    assert run.status == 0, run.err
    (post,) = receiver.posts
    assert f"waits for a person: renew the TXT record _validation-persist.{name}, which ends on" in str(post[1])
    status = json.loads(world.run("status", "--json").out)
    (ferry,) = [each for each in status["certificates"] if each["name"] == "ferry"]
    assert ferry["state"] == "waiting for you"
    assert ferry["stall"]["step"].startswith(f"renew the TXT record _validation-persist.{name}, which ends on 20")
    assert ferry["by_hand"] == "", "a timer can renew it"
    why = world.run("why", "ferry")
    assert f"have the record for {made.account}, until" in flat(why.out)
    assert "inkstamp prove ferry --persistent" in flat(why.out)
    shown = world.run("prove", "ferry", "--persistent")
    assert shown.status == 0, shown.out
    checked = world.run("precheck", "ferry")
    assert "the record ends on" in flat(checked.out)
    made.clear(name)
    assert world.run("prove", "ferry", "--persistent").status == 3
    assert world.run("prove", "ferry", "--persistent", "--via", "primary", "--yes").status == 0
    assert world.run("precheck", "ferry").status == 0
    made.clear(name)


def test_what_the_ca_does_not_take_is_told_and_another_way_is_gone(made: DraftWorld) -> None:
    world, name = made.world, f"www.rowing.{ZONE}"
    issuers = made.ca.state.mood.issuers
    made.ca.state.mood.issuers = ("other.test",)
    try:
        made.certificate("www", name, more='via = "primary"\nproof = ["dns-persist-01", "dns-01"]')
        world.change(made.record(name))
        done = world.run("stamp", "www")
        assert done.status == 0, done.err
        assert f"other.test; accounturi={made.account}" in world.txt(f"_validation-persist.{name}"), "by the challenge"
    finally:
        made.ca.state.mood.issuers = issuers
        made.clear(name)


def test_where_proof_is_not_stated_a_record_that_is_there_goes_before_files_and_not_before_a_standing_answer(
    made: DraftWorld,
) -> None:
    world, name = made.world, f"www.rowing.{ZONE}"
    world.site("www", [name])
    made.certificate("files", name, more='via = "front"\nkey = "rsa-2048"')
    answered = []
    for step in ("nothing", "record", "standing answer"):
        if step == "record":
            world.change(made.record(name))
        if step == "standing answer":
            put = world.run("prove", "--standing", "front", "--authority", "beacon", "--yes")
            assert put.status == 0, put.err
        done = world.run("stamp", "files", *([] if step == "nothing" else ["--reissue"]))
        assert done.status == 0, done.err
        answered.append(list(made.ca.state._authorizations.values())[-1].answered)
    assert answered == ["http-01", "dns-persist-01", "http-01"]
    assert world.run("prove", "--standing", "front", "--take-back").status == 0
    made.clear(name)
