"""When `renew` acts: the CA's own word, what changed, what was lost."""

import json
import os
import sqlite3
import subprocess
from contextlib import closing
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from cryptography import x509
from simulated import NAME, SimulatedWorld
from world import inkstamp_program, make_tls_pair

from inkstamp.standins.ca_mood import Canned
from inkstamp.standins.ca_words import Wish

DAY = timedelta(days=1)


def stamp(world: SimulatedWorld, **mood: Any) -> None:
    for key, value in mood.items():
        setattr(world.simulated.state.mood, key, value)
    done = world.run("stamp", NAME, "--as", "rowing")
    assert done.status == 0, done.err
    world.simulated.requests.clear()


def tidings(world: SimulatedWorld, statement: str = "") -> dict[str, Any]:
    """The ledger's page on the certificate; with a statement, changed by it first."""
    with closing(sqlite3.connect(world.home / "ledger.db")) as ledger:
        ledger.row_factory = sqlite3.Row
        if statement:
            ledger.execute(statement)
            ledger.commit()
        return dict(ledger.execute("SELECT * FROM tidings").fetchone())


def leaf(world: SimulatedWorld, number: int = 1) -> x509.Certificate:
    return x509.load_der_x509_certificate(world.edition("rowing", number))


def test_the_ca_is_asked_for_its_window_and_not_again_before_it_likes(world: SimulatedWorld) -> None:
    stamp(world)
    done = world.run("renew")
    assert done.status == 0
    assert done.out.startswith("1 checked, 0 renewed")
    assert world.asked()["renewal-info"] == 1
    told = tidings(world)
    start = leaf(world).not_valid_before_utc + 0.65 * 90 * DAY
    assert abs(told["window_start"] - start.timestamp()) <= 1
    assert told["window_end"] - told["window_start"] == 2 * 86400
    in_six_hours = datetime.now(UTC).timestamp() + 21600
    assert in_six_hours - 60 < told["ask_again"] <= in_six_hours
    status = world.run("status", "--json").json["certificates"][0]
    assert told["window_start"] <= datetime.fromisoformat(status["renews_at"]).timestamp() <= told["window_end"]
    world.run("renew")
    assert world.asked()["renewal-info"] == 1
    assert world.simulated.state.issued == 1


def test_a_window_that_has_moved_into_the_past_renews_at_once_and_says_what_is_replaced(world: SimulatedWorld) -> None:
    stamp(world, aged={NAME: 5 * DAY})
    now, page = datetime.now(UTC), "https://quayside.test/incidents/7"
    world.simulated.state.words.wishes[NAME] = Wish(now - timedelta(hours=3), now - timedelta(hours=2), page)
    done = world.run("renew")
    assert done.status == 0, done.err
    assert f"due: the CA asks for immediate renewal (ARI); see {page}" in done.flat
    (order,) = (each for each in world.simulated.state.orders.values() if each.replaces)
    assert world.simulated.state.words.knows(order.replaces or "")
    # The new edition's own window is the same, which has ended before it began: it cannot be meant for it.
    assert world.run("renew").out.startswith("1 checked, 0 renewed")
    assert world.simulated.state.issued == 2


@pytest.mark.parametrize(
    ("answer", "asks_again_within"),
    [
        (Canned(200, {}, b'{"suggestedWindow": {"start": "2026-01-02T00:00:00Z", "end": "2026-01-01T00:00:00Z"}}'), 6),
        (Canned(200, {}, b"<h1>hello</h1>", "text/html"), 6),
        (Canned(404, {}, b"not found", "text/plain"), 6),
        (Canned(503, {"Retry-After": "9000"}, b"busy", "text/plain"), 0),
    ],
    ids=["ends before it starts", "html", "not known", "busy"],
)
def test_without_a_window_that_can_be_the_dates_count(
    world: SimulatedWorld, answer: Canned, asks_again_within: int
) -> None:
    stamp(world)
    world.can("renewal-info", answer)
    done = world.run("renew", "--json")
    assert done.status == 0, done.err
    latest = leaf(world).not_valid_after_utc - 27 * DAY
    due = datetime.fromisoformat(done.json["next_at"])
    assert latest - 6 * DAY <= due <= latest  # its own moment in the spread
    assert world.asked()["renewal-info"] == 1
    if asks_again_within:
        hours = (tidings(world)["ask_again"] - datetime.now(UTC).timestamp()) / 3600
        assert 0 < hours <= asks_again_within
    else:
        assert "no renewal window (ARI), the dates decide" in done.flat


