"""Proofs by DNS records against real BIND: a primary that takes signed updates, a secondary that lags behind."""

import functools
import json
import re
import signal
import subprocess
import sys
import time
from collections.abc import Callable, Iterator

import pytest
from bind_world import PRIMARY, SECONDARY, BindWorld, bind_world
from cryptography import x509
from killing import killed_at
from world import inkstamp_program, plain_site

from inkstamp.pki.certificates import dns_names
from inkstamp.view.authoritative import ask_server

BY_UPDATE = """
[nameserver.primary]
key_file = "primary.tsig"
seconds = 90

[nameserver.other]
address = "127.0.0.1"
key_file = "other.tsig"
seconds = 90
"""


@pytest.fixture(scope="module")
def shared(tmp_path_factory: pytest.TempPathFactory) -> Iterator[BindWorld]:
    with bind_world(tmp_path_factory.mktemp("bind")) as made:
        yield made


@pytest.fixture
def world(shared: BindWorld) -> BindWorld:
    text = shared.config.read_text()
    authority = text[text.index("[authority.quayside]") :].split("\n\n")[0]
    shared.configure(BY_UPDATE + "\n" + authority + "\n")
    return shared


def has_just(world: BindWorld, server: str, values: list[str]) -> bool:
    return world.txt("_acme-challenge.saltmarsh.test", server) == values


def wait_for(condition: Callable[[], bool]) -> None:
    deadline = time.monotonic() + 10
    while not condition():
        assert time.monotonic() < deadline
        time.sleep(0.1)


def flat(text: str) -> str:
    return re.sub(r"\s+", " ", text)


def test_a_wildcard_and_its_bare_name_are_proven_together_and_nothing_is_left(world: BindWorld) -> None:
    world.change("update add _acme-challenge.saltmarsh.test 60 TXT somebody-elses")
    unclear = world.run("stamp", "saltmarsh.test", "*.saltmarsh.test")
    assert unclear.status == 2
    assert "(primary, other, by-hand)" in flat(unclear.err)
    done = world.run("stamp", "saltmarsh.test", "*.saltmarsh.test", "--as", "marsh", "--via", "primary")
    assert done.status == 0, done.err
    assert "challenge dns-01, placed by primary" in flat(done.err)
    assert "all 2 nameservers of saltmarsh.test have the record" in flat(done.err)
    leaf = x509.load_pem_x509_certificate((world.home / "shelf" / "marsh" / "current" / "leaf.pem").read_bytes())
    assert set(dns_names(leaf)) == {"saltmarsh.test", "*.saltmarsh.test"}
    for server in (PRIMARY, SECONDARY):
        wait_for(functools.partial(has_just, world, server, ["somebody-elses"]))
    world.change("update delete _acme-challenge.saltmarsh.test TXT")


def test_an_alias_into_another_zone_is_followed_and_the_update_goes_there(world: BindWorld) -> None:
    done = world.run("stamp", "ferry.saltmarsh.test", "--as", "ferry", "--via", "other")
    assert done.status == 0, done.err
    assert "all 2 nameservers of proofs.tides.test have the record (as ferry.proofs.tides.test)" in flat(done.err)
    assert world.txt("ferry.proofs.tides.test") == []


def test_a_challenge_name_that_is_a_zone_of_its_own_is_found_and_updated_there(world: BindWorld) -> None:
    done = world.run("stamp", "cut.saltmarsh.test", "--as", "cut", "--via", "other")
    assert done.status == 0, done.err
    assert "all 2 nameservers of _acme-challenge.cut.saltmarsh.test have the record" in flat(done.err)
    assert world.txt("_acme-challenge.cut.saltmarsh.test") == []


