"""A certificate bought at a portal, from the request to the web server: real nginx, real proofs, and a person."""

import re
import subprocess
import sys
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding
from killing import killed_at
from portal_world import BLOCK, NAME, RULE, PortalWorld, flat, leaf, portal_world, stand

from inkstamp.jobs.notification.messages import _conditions
from inkstamp.jobs.status.overview import statuses_of
from inkstamp.pki import csr
from inkstamp.pki.certificates import short_name
from inkstamp.runtime import Runtime

WILD = "*.saltmarsh.test"


@pytest.fixture
def world(tmp_path: Path) -> Iterator[PortalWorld]:
    with portal_world(tmp_path) as made:
        yield made


def test_an_order_goes_from_the_request_to_the_web_server_and_is_renewed_while_the_old_one_serves(
    world: PortalWorld,
) -> None:
    ordered = world.run("order", "shop")
    assert ordered.status == 3, ordered.err
    assert "then inkstamp prove shop" in flat(ordered.out)
    assert (world.home / "orders" / "1" / "key.pem").stat().st_mode & 0o777 == 0o600
    assert stand(world) == ("waiting for you", "inkstamp prove shop")
    again = world.run("order", "shop")
    assert BLOCK.findall(again.out) == BLOCK.findall(ordered.out)  # the digests that proofs are named by stay

    page = world.paste(ordered)
    world.post(f"{page}/method", method="file")
    assert "404" in world.post(f"{page}/check")  # nothing is there yet
    assert world.run("prove", "shop").status == 0
    assert len(world.proofs_state()) == 3  # two folders and the file
    assert stand(world) == ("waiting for the CA", "inkstamp collect shop FILE…")
    assert "issued" in world.post(f"{page}/check")
    collected = world.run("collect", str(world.download(page)))
    assert collected.status == 0, collected.err
    assert "shop: edition 1 is on the shelf, from order 1" in collected.out
    assert world.left_behind() == []
    assert list((world.home / "orders").iterdir()) == []
    served = (world.home / "shelf" / "shop" / "0001" / "served.pem").read_bytes()
    subjects = [short_name(each.subject) for each in x509.load_pem_x509_certificates(served)]
    assert subjects == [NAME, "Fogbell Server CA 7", "Fogbell Upper CA"]
    assert stand(world) == ("not installed", "inkstamp stamp shop")
    assert world.run("stamp", "shop").status == 0
    assert world.served(NAME) == leaf(world, 1).public_bytes(Encoding.DER)
    assert stand(world) == ("ok", "")

    refused = world.run("order", "shop")
    assert refused.status == 2
    assert "inkstamp order shop --reissue" in flat(refused.err)
    page = world.issued("--reissue")
    assert world.served(NAME) == leaf(world, 1).public_bytes(Encoding.DER)
    assert "edition 1 is valid and installed" in world.run("stamp", "shop").out  # while the next one is waited for
    assert world.run("collect", "shop", str(world.download(page, "chain.p7b"))).status == 0
    assert world.run("stamp", "shop").status == 0
    assert world.served(NAME) == leaf(world, 2).public_bytes(Encoding.DER)
    assert leaf(world, 1).public_key() != leaf(world, 2).public_key()


def test_a_record_is_made_by_hand_and_the_classic_slips_are_named(world: PortalWorld) -> None:
    world.configure(rule="", via="by-hand")
    page = world.ordered("cname")
    shown = flat(world.post(f"{page}/method", method="cname"))
    record, target = re.findall(r"CNAME record (\S+) must have the value (\S+)", shown)[0]
    told = world.run("prove", "shop", "--cname", record, target)
    assert told.status == 1
    assert f"record {record} type CNAME value {target}" in flat(told.out)
    assert f"bad {record}: does not exist in DNS (NXDOMAIN)" in flat(told.out)
    assert stand(world) == ("waiting for DNS", "inkstamp prove shop")

    records = world.nameserver.records
    records[f"{record}.saltmarsh.test", "CNAME"] = [f"{target}."]
    assert f"enter {record.removesuffix('.saltmarsh.test')} as its name" in flat(world.run("prove", "shop").out)
    records[record, "CNAME"] = [f"{target}.saltmarsh.test."]
    assert "end the value with a dot" in flat(world.run("prove", "shop").out)
    records[record, "CNAME"] = ["elsewhere.test."]
    assert f"change it to {target}" in flat(world.run("prove", "shop").out)
    records[record, "CNAME"] = [f"{target.upper()}."]
    assert world.run("prove", "shop").status == 0
    records[record, "CNAME"] = [f"{target}."]
    assert "issued" in world.post(f"{page}/check")

    pasted = subprocess.run(
        [sys.executable, "-m", "inkstamp", "--config", str(world.config), "collect", "-"],
        input=world.get(f"{page}/chain.p7b"), capture_output=True, check=False,
    )  # fmt: skip
    assert pasted.returncode == 0, pasted.stderr


