"""Whom `renew` tells what: each matter once, and a line when it is over."""

import base64
import hashlib
import hmac
import json
import os
import re
from collections.abc import Iterator
from contextlib import ExitStack
from pathlib import Path

import pytest
from prometheus_client.parser import text_string_to_metric_families
from simulated import NAME, SimulatedWorld
from world import make_tls_pair

from inkstamp.standins.ca_mood import Canned
from inkstamp.standins.mailbox import HookReceiver, Mailbox
from inkstamp.standins.ports import free_ports

KEY = b"a key that both sides know"
REFUSAL = json.dumps({"type": "urn:ietf:params:acme:error:rejectedIdentifier", "detail": "not that one"}).encode()


def secret(folder: Path, name: str, content: bytes) -> Path:
    file = folder / name
    file.touch(mode=0o600)
    file.write_bytes(content)
    return file


def add(world: SimulatedWorld, text: str) -> None:
    world.config.write_text(f"{world.config.read_text()}\n{text}\n")


@pytest.fixture
def mailbox(world: SimulatedWorld) -> Iterator[Mailbox]:
    pair = make_tls_pair(world.folder, "localhost")
    (port,) = free_ports(1)
    secret(world.folder, "password", b"correct horse\n")
    add(
        world,
        f'[messenger.ops]\nkind = "mail"\nserver = "localhost:{port}"\nsender = "ink@saltmarsh.test"\n'
        f'to = ["night@saltmarsh.test", "day@saltmarsh.test"]\nuser = "ink"\npassword_file = "password"\n'
        f'trust = "{pair[0].name}"\nfailing_times = 2\nabout = ["renewed", "failing", "waiting", "not-installed"]\n',
    )
    with ExitStack() as stack:
        yield stack.enter_context(Mailbox(port, pair, login="ink:correct horse"))


def fail(world: SimulatedWorld) -> None:
    world.can("new-order", Canned(400, {}, REFUSAL))
    assert world.run("renew", "rowing").status == 1


@pytest.mark.parametrize("bytes_of_it", [b"t\xc3\xbcr und tor\n", b"\xff\xfe", b"one\ntwo\n", b"\n"])
def test_a_password_that_no_mail_server_is_sent_is_refused_and_no_character_of_it_is_shown(
    world: SimulatedWorld, mailbox: Mailbox, bytes_of_it: bytes
) -> None:
    secret(world.folder, "password", bytes_of_it)
    done = world.run("messenger", "test", "ops")
    assert done.status == 2, done.err
    assert "one line of printable ASCII" in done.flat
    assert not {"ü", "\\xfc", "two"} & set(done.err.split())
    assert "internal error" not in done.flat
    assert mailbox.letters == []


def test_a_mistake_in_any_entry_stops_no_other_certificate_and_is_mailed(
    world: SimulatedWorld, mailbox: Mailbox
) -> None:
    entry = '[certificate.{}]\nnames = ["{}"]\nauthority = "{}"\nvia = "front"\ninstall = ["{}"]\n'
    add(world, entry.format("rowing", NAME, "quayside", "front"))
    add(
        world,
        '[server.back]\nkind = "nginx"\nprogam = "nginx"\n' + entry.format("behind", f"b.{NAME}", "quayside", "back"),
    )
    add(world, '[authority.other]\nkind = "acme"\n' + entry.format("elsewhere", f"c.{NAME}", "other", "front"))
    add(world, '[messenger.chat]\nkind = "webhook"\n' + entry.format("astray", f"d.{NAME}", "nobody", "front"))
    preview = world.run("renew", "--preview")
    assert preview.status == 1
    assert "rowing: due" in preview.out
    assert "unknown key “progam”" in preview.err
    assert world.run("stamp", "rowing").status == 2, "who is there fixes it first"
    done = world.run("renew")
    assert done.status == 1, done.out
    assert "rowing: edition 1 on front" in done.out
    assert "1 renewed, 6 failed" in done.out
    (letter,) = mailbox.letters
    text = letter.message.get_content()
    for each in ("behind", "elsewhere", "astray", "server.back", "authority.other", "messenger.chat"):
        assert f"“{each}”" in text
    assert "[server.back] has an error: unknown key “progam”" in text
    assert world.run("renew").status == 1
    assert len(mailbox.letters) == 1, "once"