def test_an_answer_that_does_not_fit_into_a_datagram_is_asked_for_again_over_tcp(world: BindWorld) -> None:
    values = [f"somebody-elses-{number}-{'x' * 150}" for number in range(30)]
    name = "_acme-challenge.crowd.saltmarsh.test"
    world.change(*(f"update add {name} 60 TXT {value}" for value in values))
    wait_for(lambda: world.txt(name, SECONDARY) == sorted(values))
    for server in (PRIMARY, SECONDARY):
        told = ask_server("ns", server, world.dns_port, name, "TXT")
        assert (sorted(told.values), told.trouble) == (sorted(values), "")
    world.change(f"update delete {name} TXT")


def test_when_no_file_is_seen_a_record_proves_the_name_in_the_same_order(world: BindWorld) -> None:
    world.site("shut", ["shut.saltmarsh.test"], more="    location /.well-known/ { return 403; }\n")
    world.change("update add shut.saltmarsh.test 60 A 127.0.0.1")
    world.config.write_text(
        world.config.read_text() + '\n[certificate.shut]\nauthority = "quayside"\nvia = ["front", "primary"]\n'
        'names = ["shut.saltmarsh.test", "*.shut.saltmarsh.test"]\nproof = ["http-01", "dns-01"]\n'
    )
    orders = world.ca.orders()
    done = world.run("stamp", "shut")
    assert done.status == 0, done.err
    assert "shut.saltmarsh.test: http-01 is not seen; dns-01 is tried instead" in flat(done.err)
    assert world.ca.orders() == orders + 1
    assert world.txt("_acme-challenge.shut.saltmarsh.test") == []
    assert world.left_behind() == []


@pytest.mark.parametrize(
    ("change", "told"),
    [
        (("c2FsdG1hcnNo", "d3Jvbmctb25l"), "check name, algorithm and secret of the key"),
        (('key "primary"', 'key "unknown"'), "check name, algorithm and secret of the key"),
        (("hmac-sha256", "hmac-md5"), "known: hmac-sha256"),
        (("secret", "sekret"), "holds no TSIG key"),
    ],
)
def test_a_key_that_does_not_fit_is_told_and_the_order_waits(
    change: tuple[str, str], told: str, world: BindWorld
) -> None:
    file = world.folder / "primary.tsig"
    before = file.read_text()
    file.write_text(before.replace(*change))
    try:
        done = world.run("stamp", "rowing.saltmarsh.test", "--as", "rowing", "--via", "primary")
        if done.status == 0:  # the CA remembered an earlier proof, so that no key was needed
            done = world.stamp_in_vain("rowing")
        assert done.status in {1, 2}
        assert told in flat(done.err)
        assert "c2Fs" not in done.err + done.out
    finally:
        file.write_text(before)
    assert world.run("stamp", "rowing").status == 0  # goes on with the order
    assert world.txt("_acme-challenge.rowing.saltmarsh.test") == []


def test_a_name_that_the_key_may_not_change_and_a_server_that_is_not_there_are_told(world: BindWorld) -> None:
    world.configure(
        world.config.read_text().partition("[nameserver.primary]")[0].partition("roots.pem")[2].lstrip('"\n')
        + BY_UPDATE + '[nameserver.gone]\naddress = "127.0.0.1:9"\nkey_file = "primary.tsig"\n'
        + world.config.read_text().partition('other.tsig"\n')[2]
    )  # fmt: skip
    for via, told in (
        ("other", "server's update policy is in the way"),
        ("gone", "gave no proper answer to an update of"),
    ):
        done = world.run("stamp", f"{via}.saltmarsh.test", "--as", via, "--via", via)
        assert done.status == 1
        assert told in flat(done.err)


