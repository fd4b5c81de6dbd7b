"""What carries records: keys read, updates formed, programs told; the shipped examples do what they say."""

import base64
import json
import subprocess
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import pytest

from inkstamp.config.record_changers import Nameserver, Program
from inkstamp.errors import CarrierTrouble, ConfigurationError, ServerTrouble
from inkstamp.proof.carriers import ProgramCarrier, UpdateCarrier
from inkstamp.proof.dns01 import record_name, record_value
from inkstamp.proof.record_changes import DnsRecord, by_zone
from inkstamp.reach import dns_update
from inkstamp.reach.dns_update import read_tsig
from inkstamp.reach.interface import Ran
from inkstamp.reach.local import LocalHost
from inkstamp.standins.cloud import SimulatedCloud
from inkstamp.standins.ports import free_ports

EXAMPLES = Path(__file__).resolve().parent.parent.parent / "examples"
KEY = 'key "tide" {\n  algorithm hmac-sha512;\n  secret "c2VjcmV0";\n};\n'


def record(name: str, value: str, kind: str = "TXT", zone: str = "example.org") -> DnsRecord:
    return DnsRecord(zone=zone, primary="192.0.2.1", name=name, kind=kind, value=value)


def test_a_wildcard_and_its_bare_name_have_their_records_at_one_place() -> None:
    """RFC 8555 section 8.4; the digest by openssl."""
    assert record_name("*.example.org") == record_name("example.org") == "_acme-challenge.example.org"
    done = subprocess.run(
        ["openssl", "dgst", "-sha256", "-binary"], input=b"tok.thumb", capture_output=True, check=True
    )
    assert record_value("tok.thumb") == base64.urlsafe_b64encode(done.stdout).decode().rstrip("=")


def test_a_key_is_read_as_nameservers_write_it_and_never_shown() -> None:
    key = read_tsig(KEY.encode(), "x")
    assert (key.name, key.algorithm.to_text(), key.secret) == ("tide", "hmac-sha512.", "c2VjcmV0")
    assert "c2VjcmV0" not in repr(key)
    for wrong, told in ((b"", "holds no TSIG key"), (KEY.replace("sha512", "md5").encode(), "is not known")):
        with pytest.raises(ConfigurationError, match=told):
            read_tsig(wrong, "x")


def test_one_update_a_zone_carries_all_values_and_leaves_others_alone(monkeypatch: pytest.MonkeyPatch) -> None:
    sent: list[tuple[Any, ...]] = []
    monkeypatch.setattr(dns_update, "send_update", lambda *args, **more: sent.append((*args, more["add"])))
    records = [
        record("_x.example.org", "one"), record("_x.example.org", "two"), record("_x.example.org", "one"),
        record("_x.example.net", 'q"\\' + "y" * 300, zone="example.net"), record("c.example.org", "t.ca.test", "CNAME"),
    ]  # fmt: skip
    UpdateCarrier("primary", Nameserver(), 53).put(records)
    assert [(zone, len(changes), server, add) for zone, changes, server, _, _, add in sent] == [
        ("example.org", 3, "192.0.2.1", True), ("example.net", 1, "192.0.2.1", True),
    ]  # fmt: skip
    assert sent[0][1] == [
        ("_x.example.org", "TXT", '"one"'),
        ("_x.example.org", "TXT", '"two"'),
        ("c.example.org", "CNAME", "t.ca.test."),
    ]
    assert sent[1][1][0][2].startswith('"q\\"\\\\yyy')
    assert sent[1][1][0][2].count('" "') == 1  # in pieces of 255 at most
    assert len(by_zone(records)) == 2
    with pytest.raises(CarrierTrouble, match="has no address"):
        UpdateCarrier("primary", Nameserver(), 53).put(
            [DnsRecord(zone="a", primary="", name="a", kind="TXT", value="")]
        )


class Answers(LocalHost):
    """A host whose programs give one answer."""

    def __init__(self, status: int, output: str) -> None:
        self.ran = Ran(("x",), status, output)
        self.told: list[bytes] = []

    def run(self, command: Sequence[str], seconds: float, data: bytes = b"") -> Ran:
        self.told.append(data)
        return self.ran


@pytest.mark.parametrize(
    ("status", "output", "said"),
    [
        (0, '{"error": "quota"}', "quota"),
        (0, "[]", "does not say that it is done"),
        (0, '{"done": false}', "does not say that it is done"),
        (0, "", "is no JSON"),
        (1, "Traceback: boom", "boom"),
    ],
)
def test_a_program_that_does_not_say_it_is_done_has_failed(status: int, output: str, said: str) -> None:
    carrier = ProgramCarrier("cloud", Program(command=("x",)), Answers(status, output))
    with pytest.raises(CarrierTrouble) as caught:
        carrier.put([record("_x.example.org", "one")])
    assert said in caught.value.said


def test_a_program_that_cannot_be_started_is_told_by_its_name() -> None:
    with pytest.raises(ServerTrouble, match="cannot start"):
        ProgramCarrier("cloud", Program(command=("/nowhere/x",)), LocalHost()).put([record("_x.example.org", "one")])


def test_the_cloud_example_puts_and_drops_at_the_simulated_cloud_and_shows_its_errors(tmp_path: Path) -> None:
    (port,) = free_ports(1)
    token = tmp_path / "token"
    token.write_text("moon\n")
    known: dict[tuple[str, str], list[str]] = {}
    with SimulatedCloud(port, "moon", known) as cloud:
        command = (sys.executable, str(EXAMPLES / "cloud_dns.py"), cloud.url, str(token))
        carrier = ProgramCarrier("cloud", Program(command=command), LocalHost())
        both = [record("_x.example.org", "one"), record("_x.example.org", "two")]
        carrier.put(both)
        carrier.put(both)
        assert known == {("_x.example.org", "TXT"): ['"one"', '"two"']}
        carrier.drop(both[:1])
        carrier.drop(both)
        assert known == {}
        with pytest.raises(CarrierTrouble) as caught:
            carrier.put([record("_x.example.net", "one")])
        assert "422" in caught.value.said
        token.write_text("sun\n")
        with pytest.raises(CarrierTrouble) as caught:
            carrier.put(both)
        assert "401" in caught.value.said
        assert "sun" not in caught.value.said


def test_the_zone_file_example_keeps_its_lines_and_has_them_taken(tmp_path: Path) -> None:
    file, taken = tmp_path / "proofs.inc", tmp_path / "taken"
    command = [sys.executable, str(EXAMPLES / "zone_lines.py"), str(file), "touch", str(taken)]
    told = {"format": 1, "action": "put", "records": [
        {"zone": "example.org", "name": "_x.example.org", "type": "TXT", "value": "one", "ttl": 60},
        {"zone": "example.org", "name": "y.example.org", "type": "CNAME", "value": "t.ca.test", "ttl": 60},
    ]}  # fmt: skip
    for action, lines in (
        ("put", ['_x.example.org. 60 IN TXT "one"', "y.example.org. 60 IN CNAME t.ca.test."]),
        ("drop", []),
    ):
        for _ in range(2):
            data = json.dumps({**told, "action": action})
            done = subprocess.run(command, input=data, capture_output=True, text=True, check=True)
            assert json.loads(done.stdout) == {"done": True}
            assert file.read_text().splitlines() == lines
    assert taken.exists()
    failing = [*command[:3], "false"]
    done = subprocess.run(failing, input=json.dumps(told), capture_output=True, text=True, check=True)
    assert "error" in json.loads(done.stdout)