def test_a_ca_that_takes_no_replacement_gets_the_same_order_without_it(world: SimulatedWorld) -> None:
    stamp(world)
    problem = {"type": "urn:ietf:params:acme:error:alreadyReplaced", "detail": "order 7 did", "status": 409}
    world.can("new-order", Canned(409, {}, json.dumps(problem).encode()))
    done = world.run("stamp", "rowing", "--reissue")
    assert done.status == 0, done.err
    assert "does not accept `replaces` (alreadyReplaced); orders without that" in done.flat
    assert world.simulated.state.issued == 2


@pytest.mark.parametrize("way", ["ocsp", "crl"])
def test_a_revoked_certificate_is_due_at_once_and_told_as_such(world: SimulatedWorld, way: str) -> None:
    stamp(world, status_by=frozenset({way}))
    assert world.run("renew").out.startswith("1 checked, 0 renewed")
    assert world.asked()[way] == 1
    world.simulated.state.words.revoke(leaf(world), x509.ReasonFlags.key_compromise)
    assert world.run("renew").out.startswith("1 checked, 0 renewed"), "it was asked a moment ago"
    tidings(world, "UPDATE tidings SET status_again = 0")
    done = world.run("renew")
    assert done.status == 0, done.err
    today = f"{datetime.now(UTC):%Y-%m-%d}"
    assert f"due: the CA revoked edition 1 on {today} (keyCompromise)" in done.flat
    assert world.simulated.state.issued == 2
    assert leaf(world, 2).public_key() != leaf(world).public_key()


def swap_served(world: SimulatedWorld) -> None:
    cert, key = make_tls_pair(world.folder, NAME)
    file = world.nginx.folder / "sites" / "rowing.conf"
    shelf = world.home / "shelf" / "rowing" / "current"
    text = file.read_text().replace(str(shelf / "served.pem"), str(cert)).replace(str(shelf / "key.pem"), str(key))
    assert text != file.read_text()
    file.write_text(text)
    world.nginx.reload()


def test_what_is_not_served_any_more_is_installed_again_without_an_order(world: SimulatedWorld) -> None:
    stamp(world)
    swap_served(world)
    assert world.run("renew").out.startswith("1 checked, 0 renewed"), "servers are looked at once a day"
    long_ago = int((datetime.now(UTC) - 2 * DAY).timestamp())
    tidings(world, f"UPDATE install SET at = {long_ago}")
    done = world.run("renew")
    assert done.status == 0, done.err
    assert f"due: front serves another certificate for {NAME}" in done.flat
    assert world.served(NAME) == world.edition("rowing", 1)
    assert world.simulated.state.issued == 1
    assert world.run("renew").out.startswith("1 checked, 0 renewed")
    tidings(world, "UPDATE tidings SET astray = 'front serves another certificate for it'")
    (seen,) = world.run("status", "--json").json["certificates"]
    assert (seen["state"], seen["next_command"]) == ("not installed", "inkstamp renew"), (
        "status says what renew would do"
    )
    assert "front serves another certificate for it" in seen["wanted"]


def test_another_kind_of_key_or_a_name_less_makes_it_due(world: SimulatedWorld) -> None:
    more = f"www.{NAME}"
    world.site("www", [more])
    assert world.run("stamp", NAME, more, "--as", "rowing").status == 0
    text = world.config.read_text()
    assert f', "{more}"]' in text
    world.config.write_text(text.replace(f', "{more}"]', "]"))
    assert f"due: edition 1 covers {more}, which are no longer configured" in world.run("renew").flat
    text = world.config.read_text().replace("[certificate.rowing]\n", '[certificate.rowing]\nkey = "rsa-2048"\n')
    world.config.write_text(text)
    done = world.run("renew")
    assert done.status == 0, done.err
    assert "due: the key of edition 2 is ecdsa-p256, and rsa-2048 is configured" in done.flat
    assert world.run("renew").out.startswith("1 checked, 0 renewed")


def test_the_configured_share_decides_where_the_ca_says_nothing(world: SimulatedWorld) -> None:
    stamp(world, names_windows=False)
    text = world.config.read_text()
    world.config.write_text(f"{text}\n[renewal]\nwith_left = 0.8\n")
    at = datetime.fromisoformat(world.run("renew", "--json").json["next_at"])
    fifth = leaf(world).not_valid_after_utc - 72 * DAY
    assert fifth - timedelta(days=3.6) <= at <= fifth
    world.config.write_text(f"{text}\n[renewal]\nwith_left = 8\n")
    done = world.run("renew")
    assert done.status == 2
    assert "“with_left” is no share of a lifetime" in done.flat
    assert "line " in done.flat