def test_the_proof_is_switched_from_a_file_to_a_record_and_the_file_goes(world: PortalWorld) -> None:
    page = world.ordered("file")
    assert world.run("prove", "shop").status == 0
    assert world.proofs_state()
    shown = flat(world.post(f"{page}/method", method="txt"))
    record, value = re.findall(r"TXT record (\S+) must have the value (\S+)", shown)[0]
    world.nameserver.records[record, "TXT"] = ['"v=spf1 -all"', f'" {value}"']
    told = world.run("prove", "shop", "--txt", record, value)
    assert "quotation marks or blanks" in flat(told.out)
    assert world.proofs_state() == []
    world.nameserver.records[record, "TXT"] = ['"v=spf1 -all"', f'"{value[:20]}" "{value[20:]}"']
    assert world.run("prove", "shop").status == 0
    world.nameserver.records[record, "TXT"] = [f'"{value}"']
    assert "issued" in world.post(f"{page}/check")


def test_a_file_of_the_portals_own_wording_is_carried_and_comes_back_if_it_is_cleared_away(world: PortalWorld) -> None:
    world.configure(rule="")
    world.run("order", "shop")
    nothing = world.run("prove", "shop")
    assert nothing.status == 2
    assert "--file, --cname, --txt or --email" in flat(nothing.err)
    url = f"http://{NAME}/.well-known/pki-validation/x7.txt"
    assert world.run("prove", "shop", "--file", url, "--line", "41c2", "--line", "fogbell").status == 0
    file = world.folder / "www" / "shop" / ".well-known" / "pki-validation" / "x7.txt"
    assert file.read_text() == "41c2\nfogbell\n"
    before = file.stat().st_ino
    assert world.run("prove", "shop").status == 0
    assert file.stat().st_ino == before  # the CA may be looking: what stands is left alone
    file.unlink()
    assert world.run("prove", "shop").status == 0
    assert file.exists()
    for path in ("/../../etc/passwd", "/.well-known/", "http://x/", "/a b"):
        assert world.run("prove", "shop", "--file", path, "--line", "x").status == 2
    assert world.run("order", "shop", "--cancel").status == 0
    assert world.left_behind() == []
    assert list((world.home / "orders").iterdir()) == []
    assert stand(world) == ("not issued", "inkstamp order shop")


def test_approval_by_email_lists_what_a_ca_may_write_to_and_whether_mail_arrives(world: PortalWorld) -> None:
    records = world.nameserver.records
    records["saltmarsh.test", "MX"] = ["10 mail.saltmarsh.test."]
    records["saltmarsh.test", "CAA"] = ['0 contactemail "certs@tides.test"']
    records["_validation-contactemail.saltmarsh.test", "TXT"] = ['"dns@tides.test"']
    records[NAME, "MX"] = ["0 ."]
    page = world.ordered("email")
    listed = world.run("prove", "shop", "--email")
    assert listed.status == 0, listed.err
    text = flat(listed.out)
    assert "bad says in DNS that it takes no mail (null MX) fix: choose another domain or method" in text
    assert f"addresses admin@{NAME}" in text
    assert "takes mail at mail.saltmarsh.test published certs@tides.test, dns@tides.test addresses admin@" in text
    for local in ("admin", "administrator", "hostmaster", "postmaster", "webmaster"):
        assert f"{local}@saltmarsh.test" in text
    for wrong in ("info@saltmarsh.test", "admin@tides.test", "admin@other.shop.saltmarsh.test"):
        refused = world.run("prove", "shop", "--email", wrong)
        assert refused.status == 2
        assert "choose one of: " in flat(refused.err)

    told = world.run("prove", "shop", "--email", "Hostmaster@saltmarsh.test")
    assert told.status == 1
    assert stand(world) == ("waiting for you", "inkstamp prove shop --email hostmaster@saltmarsh.test --sent")
    world.post(f"{page}/send", address="hostmaster@saltmarsh.test")
    assert world.run("prove", "shop", "--email", "hostmaster@saltmarsh.test", "--sent", "2026-11-20T08:30Z").status == 0
    why = flat(world.run("why", "shop").out)
    assert "the e-mail to hostmaster@saltmarsh.test is to be approved; then the CA issues" in why
    assert "sent 2026-11-20 08:30 UTC" in why
    ((_, link),) = world.portal.state.outbox
    world.post(link.removeprefix(f"{world.portal.url}/"))
    assert "issued" in world.post(f"{page}/check")
    assert world.run("collect", "shop", str(world.download(page))).status == 0


