"""A certificate whose sites are gone is told of, and none that may have one yet."""

import pytest

from inkstamp.config.model import Certificate
from inkstamp.jobs.inventory.missing_sites import SiteNames, without_sites
from inkstamp.servers.interface import Site


def site(*names: str) -> Site:
    return Site(server="front", names=names, listens=(), root="", certificate_file="", file="sites.conf", line=1)


@pytest.mark.parametrize(
    ("sites", "names", "gone"),
    [
        ([("club.test",)], ("club.test", "www.club.test"), False),
        ([("WWW.Club.test",)], ("club.test", "www.club.test"), False),
        ([("*.club.test",)], ("www.club.test",), False),
        ([(".club.test",)], ("www.club.test",), False),
        ([("shop.club.test",)], ("*.club.test",), False),
        ([("pier.test",), ("_",)], ("club.test",), True),
        ([("pier.test",)], ("*.club.test",), True),
        ([], ("club.test",), True),
        ([("~^(?<sub>.+)\\.club\\.test$",)], ("www.club.test",), False),
    ],
    ids=[
        "there",
        "one of two",
        "wildcard",
        "with a dot",
        "below a wildcard",
        "gone",
        "none below",
        "no site",
        "unsure",
    ],
)
def test_a_site_counts_by_name_and_by_wildcard_and_a_regular_expression_might_match(
    sites: list[tuple[str, ...]], names: tuple[str, ...], gone: bool
) -> None:
    entry = Certificate(names=names, authority="quayside", via="front", install=("front",))
    hosts = {"front": SiteNames(site(*each) for each in sites)}
    assert bool(without_sites([("club", entry)], hosts)) == gone


def test_servers_without_virtual_hosts_need_no_site() -> None:
    entry = Certificate(names=("club.test",), authority="quayside", via="front", install=("front", "mail"))
    nowhere = Certificate(names=("club.test",), authority="quayside", via="front")
    assert without_sites([("both", entry), ("shelf", nowhere)], {"front": SiteNames([])}) == []
