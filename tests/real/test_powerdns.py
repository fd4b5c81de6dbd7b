"""Records through the HTTP API of a real PowerDNS server, with a real BIND as its secondary."""

import json
import sqlite3
import urllib.request
from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest
from bind_world import SECONDARY, BindWorld, bind_world
from world import find_program, running, wait_for_port

from inkstamp.config.record_changers import Nameserver
from inkstamp.errors import CarrierTrouble
from inkstamp.proof.powerdns import PowerDnsCarrier
from inkstamp.proof.record_changes import DnsRecord
from inkstamp.reach.json_api import ApiAnswer
from inkstamp.standins.ports import free_ports

ZONE, ADDRESS, KEY = "harbour.test", "127.0.0.31", "harbour-api-key"
SCHEMA = Path("/usr/share/pdns-backend-sqlite3/schema/schema.sqlite3.sql")


@dataclass
class PowerDns:
    """A PowerDNS Authoritative Server with its SQLite backend."""

    url: str

    def ask(self, method: str, path: str, body: object = None) -> Any:
        """Ask its API with a library of its own."""
        data = json.dumps(body).encode() if body is not None else None
        request = urllib.request.Request(
            f"{self.url}/api/v1/servers/localhost{path}", data=data, method=method, headers={"X-API-Key": KEY}
        )
        with urllib.request.urlopen(request, timeout=10) as reply:
            text = reply.read()
        return json.loads(text) if text else None

    def replace(self, name: str, kind: str, *values: str) -> None:
        records = [{"content": value, "disabled": False} for value in values]
        made = {"name": f"{name}.", "type": kind, "ttl": 300, "changetype": "REPLACE", "records": records}
        self.ask("PATCH", f"/zones/{ZONE}.", {"rrsets": [made]})

    def values(self, name: str, kind: str) -> list[str]:
        sets = self.ask("GET", f"/zones/{ZONE}.")["rrsets"]
        return sorted(r["content"] for each in sets if (each["name"], each["type"]) == (f"{name}.", kind)
                      for r in each["records"])  # fmt: skip


@contextmanager
def powerdns(folder: Path, dns_port: int) -> Iterator[PowerDns]:
    (api_port,) = free_ports(1)
    folder.mkdir()
    with closing(sqlite3.connect(folder / "pdns.db")) as database:
        database.executescript(SCHEMA.read_text())
    (folder / "pdns.conf").write_text(
        f"launch=gsqlite3\ngsqlite3-database={folder}/pdns.db\ngsqlite3-pragma-synchronous=0\n"
        "cache-ttl=0\nquery-cache-ttl=0\nnegquery-cache-ttl=0\n"
        f"local-address={ADDRESS}\nlocal-port={dns_port}\nsocket-dir={folder}\nprimary=yes\n"
        f"webserver=yes\nwebserver-address=127.0.0.1\nwebserver-port={api_port}\napi=yes\napi-key={KEY}\n"
        f"allow-axfr-ips=127.0.0.0/8,::1\nalso-notify=[{SECONDARY}]:{dns_port}\nonly-notify=\n"
    )
    command = [find_program("pdns_server"), f"--config-dir={folder}", "--guardian=no", "--daemon=no",
               "--disable-syslog", "--write-pid=no"]  # fmt: skip
    with running(command, folder / "pdns.log", dns_port, address=ADDRESS) as process:
        wait_for_port(api_port, process, folder / "pdns.log")
        made = PowerDns(f"http://127.0.0.1:{api_port}")
        made.ask("POST", "/zones", {
            "name": f"{ZONE}.", "kind": "Primary", "nameservers": [f"ns1.{ZONE}.", f"ns2.{ZONE}."],
        })  # fmt: skip
        made.replace(f"ns1.{ZONE}", "A", ADDRESS)
        made.replace(f"ns2.{ZONE}", "AAAA", SECONDARY)
        made.replace(f"boats.{ZONE}", "A", "127.0.0.1")
        yield made


@dataclass
class Both:
    """BIND with PowerDNS as the primary of one zone, and the configuration for it."""

    world: BindWorld
    harbour: PowerDns


