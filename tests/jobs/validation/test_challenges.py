"""The ways of proving are gone in turn, name by name, and share a port where they must."""

import socket
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from inkstamp.acme.resources import Authorization, AuthorizationStatus, Challenge, ChallengeStatus, Identifier
from inkstamp.errors import CaMisbehaved, ProofFailed
from inkstamp.jobs.validation.challenges import ChallengeResponder
from inkstamp.proof.web_file import http_proof
from inkstamp.runtime import Runtime
from inkstamp.standins.nameserver import Nameserver
from inkstamp.standins.ports import free_ports
from inkstamp.view.web import fetch

NAMES = ("a.saltmarsh.test", "b.saltmarsh.test")


def authorization(name: str, *ways: str) -> Authorization:
    challenges = tuple(
        Challenge(
            type=way, url=f"https://ca.test/{name}/{way}", status=ChallengeStatus.PENDING, token=f"{name[0]}-{way}"
        )
        for way in ways
    )
    return Authorization(
        identifier=Identifier(type="dns", value=name), status=AuthorizationStatus.PENDING, challenges=challenges
    )


@contextmanager
def showing(folder: Path, proof: str, **refused: list[str]) -> Iterator[tuple[Runtime, ChallengeResponder]]:
    http_port, https_port, dns_port = free_ports(3)
    config = folder / "inkstamp.toml"
    config.write_text(
        f'[authority.quayside]\ndirectory = "https://ca.test/"\n[view]\nresolver = "127.0.0.1:{dns_port}"\n'
        f'http_port = {http_port}\nhttps_port = {https_port}\n[certificate.site]\nauthority = "quayside"\n'
        f'names = ["{NAMES[0]}", "{NAMES[1]}"]\nvia = "listener"\nproof = {proof}\n'
    )
    runtime = Runtime(config, folder / "home")
    order = runtime.ledger.intend_order("site", "quayside", NAMES)
    with Nameserver(dns_port, {name: ["127.0.0.1"] for name in NAMES}):
        made = ChallengeResponder(
            runtime, order, runtime.config.certificate["site"], authorized=lambda each: f"{each.token}.thumb", wait=0.0,
            refused={f"{key}.saltmarsh.test": value for key, value in refused.items()},
        )  # fmt: skip
        yield runtime, made
        made.take_down()
        runtime.close(0)


def is_answered(runtime: Runtime, name: str) -> bool:
    proof = http_proof(name, f"{name[0]}-http-01", f"{name[0]}-http-01.thumb")
    return proof.is_shown_by(fetch(proof.url, "127.0.0.1", runtime.view).body)


def test_a_name_that_comes_to_a_port_later_joins_those_that_are_answered_there(tmp_path: Path) -> None:
    both = [authorization(NAMES[0], "tls-alpn-01", "http-01"), authorization(NAMES[1], "http-01")]
    with showing(tmp_path, '["tls-alpn-01", "http-01"]') as (runtime, made):
        with socket.create_server(("127.0.0.1", runtime.view.https_port)):
            shown = made.respond(both)
        assert {(each.identifier.value, way.type) for each, way in shown} == {(name, "http-01") for name in NAMES}
        assert all(is_answered(runtime, name) for name in NAMES)
        made.take_down()
        assert not any(is_answered(runtime, name) for name in NAMES)


def test_what_the_ca_refused_last_time_is_tried_last(tmp_path: Path) -> None:
    offers = [authorization(name, "http-01", "tls-alpn-01") for name in NAMES]
    with showing(tmp_path, '["http-01", "tls-alpn-01"]', a=["http-01"]) as (_, made):
        shown = made.respond(offers)
    assert {(each.identifier.value, way.type) for each, way in shown} == {
        (NAMES[0], "tls-alpn-01"),
        (NAMES[1], "http-01"),
    }


def test_ways_that_the_ca_does_not_offer_are_passed_over_and_none_at_all_is_told(tmp_path: Path) -> None:
    with showing(tmp_path, '["tls-alpn-01", "http-01"]') as (_, made):
        assert made.respond([authorization(NAMES[0], "lighthouse-01", "http-01")])[0][1].type == "http-01"
        with pytest.raises(CaMisbehaved) as caught:
            made.respond([authorization(NAMES[0], "lighthouse-01", "dns-01")])
    assert "no tls-alpn-01 or http-01 challenge for a.saltmarsh.test" in caught.value.what
    assert "lighthouse-01, dns-01" in caught.value.said


def test_a_token_that_could_be_a_path_is_refused(tmp_path: Path) -> None:
    evil = authorization(NAMES[0], "http-01")
    challenge = Challenge(type="http-01", url="u", status=ChallengeStatus.PENDING, token="../../etc/passwd")
    evil = Authorization(identifier=evil.identifier, status=evil.status, challenges=(challenge,))
    with showing(tmp_path, '"http-01"') as (_, made), pytest.raises(CaMisbehaved, match="no usable token"):
        made.respond([evil])


def test_when_no_way_is_left_all_that_was_seen_is_told(tmp_path: Path) -> None:
    with showing(tmp_path, '"tls-alpn-01"') as (_, made):
        wrong = Authorization(
            identifier=Identifier(type="dns", value="nobody.saltmarsh.test"), status=AuthorizationStatus.PENDING,
            challenges=authorization(NAMES[0], "tls-alpn-01").challenges,
        )  # fmt: skip
        with pytest.raises(ProofFailed) as caught:
            made.respond([wrong])
    assert "NXDOMAIN" in caught.value.findings[0].seen