def test_a_matter_is_mailed_once_and_once_more_when_it_is_over(world: SimulatedWorld, mailbox: Mailbox) -> None:
    add(world, f'[certificate.rowing]\nnames = ["{NAME}"]\nauthority = "quayside"\nvia = "front"\ninstall = ["front"]')
    fail(world)
    assert mailbox.letters == [], "one failure is not worth a message as configured"
    fail(world)
    fail(world)
    (letter,) = mailbox.letters
    assert (letter.sender, letter.to) == ("ink@saltmarsh.test", ("night@saltmarsh.test", "day@saltmarsh.test"))
    assert letter.over_tls
    assert letter.user == "ink"
    assert letter.message["Auto-Submitted"] == "auto-generated"
    assert letter.message["Subject"] == f"Certificates on {os.uname().nodename}: 1 new"
    text = letter.message.get_content()
    assert "* “rowing” failed 2 times in a row: the CA answered with 400 (rejectedIdentifier)" in text
    assert "fix: inkstamp why rowing" in text
    done = world.run("renew", "rowing")
    assert done.status == 0, done.err
    assert len(mailbox.letters) == 2
    over = mailbox.letters[1].message
    assert over["Subject"].endswith("1 over, 1 renewed")
    assert re.search(r"Over:\s+\* “rowing” failed 2 times", over.get_content())
    assert "“rowing” has edition" in over.get_content()
    assert world.run("renew").status == 0
    assert len(mailbox.letters) == 2
    everything = done.out + done.err + (world.home / "ledger.db").read_bytes().decode("latin-1")
    assert "correct horse" not in everything


def test_a_mail_server_that_takes_nothing_fails_no_renewal_and_is_tried_again(
    world: SimulatedWorld, mailbox: Mailbox
) -> None:
    add(world, f'[certificate.rowing]\nnames = ["{NAME}"]\nauthority = "quayside"\nvia = "front"\ninstall = ["front"]')
    mailbox.refuses = True
    fail(world)
    fail(world)
    done = world.run("renew", "rowing", "nothing-of-that-name")
    assert done.status == 2
    world.can("new-order", Canned(400, {}, REFUSAL))
    done = world.run("renew", "rowing")
    assert "ops: could not send the notification, the next run tries again: the mail server does not take" in done.flat
    assert "550 nobody of that name" in done.flat
    assert "correct horse" not in done.flat
    mailbox.refuses = False
    fail(world)
    assert "failed 4 times in a row" in mailbox.letters[0].message.get_content()
    text = world.config.read_text()
    world.config.write_text(text.replace("correct horse", "x").replace('tls = "none"', ""))
    (world.folder / "password").write_bytes(b"a wrong one")
    done = world.run("renew", "rowing")
    assert done.status == 0
    assert "535 these are not the right ones" in done.flat
    (world.folder / "password").chmod(0o644)
    add(world, "# again")
    done = world.run("renew", "rowing", "--json")
    assert done.status == 0


def test_a_webhook_is_signed_and_asked_again_while_it_has_trouble(world: SimulatedWorld) -> None:
    (port,) = free_ports(1)
    secret(world.folder, "hook.key", KEY + b"\n")
    with HookReceiver(port) as receiver:
        add(
            world,
            f'[messenger.board]\nkind = "webhook"\nurl = "{receiver.url}"\nkey_file = "hook.key"\n'
            f'about = ["renewed"]\n[certificate.rowing]\nnames = ["{NAME}"]\nauthority = "quayside"\nvia = "front"\n'
            'install = ["front"]',
        )
        receiver.answers.extend([503])
        assert world.run("renew").status == 0
        (_, first), (headers, body) = receiver.posts
    assert first == body
    told = json.loads(body)
    assert [(each["certificate"], each["kind"]) for each in told["renewed"]] == [("rowing", "renewed")]
    assert told["new"] == told["over"] == []
    # What the other side does to believe it, by RFC 9421 and RFC 9530.
    digest = base64.b64encode(hashlib.sha256(body).digest()).decode()
    assert headers["content-digest"] == f"sha-256=:{digest}:"
    covered = headers["signature-input"].removeprefix("inkstamp=")
    assert re.fullmatch(
        r'\("@method" "@target-uri" "content-digest"\);created=\d+;keyid="board";alg="hmac-sha256"', covered
    )
    base = "\n".join(
        ['"@method": POST', f'"@target-uri": {receiver.url}', f'"content-digest": {headers["content-digest"]}',
         f'"@signature-params": {covered}']
    )  # fmt: skip
    wanted = base64.b64encode(hmac.digest(KEY, base.encode(), "sha256")).decode()
    assert headers["signature"] == f"inkstamp=:{wanted}:"


def test_a_message_is_sent_now_when_somebody_asks_for_it_and_what_is_wrong_is_told(
    world: SimulatedWorld, mailbox: Mailbox
) -> None:
    (port,) = free_ports(1)
    secret(world.folder, "hook.key", KEY)
    with HookReceiver(port) as receiver:
        add(world, f'[messenger.board]\nkind = "webhook"\nurl = "{receiver.url}"\nkey_file = "hook.key"')
        listed = world.run("messenger")
        assert [line.split()[0] for line in listed.out.splitlines()[2:4]] == ["ops", "board"]
        assert "inkstamp messenger test ops" in listed.out
        done = world.run("messenger", "test", "ops")
        assert done.status == 0, done.err
        assert "ops: accepted by localhost:" in done.out
        (letter,) = mailbox.letters
        assert "a test" in letter.message["Subject"]
        assert "Nothing is wrong" in letter.message.get_content()
        assert world.run("messenger", "test", "board").status == 0
        ((_, body),) = receiver.posts
        told = json.loads(body)
        assert (told["test"], told["new"], told["over"], told["renewed"]) == (True, [], [], [])
    unknown = world.run("messenger", "test", "nobody")
    assert unknown.status == 2
    assert "known: " in unknown.flat
    assert "board" in unknown.flat
    (world.folder / "password").write_bytes(b"a wrong one")
    refused = world.run("messenger", "test", "ops")
    assert refused.status == 1
    assert "535 these are not the right ones" in refused.flat
    assert "a wrong one" not in refused.flat
    assert len(mailbox.letters) == 1