@pytest.fixture(scope="module")
def both(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Both]:
    folder = tmp_path_factory.mktemp("powerdns")
    delegated = {ZONE: {"ns1": ("A", ADDRESS), "ns2": ("AAAA", SECONDARY)}}
    (dns_port,) = free_ports(1)
    key = folder / "api.key"
    key.write_text(f"{KEY}\n")
    key.chmod(0o600)
    # A secondary asks again ten seconds later when its primary is not there yet.
    with powerdns(folder / "pdns", dns_port) as harbour, bind_world(folder, delegated, dns_port) as world:
        common = f'address = "{harbour.url}"\nkey_file = "{key}"\nseconds = 30\n'
        tables = f'\n[nameserver.harbour]\nkind = "powerdns"\n{common}'
        tables += f'\n[nameserver.recipe]\nkind = "http"\nrecipe = "powerdns"\n{common}'
        world.config.write_text(world.config.read_text() + tables)
        yield Both(world, harbour)


@pytest.fixture
def world(both: Both) -> BindWorld:
    return both.world


@pytest.fixture
def harbour(both: Both) -> PowerDns:
    return both.harbour


@pytest.mark.parametrize("via", ["harbour", "recipe"])
def test_a_wildcard_is_proven_through_the_api_and_the_values_of_others_stay(
    world: BindWorld, harbour: PowerDns, via: str
) -> None:
    name = f"_acme-challenge.{via}.{ZONE}"
    harbour.replace(name, "TXT", '"somebody else\'s"')
    done = world.run(
        "stamp", f"*.{via}.{ZONE}", f"{via}.{ZONE}", "--as", via, "--via", via, "--proof", "dns-01", "--json"
    )
    assert done.status == 0, done.err
    assert harbour.values(name, "TXT") == ['"somebody else\'s"']
    harbour.replace(name, "TXT")


def test_a_key_that_is_not_right_and_a_zone_that_is_not_there_are_told_as_that(
    world: BindWorld, harbour: PowerDns
) -> None:
    key = world.folder / "api.key"
    key.write_text("wrong\n")
    refused = world.run("precheck", f"boats.{ZONE}", "--via", "harbour")
    key.write_text(f"{KEY}\n")
    assert "the API key is not right" in " ".join(refused.out.split())
    assert "wrong" not in refused.out
    other = world.run("precheck", "rowing.saltmarsh.test", "--via", "harbour")
    assert "has no zone saltmarsh.test" in " ".join(other.out.split())


def test_a_nameserver_is_tried_with_a_record_that_is_gone_afterwards_and_no_secret_is_shown(
    world: BindWorld, harbour: PowerDns
) -> None:
    tried = world.run("nameserver", "try", "recipe", ZONE)
    assert tried.status == 0, tried.err
    assert "all 2 nameservers of harbour.test have the record" in " ".join(tried.out.split())
    assert "is gone again" in tried.out
    assert [line.split()[0] for line in tried.err.splitlines() if "http" in line and line[0].isupper()] == [
        "GET", "GET", "PATCH", "GET", "PUT", "GET", "GET", "PATCH", "GET", "PUT",
    ]  # fmt: skip
    assert KEY not in tried.out + tried.err
    assert harbour.values(f"_inkstamp-trial.{ZONE}", "TXT") == []
    told = json.loads(world.run("nameserver", "try", "recipe", f"boats.{ZONE}", "--json").out)
    assert told["passes"]
    assert len(told["requests"]) == 10
    assert json.loads(world.run("nameserver", "try", "harbour", ZONE, "--json").out)["passes"]
    unknown = world.run("nameserver", "try", "nowhere", ZONE)
    assert unknown.status == 2
    assert "no nameserver or program “nowhere”" in unknown.err
    assert "has no zone saltmarsh.test" in world.run("nameserver", "try", "recipe", "saltmarsh.test").err


