"""A certificate that is called otherwise: servers notice nothing, and all that is known of it goes along."""

from collections.abc import Iterator
from pathlib import Path

import pytest
from killing import killed_at
from world import World, real_world

GROUP = '\n[group.web]\nauthority = "quayside"\nvia = "front"\ninstall = ["front"]\n'


@pytest.fixture(scope="module")
def world(folder: Path) -> Iterator[World]:
    with real_world(folder / "world", ca_env={"nonces_rejected": "0"}) as made:
        made.add_authority()
        made.config.write_text(made.config.read_text() + GROUP)
        yield made


def stamped(world: World, label: str, where: str = "the file") -> str:
    """A certificate called `label`, in the file or on the roster; returns its domain name."""
    name = f"{label}.saltmarsh.test"
    world.site(label, [name])
    if where == "the file":
        assert world.run("stamp", name, "--as", label).status == 0
    else:
        line = f'{{"names": ["{name}"], "certificate": "{label}", "customer": "Crew 1"}}\n'
        assert world.run("enrol", "--group", "web", "--from", "-", data=line).status == 0
        assert world.run("stamp", "--group", "web").status == 0
    return name


def state_of(world: World, name: str) -> str:
    found = {each["name"]: each["state"] for each in world.run("status", "--json", "--all").json["certificates"]}
    return str(found.get(name, "gone"))


@pytest.mark.parametrize("where", ["the file", "the roster"])
def test_a_renamed_certificate_is_served_renewed_undone_and_removed_as_before(world: World, where: str) -> None:
    old, new = ("teal", "drake") if where == "the file" else ("coot", "moorhen")
    name = stamped(world, old, where)
    site = world.nginx.folder / "sites" / f"{old}.conf"
    plain = world.run("undo", old, "--preview").out
    before, orders = site.read_bytes(), world.ca.orders()
    done = world.run("certificate", "rename", old, new)
    assert done.status == 0, done.err
    assert (state_of(world, old), state_of(world, new)) == ("gone", "ok")
    assert world.run("renew").status == 0
    assert (world.ca.orders(), site.read_bytes()) == (orders, before), "nothing is due, and no server was touched"
    assert world.run("undo", new, "--preview").out.replace(new, old) == plain
    history = world.run("history", new).out
    assert ("issued" in history, history.count("from “")) == (True, 1), "it is told once"
    assert not [each for each in world.run("survey", "--json").json["sites"] for f in each["findings"]
                if f["topic"] == "renewal" and name in each["site"]["names"]]  # fmt: skip
    renewed = world.run("stamp", new, "--reissue")
    assert renewed.status == 0, renewed.err
    assert world.served(name) == world.edition(new, 2)
    assert f"/shelf/{new}/" in site.read_text()
    taken = world.run("stamp", f"{old}.other.test", "--as", old)
    assert (taken.status, f"was the name of “{new}”" in taken.flat) == (2, True), taken.err
    gone = world.run("remove", new, "--servers", "undo", "--keys", "destroy", "--yes")
    assert gone.status == 0, gone.err
    assert not (world.home / "shelf" / old).exists()
    assert not (world.home / "shelf" / new).is_symlink()
    assert "ssl_certificate" not in site.read_text()


def test_the_line_of_its_entry_alone_is_changed_in_the_file(world: World) -> None:
    stamped(world, "gull")
    text = world.config.read_text()
    world.config.write_text(text.replace("[certificate.gull]", "[ certificate . gull ]  # by the sea"))
    assert world.run("certificate", "rename", "gull", "gull.saltmarsh.test").status == 0
    assert '[ certificate."gull.saltmarsh.test"]  # by the sea' in world.config.read_text()


@pytest.mark.parametrize("where", ["the file", "the roster"])
def test_a_renaming_that_is_killed_goes_on_and_nothing_is_ordered_in_between(world: World, where: str) -> None:
    old, new = ("swan", "cygnet") if where == "the file" else ("rail", "crake")
    stamped(world, old, where)
    orders, place = world.ca.orders(), 1
    while True:
        ended, _ = killed_at(place, world.folder / "places", world.config, ["certificate", "rename", old, new])
        if ended.returncode == 0:
            break
        assert world.run("renew").status == 0
        assert world.ca.orders() == orders, f"killed at place {place}"
        place += 1
    assert place > 3
    assert (state_of(world, old), state_of(world, new), world.ca.orders()) == ("gone", "ok", orders)
    assert len(list((world.home / "undo" / new).iterdir())) == 1


@pytest.mark.parametrize(
    ("arguments", "told"),
    [
        (["nobody", "other"], "there is no certificate “nobody”"),
        (["heron", "heron"], "is called “heron” already"),
        (["heron", "Heron!"], "cannot be the name"),
        (["heron", "egret"], "there is a certificate “egret” already"),
    ],
)
def test_a_name_that_will_not_do_is_refused_and_nothing_is_changed(
    world: World, arguments: list[str], told: str
) -> None:
    for label in ("heron", "egret"):
        if f"[certificate.{label}]" not in world.config.read_text():
            stamped(world, label)
    before = world.config.read_bytes()
    done = world.run("certificate", "rename", *arguments)
    assert (done.status, world.config.read_bytes()) == (2, before)
    assert told in done.flat