def test_figures_are_written_for_monitoring(world: SimulatedWorld) -> None:
    add(
        world,
        f'[renewal]\nmetrics = "node/inkstamp.prom"\n[certificate.rowing]\nnames = ["{NAME}"]\n'
        'authority = "quayside"\nvia = "front"\ninstall = ["front"]',
    )
    assert "could not be written" in world.run("renew").flat, "its folder is not there"
    (world.folder / "node").mkdir()
    world.can("new-order", Canned(400, {}, REFUSAL))
    world.run("stamp", "rowing", "--reissue")
    assert world.run("renew").status == 0
    text = (world.folder / "node" / "inkstamp.prom").read_text()
    figures = {
        (sample.name, sample.labels.get("certificate", "")): sample.value
        for family in text_string_to_metric_families(text)
        for sample in family.samples
    }
    assert 89 < figures["inkstamp_certificate_days_left", "rowing"] < 90
    assert figures["inkstamp_certificate_failures", "rowing"] == 1
    expiry = figures["inkstamp_certificate_not_after_timestamp_seconds", "rowing"]
    assert expiry - figures["inkstamp_certificate_last_success_timestamp_seconds", "rowing"] < 90 * 86400
    assert figures["inkstamp_certificate_last_failure_timestamp_seconds", "rowing"] > 0
    assert figures["inkstamp_run_looked_at", ""] == 1


@pytest.mark.parametrize(
    ("table", "told"),
    [
        ('kind = "mail"\nserver = "m:25"\nsender = "a@b.test"', "lacks the key “to”"),
        ('kind = "mail"\nserver = "m:25"\nsender = "a@b.test"\nto = ["nobody"]', "“nobody” is no e-mail address"),
        ('kind = "mail"\nserver = "m:25"\nsender = "a@b.test"\nto = ["a@b.test"]\nuser = "a"', "go together"),
        ('kind = "webhook"\nurl = "ftp://x"\nkey_file = "k"', "is no web address"),
        ('kind = "webhook"\nurl = "https://x"\nkey_file = "k"\nto = ["a@b.test"]', "does not apply to kind"),
        ('kind = "webhook"\nurl = "https://x"\nkey_file = "k"\nabout = ["weather"]', "known values: renewed, failing"),
    ],
)
def test_a_messenger_that_cannot_work_is_refused_with_its_line(world: SimulatedWorld, table: str, told: str) -> None:
    add(world, f"[messenger.ops]\n{table}")
    done = world.run("status")
    assert done.status == 2
    assert told in done.flat
    assert ", line " in done.flat


def test_a_configuration_that_cannot_be_read_at_all_is_mailed_once_and_that_it_can_again(
    world: SimulatedWorld, mailbox: Mailbox
) -> None:
    assert world.run("renew").status == 0
    good = world.config.read_text()
    world.config.write_text(good + "[certificate.broken\n")
    for _ in range(2):
        assert world.run("renew").status == 2
    world.config.write_text(good)
    assert world.run("renew").status == 0
    assert world.run("renew").status == 0
    told, over = [each.message.get_content() for each in mailbox.letters]
    assert "nothing can be renewed" in told
    assert "is not valid TOML" in told
    assert over.startswith("Over:")


def test_runs_that_were_missed_are_told_by_status_and_by_the_next_run(world: SimulatedWorld, mailbox: Mailbox) -> None:
    add(
        world, f'[certificate.rowing]\nnames = ["{NAME}"]\nauthority = "quayside"\nvia = "front"\ninstall = ["front"]\n'
    )
    assert world.run("renew").status == 0
    assert world.run("status", "--healthy").status == 0
    record = world.home / "last-renewal.json"
    at = re.sub(r'.*?"at":"([^"]*)".*', r"\1", record.read_text())
    record.write_text(record.read_text().replace(at, "2026-11-20T03:00:00Z"))
    shown = world.run("status")
    assert "`renew` has not run since 2026-11-20 03:00 UTC, for" in shown.flat
    unwell = world.run("status", "--healthy", "--json")
    assert (unwell.status, unwell.json["healthy"]) == (1, False)
    assert world.run("renew").status == 0
    told = mailbox.letters[-1].message.get_content()
    assert "has not run since 2026-11-20 03:00 UTC" in " ".join(told.split())
    assert world.run("renew").status == 0
    assert "Over:" in mailbox.letters[-1].message.get_content()
    assert world.run("status", "--healthy").status == 0
    earlier = world.run("schedule", "show", "--into", str(world.folder), "--json").json["schedule"]["last"]["earlier"]
    assert [each["at"] for each in earlier][1:] == ["2026-11-20T03:00:00Z"]
