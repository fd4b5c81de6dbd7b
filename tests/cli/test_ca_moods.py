"""The built program against the simulated world: CAs that differ, have trouble, or misbehave."""

import json
import re
import subprocess
from collections import Counter
from contextlib import closing
from datetime import UTC, datetime, timedelta
from email.utils import format_datetime

import pytest
from cryptography import x509
from simulated import NAME, SimulatedWorld
from world import Ran, inkstamp_program

from inkstamp.clock import SystemClock
from inkstamp.ledger.records import OrderState, ProofRecord
from inkstamp.ledger.sqlite import SqliteDatabase
from inkstamp.ledger.store import Ledger
from inkstamp.standins.ca_mood import Canned


def problem(kind: str, detail: str, **more: object) -> bytes:
    return json.dumps({"type": f"urn:ietf:params:acme:error:{kind}", "detail": detail, **more}).encode()


def add_entry(world: SimulatedWorld) -> None:
    entry = f'[certificate.rowing]\nnames = ["{NAME}"]\nauthority = "quayside"\nvia = "front"\ninstall = ["front"]\n'
    world.config.write_text(f"{world.config.read_text()}\n{entry}")


def flat(done: Ran) -> str:
    return re.sub(r"\s+", " ", done.err)


def test_where_replies_say_valid_at_once_a_certificate_costs_five_requests(world: SimulatedWorld) -> None:
    world.simulated.state.mood.at_once = True
    done = world.run("stamp", NAME, "--as", "rowing")
    assert done.status == 0, done.err
    assert world.asked() == Counter(
        {"directory": 1, "new-order": 1, "authorization": 1, "challenge": 1, "finalize": 1, "certificate": 1}
    )  # this CA gives a nonce with its directory


def test_a_ca_that_answers_503_for_a_while_is_waited_for_as_it_asks(world: SimulatedWorld) -> None:
    soon = format_datetime(datetime.now(UTC) + timedelta(seconds=1), usegmt=True)
    world.can("new-order", Canned(503, {"Retry-After": "1"}, b"<h1>busy</h1>", "text/html"))
    world.can("finalize", Canned(500, {"Retry-After": soon}, problem("serverInternal", "a hiccup")))
    done = world.run("stamp", NAME, "--as", "rowing")
    assert done.status == 0, done.err
    assert "waits 1 s: new order: the CA answered with 503" in flat(done)
    assert "finalize: the CA answered with 500 (serverInternal)" in flat(done)
    assert world.asked()["new-order"] == 2
    assert world.simulated.state.issued == 1


def test_a_rate_limit_beyond_patience_is_told_with_its_time_and_not_run_against(world: SimulatedWorld) -> None:
    limited = problem("rateLimited", "too many certificates for saltmarsh.test", instance="https://ca.test/limits")
    world.can("new-order", Canned(429, {"Retry-After": "86400"}, limited))
    done = world.run("stamp", NAME, "--as", "rowing")
    assert done.status == 1
    assert "too many certificates for saltmarsh.test" in flat(done)
    assert "https://ca.test/limits" in flat(done)
    tomorrow = datetime.now(UTC) + timedelta(days=1)
    assert f"asks to retry after {tomorrow:%Y-%m-%d}" in flat(done)
    assert world.asked()["new-order"] == 1


def test_refused_nonces_are_replaced_by_those_of_the_refusal(world: SimulatedWorld) -> None:
    refusal = Canned(400, {}, problem("badNonce", "stale"))
    for resource in ("new-order", "challenge", "certificate"):
        world.can(resource, refusal, refusal)
    done = world.run("stamp", NAME, "--as", "rowing")
    assert done.status == 0, done.err
    assert world.asked()["new-order"] == 3
    assert world.asked()["new-nonce"] == 0