def test_another_authority_is_asked_where_the_first_will_not_issue(world: SimulatedWorld) -> None:
    stamp(world)
    directory, trust = world.directory, world.trust
    text = world.config.read_text().replace("[certificate.rowing]\n", '[certificate.rowing]\notherwise = ["ferry"]\n')
    world.config.write_text(
        f'{text}\n[authority.ferry]\ndirectory = "{directory}"\ntrust = "{trust}"\nagree_terms = true\n'
    )
    refusal = {"type": "urn:ietf:params:acme:error:rateLimited", "detail": "enough for this week", "status": 429}
    world.can("new-order", Canned(429, {"Retry-After": "90000"}, json.dumps(refusal).encode()))
    done = world.run("stamp", "rowing", "--reissue")
    assert done.status == 0, done.err
    assert "quayside does not issue (the CA answered with 429 (rateLimited)); turns to ferry" in done.flat
    assert world.served(NAME) == world.edition("rowing", 3), "the number 2 was for the order that was refused"


def test_a_rate_limit_is_kept_between_runs(world: SimulatedWorld) -> None:
    stamp(world, aged={NAME: 5 * DAY})
    world.simulated.state.words.wishes[NAME] = Wish(datetime.now(UTC) - DAY, datetime.now(UTC) - timedelta(seconds=1))
    refusal = {"type": "urn:ietf:params:acme:error:rateLimited", "detail": "enough for this week", "status": 429}
    world.can("new-order", Canned(429, {"Retry-After": "172800"}, json.dumps(refusal).encode()))
    assert world.run("renew").status == 1
    asked = world.asked()["new-order"]
    done = world.run("renew")
    assert done.status == 0
    again = datetime.now(UTC) + 2 * DAY
    assert f"next attempt from {again:%Y-%m-%d}" in " ".join(done.out.split())
    assert world.asked()["new-order"] == asked


@pytest.mark.parametrize("fate", ["gone", "damaged", "empty"])
def test_a_ledger_that_is_lost_is_made_anew_from_the_shelf_and_nothing_is_ordered_again(
    world: SimulatedWorld, fate: str
) -> None:
    stamp(world)
    before = world.run("status", "--json").json["certificates"]
    file = world.home / "ledger.db"
    for each in ("-wal", "-shm"):
        file.with_name(f"ledger.db{each}").unlink(missing_ok=True)
    if fate == "gone":
        file.unlink()
    elif fate == "empty":
        file.write_bytes(b"")
    else:
        data = file.read_bytes()
        file.write_bytes(data[:4096] + b"\xa5" * (len(data) - 4096))
    for command in ("status", "renew"):
        done = world.run(command)
        assert done.status == 1
        assert "rebuild it from the shelf: inkstamp status --rebuild" in done.flat
    done = world.run("status", "--rebuild")
    assert done.status == 0, done.err
    assert ("ledger.db.damaged-" in done.out) == (fate != "gone")
    assert world.run("renew").status == 0
    after = world.run("status", "--json").json["certificates"]
    for status in (*before, *after):
        status.pop("renews_at")  # the CA is asked anew
    assert after == before
    assert world.simulated.state.issued == 1
    assert world.run("status", "--rebuild").status == 2, "a sound ledger is left alone"


def test_a_certificate_that_is_on_the_shelf_alone_is_not_due_after_the_ledger_was_made_anew(
    world: SimulatedWorld,
) -> None:
    table = f'\n[certificate.kept]\nnames = ["{NAME}"]\nauthority = "quayside"\nvia = "front"\n'
    world.config.write_text(world.config.read_text() + table)
    assert world.run("stamp", "kept").status == 0
    for each in ("", "-wal", "-shm"):
        (world.home / f"ledger.db{each}").unlink(missing_ok=True)
    assert world.run("status", "--rebuild").status == 0
    assert "1 checked, 0 due" in world.run("renew", "--preview").out
    assert world.run("--json", "status").json["certificates"][0]["state"] == "ok"


def test_two_runs_at_a_time_share_the_work_and_order_nothing_twice(world: SimulatedWorld) -> None:
    names = [NAME, "bakery.saltmarsh.test", "museum.saltmarsh.test", "ferry.saltmarsh.test"]
    for each in names[1:]:
        world.site(each.partition(".")[0], [each])
    tables = "".join(
        f'[certificate.{each.partition(".")[0]}]\nnames = ["{each}"]\nauthority = "quayside"\nvia = "front"\n'
        'install = ["front"]\n'
        for each in names
    )
    world.config.write_text(f"{world.config.read_text()}\n{tables}")
    env = {**os.environ, "INKSTAMP_CONFIG": str(world.config)}
    runs = [
        subprocess.Popen([inkstamp_program(), "renew"], env=env, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
        for _ in range(2)
    ]
    told = [run.communicate(timeout=60) for run in runs]
    assert [run.returncode for run in runs] == [0, 0], told
    assert world.simulated.state.issued == len(names)
    assert world.asked()["new-order"] == len(names)
    assert world.run("renew").out.startswith("4 checked, 0 renewed, 0 failed")
