"""Certificates on the roster: enrolled from a list, got by the group, looked at when their time has come."""

import json
import sqlite3
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

import pytest
from world import World, real_world

CREWS = [f"crew{number}" for number in range(12)]
GROUP = '\n[group.web]\nauthority = "quayside"\nvia = "front"\ninstall = ["front"]\n'


def name_of(crew: str) -> str:
    return f"{crew}.saltmarsh.test"


@pytest.fixture(scope="module")
def world(folder: Path) -> Iterator[World]:
    with real_world(folder / "world", ca_env={"nonces_rejected": "0"}) as made:
        made.add_authority()
        for crew in CREWS:
            made.site(crew, [name_of(crew), f"www.{name_of(crew)}"])
        made.config.write_text(made.config.read_text() + GROUP)
        yield made


@pytest.fixture(scope="module")
def enrolled(world: World) -> World:
    """All crews but the last are enrolled; what cannot be was refused."""
    rows = [f"{name_of(crew)} www.{name_of(crew)},,Crew {crew[4:]}" for crew in CREWS[:-1]]
    wrong = ['"half a quote,,', "no_name,,", "nowhere.saltmarsh.test,,Nobody", f"{name_of('crew3')},thief,Thief"]
    listed = world.folder / "crews.csv"
    listed.write_text("\n".join(["names,certificate,customer", *wrong[:2], *rows, *wrong[2:]]) + "\n")
    done = world.run("enrol", "--group", "web", "--from", str(listed))
    assert done.status == 1, done.err
    for told in ("line 2: it is no CSV", "line 3: no_name: “no_name” is not a domain name", "does not exist in DNS",
                 "crew3.saltmarsh.test is in certificate “crew3.saltmarsh.test” already"):  # fmt: skip
        assert told in done.flat, done.out
    assert "11 enrolled, 4 refused" in done.out
    return world


def revisions(world: World) -> dict[str, tuple[int, int]]:
    """What the ledger knows of each: its revision, and until when it is known to be ok."""
    with closing(sqlite3.connect(world.home / "ledger.db")) as ledger:
        rows = ledger.execute("SELECT certificate, revision, ok_until FROM enrolled").fetchall()
    return {name: (revision, until) for name, revision, until in rows}


def test_a_list_enrolled_again_changes_nothing_and_a_changed_line_is_told_as_a_change(enrolled: World) -> None:
    before = revisions(enrolled)
    line = f"{name_of('crew1')} www.{name_of('crew1')}"
    same = enrolled.run("enrol", "--group", "web", "--from", "-", data=f"# as it is\n{line}\n")
    assert (same.status, "1 there already" in same.out) == (0, True), same.out
    again = enrolled.run("enrol", "--group", "web", "--from", "-", data=f"names,customer\n{line},The First Crew\n")
    assert "customer Crew 1 -> The First Crew" in again.out
    again = enrolled.run("enrol", "--group", "web", "--customer", "Crew 1", *line.split())
    assert "1 changed" in again.out
    assert "1 there already" in enrolled.run("enrol", "--group", "web", "--customer", "Crew 1", *line.split()).out
    assert {name for name, now in revisions(enrolled).items() if now != before[name]} == {name_of("crew1")}


@pytest.fixture(scope="module")
def stamped(enrolled: World) -> World:
    """Those of one customer were got first, then all of the group."""
    one = enrolled.run("stamp", "--customer", "Crew 2")
    assert one.status == 0, one.err
    assert "1 checked, 1 renewed, 0 failed" in one.out
    done = enrolled.run("stamp", "--group", "web", "--quiet")
    assert done.status == 0, done.err
    assert "11 checked, 10 renewed, 0 failed" in done.out
    assert done.err == ""
    for crew in CREWS[:-1]:
        assert enrolled.served(name_of(crew)) == enrolled.edition(name_of(crew), 1)
    return enrolled