def test_a_compound_refusal_is_told_name_by_name(world: SimulatedWorld) -> None:
    parts = [
        {"type": "urn:ietf:params:acme:error:caa", "detail": "CAA names another CA",
         "identifier": {"type": "dns", "value": NAME}},
        {"type": "urn:ietf:params:acme:error:rejectedIdentifier", "detail": "on a block list"},
    ]  # fmt: skip
    world.can("new-order", Canned(403, {}, problem("compound", "two of the names", subproblems=parts)))
    done = world.run("stamp", NAME, "--as", "rowing", "--json")
    assert done.status == 1
    assert f"{NAME}: caa: CAA names another CA" in flat(done)
    assert "rejectedIdentifier: on a block list" in flat(done)
    error = done.json["error"]
    assert error["kind"] == "CaProblem"
    assert "CAA record" in error["advice"]


@pytest.mark.parametrize(
    ("resource", "answer", "told"),
    [
        ("new-order", Canned(201, {}, b"{}", "application/json"), "does not say where"),
        ("new-order", Canned(201, {"Location": "https://localhost:1/x"}, b"[1]", "application/json"), "order that was"),
        ("authorization", Canned(200, {}, b"x" * 2_000_000, "application/json"), "is longer than 1048576 bytes"),
        ("directory", Canned(200, {}, b"<html>hello</html>", "text/html"), "not the directory"),
        ("certificate", Canned(200, {}, b"no certificate", "text/plain"), "holds 0 PEM certificates"),
        ("finalize", Canned(400, {}, problem("badCSR", "weak key")), "badCSR: weak key"),
        ("order", Canned(200, {}, b'{"status":"odd"}', "application/json"), "order that was asked for"),
    ],
    ids=["no location", "no order", "endless", "no directory", "no certificate", "bad csr", "odd status"],
)
def test_an_answer_that_cannot_be_is_one_clear_error_and_the_next_run_goes_on(
    world: SimulatedWorld, resource: str, answer: Canned, told: str
) -> None:
    world.can(resource, answer)
    done = world.run("stamp", NAME, "--as", "rowing")
    assert done.status == 1
    assert told in flat(done)
    assert "Traceback" not in done.err
    assert world.left_behind() == []
    assert not (world.home / "shelf" / "rowing" / "current").exists()
    again = world.run("stamp", "rowing")
    assert again.status == 0, again.err
    assert world.simulated.state.issued == 1


def test_the_root_that_is_asked_for_is_found_among_the_alternates_and_only_then_fetched(world: SimulatedWorld) -> None:
    assert world.run("stamp", NAME, "--as", "rowing").status == 0
    assert world.asked()["certificate-other"] == 0
    world.config.write_text(
        world.config.read_text().replace("agree_terms = true", 'agree_terms = true\nroot = "Quayside Old Harbour Root"')
    )
    done = world.run("stamp", "rowing", "--reissue")
    assert done.status == 0, done.err
    assert "root “Quayside Old Harbour Root”" in done.out
    assert world.asked()["certificate-other"] == 1


def test_a_certificate_that_no_known_root_stands_behind_never_reaches_a_server(world: SimulatedWorld) -> None:
    roots = (world.folder / "roots.pem").read_bytes()
    site = world.nginx.folder / "sites" / "rowing.conf"
    before = site.read_bytes()
    (world.folder / "roots.pem").write_bytes(world.trust.read_bytes())
    done = world.run("stamp", NAME, "--as", "rowing")
    assert done.status == 1
    assert "is not among the trusted roots" in flat(done)
    assert world.asked()["certificate-other"] == 1
    assert site.read_bytes() == before
    (world.folder / "roots.pem").write_bytes(roots)
    assert world.run("stamp", "rowing").status == 0
    assert world.simulated.state.issued == 1


