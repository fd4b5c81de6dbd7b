"""What a CA delivers for a CSR that it had before: a reissue, another chain, the certificate of an order given up."""

from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path

import pytest
from cryptography.hazmat.primitives.serialization import Encoding
from killing import killed_at
from portal_world import BLOCK, NAME, PortalWorld, leaf, portal_world, stand

from inkstamp.pki.certificates import to_pem
from inkstamp.runtime import Runtime

OTHER = "tides.test"


@pytest.fixture
def world(tmp_path: Path) -> Iterator[PortalWorld]:
    with portal_world(tmp_path) as made:
        yield made


@pytest.fixture
def page(world: PortalWorld) -> str:
    """A certificate was bought, and its first edition is served."""
    page = world.issued()
    assert world.run("collect", "shop", str(world.download(page))).status == 0
    assert world.run("renew").status == 0
    return page


def number_of(page: str) -> int:
    return int(page.rpartition("/")[2])


def test_a_reissue_for_the_same_csr_is_the_next_edition_with_the_same_key_without_a_new_order(
    world: PortalWorld, page: str
) -> None:
    world.site("tides", [OTHER])
    world.nameserver.table[OTHER] = ["127.0.0.1"]
    world.portal.state.mood.more = (OTHER,)
    world.portal.state.reissue(number_of(page))
    again = str(world.download(page, "chain.p7b"))
    shown = world.run("collect", again, "--preview")
    assert shown.status == 0, shown.err
    assert "would be imported, a reissue for the CSR of edition 1, with the same key; nothing was written" in shown.flat
    assert world.run("status", "--json").json["certificates"][0]["edition"] == 1
    done = world.run("collect", again)
    assert done.status == 0, done.err
    assert "edition 2 is on the shelf, a reissue for the CSR of edition 1" in done.flat
    assert f"the CA added {OTHER}" in done.flat
    assert f"inkstamp certificate change shop names={NAME},{OTHER}" in done.flat
    key = [(world.home / "shelf" / "shop" / f"000{number}" / "key.pem").read_bytes() for number in (1, 2)]
    assert key[0] == key[1]
    assert list((world.home / "orders").iterdir()) == []
    assert world.run("renew").status == 0
    assert world.served(NAME) == leaf(world, 2).public_bytes(Encoding.DER)
    assert "edition 2 is on the shelf already; nothing to do" in world.run("collect", again).out
    assert world.run("certificate", "change", "shop", f"names={NAME},{OTHER}").status == 0
    assert world.run("stamp", "shop").status == 0  # on the site of that name, too


def test_a_reissue_that_lacks_a_name_is_taken_in_once_that_name_is_given_up(world: PortalWorld) -> None:
    world.configure(names=(NAME, OTHER), install="")
    world.nameserver.table[OTHER] = ["127.0.0.1"]
    world.site("tides", [OTHER])
    page = world.issued()
    assert world.run("collect", "shop", str(world.download(page))).status == 0
    world.portal.state.mood.leave_out = (OTHER,)
    world.portal.state.reissue(number_of(page))
    again = str(world.download(page))
    refused = world.run("collect", "shop", again)
    assert refused.status == 1
    assert f"lacks {OTHER}" in refused.flat
    typed = f"inkstamp certificate change shop names={NAME}"
    assert typed in refused.flat
    assert list((world.home / "orders").glob("*")) == []
    assert world.run(*typed.split()[1:]).status == 0
    assert world.run("collect", "shop", again).status == 0
    assert world.run("stamp", "shop").status == 0