def test_an_order_waits_for_days_tells_why_and_keeps_notes(world: PortalWorld) -> None:
    world.portal.state.mood.reviews = True
    page = world.ordered("file")
    assert world.run("prove", "shop").status == 0
    assert "in review" in world.post(f"{page}/check")
    assert world.run("why", "shop", "--note", "call expected from the CA on Tuesday").status == 0
    told = flat(world.run("why", "shop").out)
    for part in ("waiting for the CA", "step validated as far as visible", "just now", "order 1 at fogbell, http",
                 f"validation {NAME}: file /.well-known/pki-validation/fogbell.txt, found",
                 "call expected from the CA on Tuesday", "next inkstamp collect shop FILE…"):  # fmt: skip
        assert part in told
    data = world.run("why", "shop", "--json").json["why"]
    assert (data["stall"]["who"], data["order"]["state"], len(data["notes"])) == ("the CA", "waiting", 1)
    assert world.run("renew").status == 3  # not issued yet, and only the CA can help
    assert "waits for the CA" in flat(world.run("renew").err)
    assert world.run("stamp", "shop").status == 3
    world.portal.state.release(int(page.rpartition("/")[2]))
    assert world.run("collect", "shop", str(world.download(page))).status == 0
    assert world.run("renew").status == 0  # installs it
    assert world.served(NAME) == leaf(world, 1).public_bytes(Encoding.DER)


def test_an_order_that_waits_for_a_person_has_not_failed_however_often_a_timer_meets_it(world: PortalWorld) -> None:
    world.configure()
    for _ in range(3):
        assert world.run("renew").status == 3
    told = world.run("why", "shop").out
    assert "paste the CSR" in told
    assert "last met" not in told
    runtime = Runtime(world.config, world.home)
    (condition,) = _conditions(runtime, {}, statuses_of(runtime, tuple(runtime.certificates)))
    runtime.close(0)
    assert (condition.failures, "paste the CSR" in condition.waits_for) == (0, True)


def test_a_certificate_from_a_portal_that_comes_due_opens_its_next_order_and_the_old_one_serves_on(
    world: PortalWorld,
) -> None:
    world.portal.state.mood.age = timedelta(days=150)
    page = world.issued()
    assert world.run("collect", "shop", str(world.download(page))).status == 0
    assert world.run("stamp", "shop").status == 3  # due already, so the next order is opened
    assert stand(world) == ("waiting for you", "inkstamp prove shop")
    swept = world.run("renew")
    assert swept.status == 3
    assert "1 checked, 0 renewed, 0 failed, 1 waiting" in swept.out
    world.portal.state.mood.age = timedelta(hours=1)
    page = world.issued()
    assert world.run("collect", str(world.download(page))).status == 0
    assert world.run("renew").status == 0
    assert world.served(NAME) == leaf(world, 2).public_bytes(Encoding.DER)