def test_a_certificate_that_is_due_is_renewed_and_one_failure_does_not_stop_the_others(world: SimulatedWorld) -> None:
    names = [NAME, "bakery.saltmarsh.test", "museum.saltmarsh.test"]
    for each in names[1:]:
        world.site(each.partition(".")[0], [each])
    world.simulated.state.mood.aged = dict.fromkeys(names[:2], timedelta(days=70))
    for each in names:
        assert world.run("stamp", each, "--as", each.partition(".")[0]).status == 0
    stands = {each["name"]: each["state"] for each in world.run("status", "--json").json["certificates"]}
    assert stands == {"rowing": "due", "bakery": "due", "museum": "ok"}
    world.nameserver.table[NAME] = []
    done = world.run("renew")
    assert done.status == 1
    assert "3 checked, 1 renewed, 1 failed" in done.out
    assert "bakery: edition 2 on front" in done.out
    assert "rowing: the CA would not find rowing.saltmarsh.test" in flat(done)
    assert world.run("check", "bakery").status == 0
    asked = world.asked()["new-order"]
    world.nameserver.table[NAME] = ["127.0.0.1"]
    resting = world.run("renew")  # a broken name must not use up the CA's limits
    assert (resting.status, world.asked()["new-order"]) == (0, asked)
    assert "failed once, next attempt from" in re.sub(r"\s+", " ", resting.out)
    assert [each["name"] for each in world.run("renew", "--json").json["held"]] == ["rowing"]
    assert world.run("renew", "rowing", "--json").json["renewed"][0]["outcome"]["edition"]["number"] == 2
    assert "3 checked, 0 renewed, 0 failed" in world.run("renew").out
    text = world.config.read_text()
    world.config.write_text(
        text.replace('names = ["museum.saltmarsh.test"]', f'names = ["museum.saltmarsh.test", "{NAME}"]')
    )
    assert "edition 1 does not cover rowing.saltmarsh.test" in world.run("renew", "--preview").out


def test_a_lost_order_is_given_up_and_replaced_where_the_ca_no_longer_knows_it(world: SimulatedWorld) -> None:
    world.can("challenge", *[Canned(403, {}, problem("unauthorized", "not now"))])
    assert world.run("stamp", NAME, "--as", "rowing").status == 1
    world.simulated.state.orders.clear()
    done = world.run("stamp", "rowing")
    assert done.status == 0, done.err
    assert "the CA no longer knows it" in " ".join(world.run("history").out.split())


def test_an_order_that_ended_at_the_ca_while_nobody_looked_is_replaced_in_the_same_run(world: SimulatedWorld) -> None:
    world.nameserver.table[NAME] = ["127.0.0.9"]
    assert world.run("stamp", NAME, "--as", "rowing").status == 1
    (order,) = world.simulated.state.orders.values()
    order.status, order.error = "invalid", {"type": "about:blank", "detail": "expired after seven days"}
    world.nameserver.table[NAME] = ["127.0.0.1"]
    done = world.run("stamp", "rowing")
    assert done.status == 0, done.err
    assert "expired after seven days" in " ".join(world.run("history", "rowing").out.split())


def test_a_request_that_the_ca_refuses_for_good_ends_the_order_and_the_next_run_opens_another(
    world: SimulatedWorld,
) -> None:
    world.can("finalize", Canned(403, {}, problem("caa", f"CAA of {NAME} names another CA")))
    done = world.run("stamp", NAME, "--as", "rowing")
    assert done.status == 1
    assert f"CAA of {NAME} names another CA" in flat(done)
    assert "the next run orders again" in flat(done)
    short = NAME.partition(".")[0]
    assert f"CAA of {NAME} names another CA" in world.run("why", short).flat
    assert world.run("status", "--json").json["certificates"][0]["state"] == "refused"
    again = world.run("stamp", short)
    assert again.status == 0, again.err
    assert world.asked()["new-order"] == 2
    assert world.simulated.state.issued == 1


def test_a_ca_is_left_alone_for_as_long_as_it_asked_when_a_challenge_was_answered(world: SimulatedWorld) -> None:
    world.simulated.state.mood.asks_for = 2
    done = world.run("stamp", NAME, "--as", "rowing")
    assert done.status == 0, done.err
    assert "waits 2 s: the CA is processing" in flat(done)


def test_states_that_no_rfc_lists_are_told_and_never_an_error_of_the_whole_command(world: SimulatedWorld) -> None:
    assert world.run("stamp", NAME, "--as", "rowing").status == 0
    for number, status in enumerate(("deactivated", "on-hold"), start=1):
        for order in world.simulated.state.orders.values():
            order.status = status
        shown = world.run("authority", "show", "quayside")
        assert shown.status == 0, shown.err
        assert status in shown.out
        assert world.run("stamp", NAME.partition(".")[0], "--reissue").status == 0
        assert world.simulated.state.issued == number + 1


