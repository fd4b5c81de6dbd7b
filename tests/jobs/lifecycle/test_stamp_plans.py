"""What `stamp` writes for names that have no certificate yet follows from the configuration and the request alone."""

from pathlib import Path
from typing import Any

import pytest

from inkstamp.config.model import Authority, Certificate, Configuration, Server
from inkstamp.config.record_changers import Nameserver
from inkstamp.errors import UsageError
from inkstamp.jobs.lifecycle.proposal import Plan, StampRequest, propose

CONFIG = Configuration(
    authority={
        "quayside": Authority(directory="https://ca.test/"),
        "desk": Authority(kind="portal", page="https://d/"),
    },
    server={"front": Server(kind="nginx"), "mail": Server(kind="postfix")},
    nameserver={"ns": Nameserver(address="192.0.2.53", key_file="ns.key")},
    certificate={"club": Certificate(names=("club.test",), authority="quayside", via="front")},
)


def plan(*names: str, via: str = "front", authority: str = "quayside", **asked: Any) -> Plan:
    request = StampRequest(names=names, **asked)
    return propose(CONFIG, request, names, authority=authority, via=(via,), found=(), taken=CONFIG.certificate,
                   file=Path("inkstamp.toml"))  # fmt: skip


@pytest.mark.parametrize(
    ("made", "name", "proof", "install"),
    [
        (plan("rowing.test", "www.rowing.test"), "rowing.test", "http-01", ("front",)),
        (plan("*.rowing.test", via="ns"), "rowing.test", "dns-01", ()),
        (plan("rowing.test", via="ns", install=("front", "mail")), "rowing.test", "dns-01", ("front", "mail")),
        (plan("rowing.test", authority="desk"), "rowing.test", "by the rule of the portal", ("front",)),
        (plan("rowing.test", entry_name="regatta", install=()), "regatta", "http-01", ()),
    ],
    ids=["web", "wildcard", "records and two servers", "portal", "named, for no server"],
)
def test_an_entry_has_the_ways_that_its_carriers_can_go_and_the_servers_that_take_certificates(
    made: Plan, name: str, proof: str, install: tuple[str, ...]
) -> None:
    assert (made.name, made.proof, made.entry.install, made.write) == (name, proof, install, True)


@pytest.mark.parametrize(
    ("names", "asked", "told"),
    [
        (("*.rowing.test",), {}, r"http-01.* cannot validate the wildcard \*\.rowing\.test"),
        (("club.test", "b.test"), {"entry_name": "club"}, "there is a certificate “club” already"),
        (("rowing.test",), {"entry_name": "Rowing"}, "cannot be the name of a certificate"),
        (("rowing.test",), {"proof": ("dns-01",)}, "front cannot be used for dns-01"),
        (("rowing.test",), {"install": ("nowhere",)}, "nowhere"),
    ],
    ids=["wildcard by files", "taken", "no name", "wrong way", "unknown server"],
)
def test_what_cannot_work_is_refused_before_anything_is_written(
    names: tuple[str, ...], asked: dict[str, Any], told: str
) -> None:
    with pytest.raises(UsageError, match=told):
        plan(*names, **asked)


def test_new_certificates_come_from_the_only_authority_or_from_the_default() -> None:
    one, other = Authority(directory="https://a/"), Authority(directory="https://b/", default=True)
    assert Configuration(authority={"a": one}).usual_authority == "a"
    assert Configuration(authority={"a": one, "b": one}).usual_authority == ""
    assert Configuration(authority={"a": one, "b": other}).usual_authority == "b"
    assert Configuration().usual_authority == ""