def test_several_names_are_proven_one_by_one_and_a_wildcard_never_by_a_file(world: PortalWorld) -> None:
    world.configure(rule="", names=(WILD, "saltmarsh.test", "tides.test"), via="by-hand", install="")
    world.run("order", "shop")
    assert "cannot validate the wildcard" in flat(world.run("prove", "shop", "--file", "/a/b", "--line", "x").err)
    told = world.run("prove", "shop", "--txt", "_x.saltmarsh.test", "one")
    assert told.out.count("fix: create there a TXT record") == 1  # one record, though it proves two names
    assert "bring back the validation file or record that the portal shows for tides.test" in flat(told.out)
    assert "validates none of" in flat(world.run("prove", "shop", "--txt", "_x.other.test", "one").err)
    assert world.run("prove", "shop", "--txt", "proof.elsewhere.test", "two", "--for", "tides.test").status == 1
    world.nameserver.records["_x.saltmarsh.test", "TXT"] = ["one"]
    world.nameserver.records["proof.elsewhere.test", "TXT"] = ["two"]
    assert world.run("prove", "shop").status == 0
    proofs = world.run("why", "shop", "--json").json["why"]["proofs"]
    assert {each["name"]: each["place"] for each in proofs} == {
        WILD: "_x.saltmarsh.test", "saltmarsh.test": "_x.saltmarsh.test", "tides.test": "proof.elsewhere.test",
    }  # fmt: skip


def test_a_rule_with_a_token_waits_for_it(world: PortalWorld) -> None:
    world.configure(rule='record = "_dcv.{domain}"\nvalue = "{token}-{sha1:upper}"\nrecord_type = "txt"', via="by-hand")
    ordered = world.run("order", "shop")
    assert world.run("prove", "shop").status == 2
    sha1 = csr.facts(csr.read(BLOCK.findall(ordered.out)[0].encode(), "x"), "x", private=True).sha1
    told = world.run("prove", "shop", "--token", "ab12")
    assert f"record _dcv.{NAME} type TXT value ab12-{sha1.upper()}" in flat(told.out)
    for rule in (RULE, ""):
        world.configure(rule=rule)
        assert "uses {token}" in flat(world.run("prove", "shop", "--token", "ab12").err)


def test_an_open_order_is_never_dropped_in_silence(world: PortalWorld) -> None:
    world.run("order", "shop")
    world.site("shop", [NAME, "www.shop.saltmarsh.test"])
    world.configure(names=(NAME, "www.shop.saltmarsh.test"))
    for command in (["order", "shop"], ["stamp", "shop"]):
        done = world.run(*command)
        assert done.status == 2
        assert "order 1 is open for shop.saltmarsh.test" in flat(done.err)
        assert "--cancel" in done.err
    world.configure()
    assert world.run("order", "shop").status == 3


def run_and_die(world: PortalWorld, place: int, *arguments: str) -> int:
    return len(killed_at(place, world.folder / "places", world.config, arguments)[1])


def test_an_order_that_nobody_was_shown_gives_way_to_another_configuration(world: PortalWorld) -> None:
    run_and_die(world, 4, "order", "shop")
    assert "cancel it" not in world.run("order", "shop", "--cancel").out
    run_and_die(world, 4, "order", "shop")
    world.configure(names=("tides.test",), install="", via="by-hand")
    done = world.run("order", "shop")
    assert done.status == 3, done.err
    assert len(list((world.home / "orders").iterdir())) == 1


def all_keys(world: PortalWorld) -> list[bytes]:
    return [each.read_bytes() for each in world.home.rglob("key.pem")]


@pytest.mark.parametrize("command", ["order", "prove", "collect"])
def test_a_step_killed_anywhere_goes_on_with_the_same_key_and_request(command: str, world: PortalWorld) -> None:
    place, killed = 0, True
    while killed:
        place += 1
        arguments = [command, "shop"]
        if command != "order":
            page = world.ordered("file", "--reissue")
        if command == "collect":
            assert world.run("prove", "shop").status == 0
            world.post(f"{page}/check")
            arguments = ["collect", str(world.download(page))]
        killed = run_and_die(world, place, *arguments) >= place
        kept = all_keys(world)
        done = world.run(*arguments)
        assert done.status == (3 if command == "order" else 0), done.err
        assert set(kept) <= set(all_keys(world))
        if command == "collect":
            assert leaf(world, place).public_key()
        else:
            assert len(list((world.home / "orders").iterdir())) == 1
            assert world.run("order", "shop", "--cancel").status == 0
        assert world.left_behind() == []
        assert list((world.home / "orders").iterdir()) == []
    assert place > 4