def test_a_better_chain_for_the_same_certificate_is_taken_in_and_the_same_one_is_not(
    world: PortalWorld, page: str
) -> None:
    hierarchy = world.portal.state.hierarchy
    file = world.folder / "longer.pem"
    file.write_bytes(b"".join(
        to_pem(each) for each in (leaf(world, 1), hierarchy.lower.certificate, hierarchy.upper.certificate,
                                  hierarchy.cross.certificate)))  # fmt: skip
    assert "edition 1 is on the shelf already" in world.run("collect", "shop", str(file)).out
    shown = world.run("collect", "shop", str(file), "--root", "Fogbell Root 1", "--preview")
    assert "the certificate of edition 1 with another chain; nothing was written" in shown.flat
    done = world.run("collect", "shop", str(file), "--root", "Fogbell Root 1")
    assert done.status == 0, done.err
    assert "edition 2 is on the shelf, the certificate of edition 1 with another chain" in done.flat
    assert leaf(world, 2) == leaf(world, 1)
    assert (world.home / "shelf" / "shop" / "0002" / "served.pem").read_bytes() == file.read_bytes()
    assert stand(world)[0] == "not installed"
    assert world.run("renew").status == 0
    assert stand(world) == ("ok", "")
    assert "edition 2 is on the shelf already" in world.run("collect", "shop", str(file)).out
    assert "edition 2 is on the shelf already" in world.run("collect", "shop", str(world.download(page))).out


def test_a_certificate_for_an_order_that_was_given_up_is_told_as_that(world: PortalWorld) -> None:
    page = world.issued()
    assert world.run("order", "shop", "--cancel").status == 0
    for arguments in (("shop",), ()):
        told = world.run("collect", *arguments, str(world.download(page)))
        assert told.status == 1
        assert "was issued for the CSR of order 1 of “shop”, which was given up on" in told.flat
        assert "inkstamp order shop" in told.flat


def test_a_reissue_waits_for_an_order_that_is_open_and_says_what_to_do(world: PortalWorld, page: str) -> None:
    world.portal.state.reissue(number_of(page))
    again = str(world.download(page))
    assert world.run("order", "shop", "--reissue").status == 3
    told = world.run("collect", "shop", again)
    assert told.status == 1
    assert "was issued for the CSR of edition 1, not for that of order 2" in told.flat
    assert world.run("order", "shop", "--cancel").status == 0
    assert world.run("collect", "shop", again).status == 0


def test_a_reissue_is_taken_in_once_wherever_the_run_is_killed(world: PortalWorld, page: str) -> None:
    editions, place = 1, 1
    while True:
        world.portal.state.reissue(number_of(page))
        again = str(world.download(page))
        ended, places = killed_at(place, world.folder / "places", world.config, ["collect", "shop", again])
        assert world.run("collect", "shop", again).status == 0, f"after {places[-1]}"
        editions += 1
        newest = world.run("status", "--json").json["certificates"][0]["edition"]
        assert leaf(world, newest).public_bytes(Encoding.DER) in world.get(f"{page}/chain.p7b"), places[-1]
        assert world.left_behind() == []
        assert list((world.home / "orders").iterdir()) == []
        if ended.returncode == 0:
            break
        place += 2
    assert place > 8
    assert newest == editions
    assert world.run("renew").status == 0
    assert world.served(NAME) == leaf(world, newest).public_bytes(Encoding.DER)


def test_a_renewal_keeps_csr_and_key_where_the_ca_wants_that(world: PortalWorld) -> None:
    world.site("tides", [OTHER])
    world.nameserver.table[OTHER] = ["127.0.0.1"]
    world.portal.state.mood.age = timedelta(days=150)
    first = world.ordered("file")
    (csr,) = BLOCK.findall(world.run("order", "shop").out)
    assert world.run("prove", "shop").status == 0
    world.post(f"{first}/check")
    assert world.run("collect", "shop", str(world.download(first))).status == 0
    asked = world.run("order", "shop", "--same-request")
    assert asked.status == 3, asked.err
    assert BLOCK.findall(asked.out) == [csr]
    assert "same_request = true" in world.config.read_text()
    world.portal.state.mood.age = timedelta(hours=1)
    page = world.paste(asked)
    world.post(f"{page}/method", method="file")
    assert world.run("prove", "shop").status == 0
    world.post(f"{page}/check")
    assert world.run("collect", "shop", str(world.download(page))).status == 0
    keys = [(world.home / "shelf" / "shop" / f"000{number}" / "key.pem").read_bytes() for number in (1, 2)]
    assert keys[0] == keys[1]
    assert world.run("renew").status == 0
    world.run("certificate", "change", "shop", f"names={NAME},{OTHER}")
    refused = world.run("order", "shop")
    assert refused.status == 2
    assert f"which `same_request` uses again, is for {NAME}" in refused.flat
    assert world.run("certificate", "change", "shop", "same_request=false").status == 0
    assert world.run("order", "shop").status == 3