def test_what_was_written_is_remembered_though_the_secondaries_are_not_told(
    world: BindWorld, harbour: PowerDns
) -> None:
    """What is not forgotten is taken out again."""
    told = DnsRecord(zone=ZONE, primary="", name=f"left.{ZONE}", kind="TXT", value="left")
    entry = Nameserver(kind="powerdns", address=harbour.url, key_file=str(world.folder / "api.key"))
    carrier = PowerDnsCarrier("harbour", entry)
    ask = carrier._api.ask

    def refuse_to_notify(method: str, path: str, body: object = None) -> ApiAnswer:
        return ApiAnswer(500, {"error": "no"}) if path.endswith("/notify") else ask(method, path, body)

    carrier._api.ask = refuse_to_notify  # type: ignore[method-assign]
    with pytest.raises(CarrierTrouble, match="does not notify") as caught:
        carrier.put([told])
    assert not caught.value.refused
    assert not caught.value.not_made
    assert harbour.values(told.name, "TXT") == ['"left"']
    carrier._api.ask = ask  # type: ignore[method-assign]
    carrier.drop([told])
    assert harbour.values(told.name, "TXT") == []


def test_caa_records_are_put_beside_those_of_others_and_renewals_still_pass(
    world: BindWorld, harbour: PowerDns
) -> None:
    boats = f"boats.{ZONE}"
    harbour.replace(ZONE, "CAA", '0 issue "fogbell.test"', '0 iodef "mailto:night@harbour.test"')
    text = world.config.read_text()
    entry = f'\n[certificate.boats]\nnames = ["{boats}"]\nauthority = "quayside"\nproof = "dns-01"\nvia = "harbour"\n'
    world.config.write_text(text + entry)
    unknown = world.run("caa", "boats")
    assert "it is not known what “quayside” is called in CAA records" in unknown.err
    table = "[authority.quayside]\n"
    world.config.write_text((text + entry).replace(table, f'{table}caa = ["quayside.test"]\n'))
    shown = world.run("caa", "boats", "--json")
    assert shown.status == 1, "it may not issue now"
    assert json.loads(shown.out)["names"][0]["domain"] == ZONE
    assert harbour.values(boats, "CAA") == []

    done = world.run("caa", "boats", "--put", "--yes", "--via", "harbour")

    assert done.status == 0, done.err
    values = harbour.values(boats, "CAA")
    assert values[:2] == ['0 iodef "mailto:night@harbour.test"', '0 issue "fogbell.test"']
    assert values[2].startswith('0 issue "quayside.test; accounturi=https://')
    assert values[2].endswith('; validationmethods=dns-01"')
    assert values[3] == '0 issuewild ";"'
    assert world.records(boats, "CAA", SECONDARY) == sorted(each.strip('"') for each in values)
    assert "it is, for quayside" in " ".join(world.run("caa", boats).out.split())
    simple = world.run("caa", "boats", "--simple", "--put", "--yes", "--via", "harbour")
    assert simple.status == 0, simple.err
    assert '0 issue "quayside.test"' in harbour.values(boats, "CAA")
    assert len(harbour.values(boats, "CAA")) == 4
    world.config.write_text(text)
    harbour.replace(ZONE, "CAA")
    harbour.replace(boats, "CAA")


def test_records_by_which_the_ca_could_not_issue_are_not_put(world: BindWorld, harbour: PowerDns) -> None:
    boats = f"boats.{ZONE}"
    text = world.config.read_text()
    entry = f'\n[certificate.boats]\nnames = ["{boats}"]\nauthority = "quayside"\nproof = "dns-01"\nvia = "harbour"\n'
    table = "[authority.quayside]\n"
    world.config.write_text((text + entry).replace(table, f'{table}caa = ["quayside.test"]\n'))
    harbour.replace(boats, "CAA", '128 tbs "x"')
    done = world.run("caa", "boats", "--put", "--yes", "--via", "harbour")
    assert done.status == 1
    assert "could not issue for boats.harbour.test with these records" in " ".join(done.err.split())
    assert harbour.values(boats, "CAA") == ['128 tbs "x"']
    alias = f"yachts.{ZONE}"
    harbour.replace(alias, "CNAME", f"{boats}.")
    more = f'\n[certificate.yachts]\nnames = ["{alias}"]\nauthority = "quayside"\nproof = "dns-01"\nvia = "harbour"\n'
    world.config.write_text(world.config.read_text() + more)
    beside = world.run("caa", alias, "--put", "--yes", "--via", "recipe")
    assert f"{alias} is an alias of {boats}, and no other record can be beside a CNAME" in " ".join(beside.err.split())
    assert harbour.values(alias, "CAA") == []
    world.config.write_text(text)
    harbour.replace(boats, "CAA")