def test_a_nameserver_that_lags_is_waited_for_and_the_ca_is_not_asked_before(world: BindWorld) -> None:
    config = world.config.read_text()
    world.config.write_text(config.replace("seconds = 90", "seconds = 3"))
    asked = world.ca.log.read_text().count("Pulled a task")
    world.secondary.send_signal(signal.SIGSTOP)
    try:
        done = world.run("stamp", "www.rowing.saltmarsh.test", "--via", "primary", "--as", "lagging")
    finally:
        world.secondary.send_signal(signal.SIGCONT)
    assert done.status == 1
    assert "ns2.saltmarsh.test (::1) gave no answer within 2 s" in flat(done.err)
    assert "the CA was not asked" in flat(done.err)
    assert world.ca.log.read_text().count("Pulled a task") == asked
    assert world.txt("_acme-challenge.www.rowing.saltmarsh.test") == []
    again = world.run("stamp", "lagging")
    assert again.status == 0, again.err
    assert "resuming order" in again.err


def test_records_made_by_hand_are_told_watched_and_gone_on_with(world: BindWorld) -> None:
    # A name that no other test proves: the CA remembers proofs, now and then.
    first = world.run("stamp", "*.hand.saltmarsh.test", "--via", "by-hand", "--as", "byhand")
    assert first.status == 3, first.err
    line = re.search(
        r"record (_acme-challenge\.hand\.saltmarsh\.test) in zone saltmarsh\.test, as _acme-challenge\.hand "
        r"type TXT value ([\w-]{43})", flat(first.err),
    )  # fmt: skip
    assert line
    name, value = line.groups()
    assert "is not at" not in first.err  # it was just told
    assert max(map(len, first.err.splitlines())) <= 80
    near = [
        (f"{name}.saltmarsh.test. 60 TXT {value}", "enter _acme-challenge.hand as its name"),
        (f'{name}. 60 TXT "\\"{value}\\""', "quotation marks or blanks"),
    ]
    for record, told in near:
        world.change(f"update add {record}")
        assert told in flat(world.run("stamp", "byhand").err)
        world.change(f"update delete {record.split()[0]} TXT")
    orders = world.ca.orders()
    command = [inkstamp_program(), "--config", str(world.config), "prove", "byhand", "--wait", "1"]
    with subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as waiting:
        time.sleep(6)  # longer than a run waits that was not asked to
        began = time.monotonic()
        world.change(f"update add {name}. 60 TXT {value}")
        assert waiting.wait(20) == 0
    assert time.monotonic() - began < 10
    assert world.run("collect", "byhand").status == 0
    assert world.ca.orders() == orders
    assert world.txt(name) == [value]  # made by hand, so it is left to the hand
    world.change(f"update delete {name}. TXT")


PROGRAM = """
import json, subprocess, sys
told = json.load(sys.stdin)
open("{log}", "a").write(json.dumps(told) + "\\n")
if told["records"][0]["name"].startswith("_acme-challenge.bad"):
    print(json.dumps({{"error": "the cloud says no"}}))
    sys.exit(0)
verb = {{"put": "add", "drop": "delete"}}[told["action"]]
lines = ["server 127.0.0.1 {port}"]
for each in told["records"]:
    ttl = f"{{each['ttl']}} " if verb == "add" else ""
    lines.append(f"update {{verb}} {{each['name']}}. {{ttl}}{{each['type']}} {{json.dumps(each['value'])}}")
done = subprocess.run(["nsupdate", "-k", "{key}"], input="\\n".join([*lines, "send", ""]), text=True)
print(json.dumps({{"done": done.returncode == 0}}))
"""