def test_changed_names_drop_the_open_order(world: SimulatedWorld) -> None:
    world.can("challenge", Canned(403, {}, problem("unauthorized", "not now")))
    assert world.run("stamp", NAME, "--as", "rowing").status == 1
    world.site("rowing", [NAME, "www.rowing.saltmarsh.test"])
    world.config.write_text(world.config.read_text().replace(f'names = ["{NAME}"', f'names = ["{NAME}", "www.{NAME}"'))
    done = world.run("stamp", "rowing")
    assert done.status == 0, done.err
    leaf = x509.load_pem_x509_certificate((world.home / "shelf/rowing/current/leaf.pem").read_bytes())
    assert len(leaf.extensions.get_extension_for_class(x509.SubjectAlternativeName).value) == 2
    assert "order dropped" in world.run("history", "rowing").out


def test_results_go_to_stdout_progress_to_stderr_and_nothing_is_coloured_without_a_terminal(
    world: SimulatedWorld,
) -> None:
    done = world.run("stamp", NAME, "--as", "rowing", "--json", env={"COLUMNS": "60"})
    assert done.json["certificates"][0]["edition"]["number"] == 1
    assert "asking the CA to validate" in done.err
    for command in (["status"], ["history"], ["check", NAME], ["survey"], ["authority", "show"], ["--help"]):
        shown = world.run(*command)
        assert shown.status == 0
        assert "\033" not in shown.out + shown.err
        assert max(len(line) for line in shown.out.splitlines()) <= 130


def test_preview_says_what_would_be_done_and_does_nothing(world: SimulatedWorld) -> None:
    before = world.config.read_bytes()
    done = world.run("stamp", NAME, "--as", "rowing", "--preview")
    assert done.status == 0
    assert "[certificate.rowing] would be added" in done.out
    (plan,) = world.run("stamp", NAME, "--as", "rowing", "--preview", "--json").json["plans"]
    assert (plan["name"], plan["write"], plan["entry"]["names"]) == ("rowing", True, [NAME])
    assert world.config.read_bytes() == before
    assert world.asked() == Counter()


def test_output_into_a_closed_pipe_ends_quietly(world: SimulatedWorld) -> None:
    line = f'"{inkstamp_program()}" --config "{world.config}" survey | head -1'
    done = subprocess.run(["bash", "-o", "pipefail", "-c", line], capture_output=True, text=True, check=False)
    assert done.stderr == ""


def test_a_file_of_a_server_that_is_not_configured_any_longer_is_not_removed_from_this_machine(
    world: SimulatedWorld,
) -> None:
    elsewhere = world.folder / "elsewhere" / "token"
    elsewhere.parent.mkdir()
    elsewhere.write_text("of this machine")
    with closing(Ledger(SqliteDatabase(world.home / "ledger.db"), SystemClock())) as ledger:
        order = ledger.intend_order("gone", "quayside", ("gone.test",))
        ledger.move_order(order, OrderState.DROPPED)
        ledger.files.plan(
            [ProofRecord(order_id=order.id, server="west", root=str(elsewhere.parent), parts=("token",), made=())]
        )
    add_entry(world)
    done = world.run("renew")
    assert elsewhere.read_text() == "of this machine"
    assert f"west: is not configured any longer; what was placed there remains: {elsewhere}" in done.flat
    assert "is not configured any longer" not in world.run("renew").flat, "once"


def test_an_order_whose_key_is_lost_after_the_csr_was_sent_gives_way_to_another(world: SimulatedWorld) -> None:
    with closing(Ledger(SqliteDatabase(world.home / "ledger.db"), SystemClock())) as ledger:
        order = ledger.intend_order("rowing", "quayside", (NAME,))
        opened = ledger.move_order(order, OrderState.OPENED, url=f"{world.directory}/none")
        ledger.move_order(opened, OrderState.FINALIZING)
    add_entry(world)
    assert world.run("renew").status == 0
    told = world.run("history", "rowing").flat
    assert "order 1: its key is missing, and its CSR was sent" in told
    assert "edition 2 on front" in told