def test_what_is_as_it_should_be_is_counted_and_not_looked_at_again(stamped: World) -> None:
    assert stamped.run("renew").status == 0, "which asks the CA about each"
    before = revisions(stamped)
    assert all(until > 0 for _, until in before.values())
    idle = stamped.run("renew")
    assert "11 checked, 0 renewed, 0 failed" in idle.out
    assert "next due: crew" in idle.out
    assert revisions(stamped) == before
    status = stamped.run("status", "--group", "web", "--json").json
    assert status["groups"] == [{"group": "web", "total": 11, "ok": 11}]
    assert len(status["certificates"]) == 11, "few are listed"
    assert "1 checked, 0 due" in stamped.run("renew", "--preview", "--customer", "Crew 2").out
    assert "ok" in stamped.run("why", name_of("crew4")).out


def test_another_setting_of_the_group_is_taken_in_by_the_next_run(stamped: World) -> None:
    text = stamped.config.read_text()
    stamped.config.write_text(text.replace(GROUP, GROUP + 'key = "ecdsa-p384"\n'))
    found = stamped.run("status", "--json").json
    assert {each["state"] for each in found["certificates"]} == {"due"}, "before the run as well"
    preview = stamped.run("renew", "--preview")
    assert "11 checked, 11 due" in preview.out
    assert stamped.run("renew", name_of("crew0")).status == 0
    stamped.config.write_text(text)
    after = stamped.run("renew", "--preview")
    assert f"{name_of('crew0')}: due, the key of edition 2 is ecdsa-p384, and ecdsa-p256 is configured" in after.out
    assert "11 checked, 1 due" in after.out
    assert stamped.run("renew").status == 0
    assert "11 checked, 0 due" in stamped.run("renew", "--preview").out


def test_whatever_happens_to_a_certificate_has_it_looked_at_again(stamped: World) -> None:
    undone = stamped.run("undo", name_of("crew5"))
    assert undone.status == 0, undone.err
    (row,) = [each for each in stamped.run("status", "--json").json["certificates"] if each["state"] != "ok"]
    assert (row["name"], row["state"]) == (name_of("crew5"), "rolled back")
    assert stamped.run("install", name_of("crew5")).status == 0
    assert stamped.run("renew").status == 0
    assert revisions(stamped)[name_of("crew5")][1] > 0


def test_sites_are_enrolled_with_the_names_of_each_and_without_those_left_out(stamped: World) -> None:
    found = stamped.run("enrol", "--group", "web", "--sites", "--preview", "--json").json["certificates"]
    assert {each["certificate"]: each["state"] for each in found} == {
        name_of(crew): "new" if crew == CREWS[-1] else "present" for crew in CREWS
    }
    last = stamped.run("enrol", "--group", "web", "--sites", "--include", "crew11.*", "--leave-out", "www.*")
    assert last.status == 0, last.err
    assert stamped.run("stamp", name_of("crew11")).status == 0
    assert stamped.served(name_of("crew11")) == stamped.edition(name_of("crew11"), 1)


def test_an_entry_of_the_file_and_one_of_the_roster_with_one_name_are_an_error_that_names_both(stamped: World) -> None:
    text = stamped.config.read_text()
    entry = f'\n[certificate."{name_of("crew6")}"]\nnames = ["other.saltmarsh.test"]\n'
    entry += 'authority = "quayside"\nvia = "front"\n'
    stamped.config.write_text(text + entry)
    told = stamped.run("why", name_of("crew6"))
    stamped.config.write_text(text)
    assert told.status == 2
    assert "is on the roster, in group “web”, and in the configuration file" in told.flat


def test_a_ledger_that_is_rebuilt_has_the_roster_again(stamped: World) -> None:
    before = json.loads(stamped.run("status", "--all", "--json").out)["certificates"]
    (stamped.home / "ledger.db").write_bytes(b"no database" * 100)
    rebuilt = stamped.run("status", "--rebuild")
    assert rebuilt.status == 0, rebuilt.err
    assert "12 certificates are on the roster again" in rebuilt.flat
    assert stamped.run("renew").status == 0
    after = json.loads(stamped.run("status", "--all", "--json").out)["certificates"]
    assert {each["name"]: each["edition"] for each in after} == {each["name"]: each["edition"] for each in before}