def test_a_program_of_the_users_own_is_told_in_json_and_its_errors_are_shown(world: BindWorld) -> None:
    script, log = world.folder / "carrier.py", world.folder / "carrier.log"
    script.write_text(PROGRAM.format(log=log, port=world.dns_port, key=world.folder / "primary.tsig"))
    base = world.config.read_text()
    table = f'\n[program.cloud]\ncommand = ["{sys.executable}", "{script}"]\nseconds = 90\n'
    world.config.write_text(base + table)
    done = world.run("stamp", "own.saltmarsh.test", "*.own.saltmarsh.test", "--as", "own", "--via", "cloud")
    assert done.status == 0, done.err
    told = [json.loads(line) for line in log.read_text().splitlines()]
    assert [each["action"] for each in told] == ["put", "drop"]
    assert told[0]["records"] == told[1]["records"]
    (first, second) = told[0]["records"]
    assert first["name"] == second["name"] == "_acme-challenge.own.saltmarsh.test"
    assert {**first, "value": ""} == {
        "zone": "saltmarsh.test", "name": first["name"], "type": "TXT", "value": "", "ttl": 60,
    }  # fmt: skip
    assert "the cloud says no" in flat(world.run("stamp", "bad.saltmarsh.test", "--as", "bad", "--via", "cloud").err)
    script.write_text("import time; time.sleep(60)")
    patient = world.config.read_text()
    world.config.write_text(patient.replace("seconds = 90", "seconds = 1"))
    assert "did not end within 1 s" in flat(
        world.run("stamp", "slow.saltmarsh.test", "--as", "slow", "--via", "cloud").err
    )
    world.config.write_text(world.config.read_text().replace("seconds = 1\n", "seconds = 90\n"))
    script.write_text("print('hello')")
    assert "its answer is no JSON: hello" in flat(world.run("stamp", "slow").err)


def test_what_a_portal_wants_to_see_is_carried_into_dns_and_taken_out_again(world: BindWorld) -> None:
    world.config.write_text(
        world.config.read_text()
        + '\n[authority.fogbell]\nkind = "portal"\nrecord = "_fogbell.{domain}"\nvalue = "{sha256}"\n'
        'record_type = "txt"\n[certificate.tide]\nnames = ["tide.saltmarsh.test", "*.tide.saltmarsh.test"]\n'
        'authority = "fogbell"\nvia = "primary"\nproof = "txt"\n'
    )
    assert world.run("order", "tide").status == 3
    done = world.run("prove", "tide")
    assert done.status == 0, done.out + done.err
    assert "all 2 nameservers of saltmarsh.test have the record" in flat(done.out)
    assert len(world.txt("_fogbell.tide.saltmarsh.test", SECONDARY)) == 1
    assert world.run("prove", "tide").status == 0
    assert world.run("order", "tide", "--cancel").status == 0
    assert world.txt("_fogbell.tide.saltmarsh.test") == []


@pytest.mark.parametrize("kind", ["cname", "txt"])
def test_what_a_portal_wants_to_see_at_a_delegated_name_is_made_where_that_leads(world: BindWorld, kind: str) -> None:
    """The portal validates the registrable domain, whose validation name is delegated to another zone."""
    before, name = world.config.read_text(), "_fogbell.saltmarsh.test"
    target = "_fogbell.proofs.tides.test"
    world.config.write_text(
        before + '\n[authority.fogbell]\nkind = "portal"\nrecord = "_fogbell.{registrable}"\n'
        f'value = "{{sha1}}.ca.test"\nrecord_type = "{kind}"\n[certificate.far]\nauthority = "fogbell"\n'
        f'names = ["far.saltmarsh.test", "farther.saltmarsh.test"]\nvia = "other"\nproof = "{kind}"\n'
    )
    world.change(f"update add {name} 60 CNAME {target}")
    wait_for(lambda: bool(world.txt(name, SECONDARY)) or bool(world.records(name, "CNAME", SECONDARY)))
    try:
        assert world.run("order", "far").status == 3
        done = world.run("prove", "far")
        assert done.status == 0, done.out + done.err
        assert f"as {target}" in flat(done.out)
        (value,) = world.records(target, kind.upper(), SECONDARY)
        assert value.endswith(".ca.test" if kind == "txt" else ".ca.test.")
        proofs = world.run("why", "far", "--json").json["why"]["proofs"]
        assert {each["place"] for each in proofs} == {name}
        assert world.run("order", "far", "--cancel").status == 0
        assert world.records(target, kind.upper()) == []
    finally:
        world.change(f"update delete {name} CNAME")
        world.config.write_text(before)