@pytest.mark.parametrize(("policy", "level", "said"), [
    ("2.23.140.1.2.1", "OV", "the certificate says DV, and OV was ordered"),
    ("1.2.3.4", "EV", "the certificate does not say what the CA vetted, and EV was ordered"),
    ("2.23.140.1.2.2", "OV", "level OV: the CA vetted the organisation, too"),
])  # fmt: skip
def test_what_the_ca_vetted_is_compared_with_what_was_ordered(
    world: PortalWorld, policy: str, level: str, said: str
) -> None:
    world.config.write_text(
        world.config.read_text().replace("[certificate.shop]", f'[certificate.shop]\nlevel = "{level}"')
    )
    world.portal.state.mood.policy = policy
    world.portal.state.mood.lifetime = timedelta(days=300)
    done = world.run("collect", "shop", str(world.download(world.issued())))
    assert done.status == 0, done.err
    assert said in done.flat
    assert "valid for 300 days; browsers take public certificates of its date for 200 days at most" in done.flat


def test_a_key_that_others_may_know_is_neither_reissued_nor_used_again(world: PortalWorld, page: str) -> None:
    runtime = Runtime(world.config, world.home)
    runtime.ledger.revocations.end("shop", 1, runtime.clock.now(), "keyCompromise")
    runtime.close(0)
    world.portal.state.reissue(number_of(page))
    for refused in (
        world.run("collect", "shop", str(world.download(page))),
        world.run("order", "shop", "--same-request", "--reissue"),
    ):
        assert refused.status == 2
        assert "was revoked since others may know its key" in refused.flat
    assert list((world.home / "orders").glob("*")) == []
    world.run("certificate", "change", "shop", "same_request=false")
    assert world.run("order", "shop", "--reissue").status == 3


def test_an_old_edition_that_left_the_shelf_and_damaged_neighbours_are_in_nobodys_way(
    world: PortalWorld, page: str
) -> None:
    first = world.download(page, "chain.p7b").rename(world.folder / "first.p7b")
    text = world.config.read_text().replace("[certificate.shop]", "[certificate.shop]\nkeep = 1")
    neighbour = text.partition("[certificate.shop]")[2]
    world.config.write_text(f"{text}\n[certificate.near]{neighbour}")
    world.portal.state.reissue(number_of(page))
    (world.home / "shelf" / "near").symlink_to("shop")
    again = str(world.download(page))
    assert world.run("collect", "shop", again).status == 0
    assert world.run("install", "shop").status == 0
    assert "edition 1 is on the shelf already" in world.run("collect", "shop", str(first)).out


def test_what_a_ca_writes_into_a_certificate_is_in_no_command_that_is_shown(world: PortalWorld) -> None:
    world.portal.state.mood.more = ("a;reboot.test", "*.tides.test")
    done = world.run("collect", "shop", str(world.download(world.issued())))
    assert done.status == 0, done.err
    assert "the CA added a;reboot.test, *.tides.test" in done.flat
    assert "certificate change" not in done.flat
    world.portal.state.mood.more = ("*.tides.test",)
    world.portal.state.reissue(4101)
    again = world.run("collect", "shop", str(world.download("order/4101")))
    assert f"inkstamp certificate change shop 'names={NAME},*.tides.test'" in again.flat
