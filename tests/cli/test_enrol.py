"""What is put on the roster is said before, and what cannot be is told with its place and stops nothing else."""

import sqlite3
from contextlib import closing

import pytest
from simulated import SimulatedWorld

GROUP = '\n[group.web]\nauthority = "quayside"\nvia = "front"\ninstall = ["front"]\n'


@pytest.fixture
def grouped(world: SimulatedWorld) -> SimulatedWorld:
    world.config.write_text(world.config.read_text() + GROUP)
    return world


def enrolled(world: SimulatedWorld, *arguments: str, data: str = "") -> list[tuple[str, str, str]]:
    done = world.run("enrol", "--group", "web", "--offline", "--json", *arguments, data=data)
    return [(each["state"], each["certificate"], " ".join(each["names"])) for each in done.json["certificates"]]


def test_the_first_group_is_told_line_by_line_and_a_misspelt_one_with_those_there_are(world: SimulatedWorld) -> None:
    first = world.run("enrol", "--group", "web", "club.test")
    assert first.status == 2
    assert '[group.web] | authority = "quayside" | via = "front" | install = ["front"]' in first.flat
    world.config.write_text(world.config.read_text() + GROUP)
    wrong = world.run("enroll", "--group", "wbe", "club.test")
    assert wrong.status == 2
    assert "there is no group “wbe”" in wrong.flat
    assert "web" in wrong.flat


@pytest.mark.parametrize(
    ("arguments", "told"),
    [
        ([], "names are given, or --from, or --sites"),
        (["club.test", "--sites"], "names are given, or --from, or --sites"),
        (["--from", "-", "--as", "club"], "--as goes with names"),
        (["club.test", "--leave-out", "x"], "go with --sites"),
        (["club.test", "--by-customer"], "--by-customer goes with --together"),
        (["club.test", "--customer", "a\nb"], "is no plain text"),
        (["--from", "/nowhere/list"], "/nowhere/list"),
    ],
)
def test_what_does_not_go_together_is_told_and_changes_nothing(
    grouped: SimulatedWorld, arguments: list[str], told: str
) -> None:
    done = grouped.run("enrol", "--group", "web", *arguments)
    assert done.status in {1, 2}
    assert told in done.flat
    assert grouped.run("status").out.startswith("no certificate is configured yet")


def test_a_group_says_all_but_names_and_a_mistake_in_it_is_told_by_all_that_need_it(grouped: SimulatedWorld) -> None:
    text = grouped.config.read_text()
    assert enrolled(grouped, "club.test") == [("new", "club.test", "club.test")]
    grouped.config.write_text(text.replace('via = "front"\ninstall', 'via = "back"\ninstall'))
    assert "“back”" in grouped.run("enrol", "--group", "web", "pier.test").flat
    (row,) = [each for each in grouped.run("renew", "--json").json["renewed"] if each["due"]["name"] == "club.test"]
    assert "[group.web] has an error" in row["error"]["what"]
    grouped.config.write_text(text + 'names = ["x.test"]\n')
    assert "inkstamp enrol --group web" in grouped.run("enrol", "--group", "web", "pier.test").flat


def test_names_are_packed_by_domain_or_by_customer_and_stay_where_they_are(grouped: SimulatedWorld) -> None:
    rows = ["a.club.co.uk", "b.club.co.uk", "c.club.co.uk", "x.pier.com"]
    data = "names,customer\n" + "".join(f"{each},Crew\n" for each in rows)
    by_domain = enrolled(grouped, "--from", "-", "--together", "2", "--preview", data=data)
    assert sorted(names for _, _, names in by_domain) == ["a.club.co.uk b.club.co.uk", "c.club.co.uk", "x.pier.com"]
    by_customer = enrolled(grouped, "--from", "-", "--together", "3", "--by-customer", data=data)
    assert sorted(names for _, _, names in by_customer) == ["a.club.co.uk b.club.co.uk c.club.co.uk", "x.pier.com"]
    again = enrolled(grouped, "--from", "-", "--together", "3", "--by-customer", data=f"{data}d.club.co.uk,Crew\n")
    assert [each for each in again if each[0] != "present"] == [("new", "d.club.co.uk", "d.club.co.uk")]


def test_a_name_that_no_public_ca_certifies_and_a_wildcard_by_files_are_refused(grouped: SimulatedWorld) -> None:
    wild = grouped.run("enrol", "--group", "web", "--offline", "*.club.test")
    assert wild.status == 1
    assert "http-01 cannot validate the wildcard *.club.test" in wild.flat
    text = grouped.config.read_text()
    grouped.config.write_text("\n".join(line for line in text.splitlines() if not line.startswith("roots")))
    public = grouped.run("enrol", "--group", "web", "--offline", "club.test", "www.club.com")
    assert public.status == 1
    assert "no public CA may issue for club.test" in public.flat


def test_a_roster_of_a_newer_release_is_told_as_that_and_changed_by_nobody(grouped: SimulatedWorld) -> None:
    assert enrolled(grouped, "club.saltmarsh.test") == [("new", "club.saltmarsh.test", "club.saltmarsh.test")]
    with closing(sqlite3.connect(grouped.home / "ledger.db")) as ledger:
        ledger.execute("UPDATE ledger SET version = 99")
        ledger.commit()
    before = (grouped.home / "roster.jsonl").read_bytes()
    refused = grouped.run("enrol", "--group", "web", "--offline", "pier.saltmarsh.test")
    assert refused.status != 0
    assert "the ledger is of version 99, this program writes version" in refused.flat
    assert (grouped.home / "roster.jsonl").read_bytes() == before
    (grouped.home / "roster.jsonl").write_bytes(before.replace(b'"group"', b'"berth":1,"group"'))
    for each in grouped.home.glob("ledger.db*"):
        each.unlink()
    rebuilt = grouped.run("status", "--rebuild").flat
    assert "cannot be read, so that nothing is on the roster: Object contains unknown field `berth`" in rebuilt
    assert "inkstamp enrol --group GROUP --from FILE" in rebuilt