def test_a_run_killed_with_records_in_dns_leaves_none_behind(world: BindWorld) -> None:
    def stamp_and_die(place: int) -> tuple[str, list[str]]:
        """Stamp a fresh name and be killed at a place (never, for 0); returns the name and the places passed."""
        name = f"killed{place}.saltmarsh.test"
        command = ["stamp", name, "--via", "primary"]
        return name, killed_at(place, world.folder / "places", world.config, command)[1]

    # The other places are those of every order, tried with http-01.
    _, whole = stamp_and_die(0)
    chosen = [number for number, what in enumerate(whole, start=1) if re.search(r"update|ledger", what)]
    for place in chosen:
        name, _ = stamp_and_die(place)
        orders = world.ca.orders()
        done = world.run("stamp", name)
        assert done.status == 0, done.err
        assert world.ca.orders() - orders <= 1
        assert world.txt(f"_acme-challenge.{name}") == []
    assert len(chosen) > 8


def test_a_wildcard_goes_to_every_virtual_host_under_it_but_those_with_a_certificate_of_their_own(
    world: BindWorld,
) -> None:
    entry = (
        '\n[certificate.wide]\nnames = ["*.wide.saltmarsh.test"]\nauthority = "quayside"\nvia = "primary"\n'
        'proof = "dns-01"\ninstall = ["front"]\nSITES\n[certificate.own]\nnames = ["own.wide.saltmarsh.test"]\n'
        'authority = "quayside"\nvia = "front"\ninstall = ["front"]\n'
    )
    sites = {name: world.nginx.folder / "sites" / f"{name}.conf" for name in ("one", "two", "own", "deep.er")}
    for name in sites:
        names = [f"{name}.wide.saltmarsh.test", *(["more.wide.saltmarsh.test"] if name == "two" else [])]
        world.nginx.sites_file(plain_site(names, world.nginx.http_port, world.folder), name)
    world.nginx.reload()
    text = world.config.read_text()
    world.config.write_text(text + entry.replace("SITES", 'sites = ["one.wide.saltmarsh.test"]'))
    done = world.run("stamp", "wide")
    assert "ssl_certificate" in sites["one"].read_text(), done.err
    assert not [name for name in sites if name != "one" and "ssl_certificate" in sites[name].read_text()]
    world.config.write_text(text + entry.replace("SITES", ""))
    preview = flat(world.run("install", "wide", "--preview").out)
    for name in ("one", "two", "more"):
        assert f"{name}.wide.saltmarsh.test" in preview.partition("sites front: ")[2].partition("---")[0]
    done = world.run("install", "wide")
    assert done.status == 0, done.err
    for name in ("one", "two", "more"):
        assert world.served(f"{name}.wide.saltmarsh.test") == world.edition("wide", 1)
    assert not [name for name in ("own", "deep.er") if "ssl_certificate" in sites[name].read_text()]


def test_undo_takes_a_wildcard_from_the_site_that_it_came_to_last(world: BindWorld) -> None:
    entry = (
        '\n[certificate.grow]\nnames = ["*.grow.saltmarsh.test"]\nauthority = "quayside"\nvia = "primary"\n'
        'proof = "dns-01"\ninstall = ["front"]\n'
    )
    world.config.write_text(world.config.read_text() + entry)
    files = []
    for name in ("old", "new"):
        domain = f"{name}.grow.saltmarsh.test"
        files.append(world.nginx.sites_file(plain_site([domain], world.nginx.http_port, world.folder), f"g-{name}"))
        world.nginx.reload()
        world.run("stamp", "grow") if name == "old" else world.run("install", "grow")
        assert world.served(domain) == world.edition("grow", 1)
    with_tls = files[0].read_text()
    done = world.run("undo", "grow")
    assert done.status == 0, done.err
    assert files[0].read_text() == with_tls
    assert "ssl" not in files[1].read_text()
    assert world.served("old.grow.saltmarsh.test") == world.edition("grow", 1)
