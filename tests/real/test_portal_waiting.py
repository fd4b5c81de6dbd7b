"""An order at a portal in the days between the CSR and the download: which step, who acts, who is reminded."""

import json
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from portal_world import RULE, PortalWorld, flat, portal_world, stand

from inkstamp.standins.mailbox import HookReceiver
from inkstamp.standins.ports import free_ports

STEPS = """
level = "EV"
steps = [
    { step = "validation", days = 1 },
    { step = "organisation", days = 2, level = ["OV", "EV"] },
    { step = "call", level = ["EV"] },
    { step = "review", days = 0.5 },
]
"""


@pytest.fixture
def world(tmp_path: Path) -> Iterator[PortalWorld]:
    with portal_world(tmp_path) as made:
        made.configure(rule=RULE + STEPS)
        yield made


@pytest.fixture
def hook(world: PortalWorld) -> Iterator[HookReceiver]:
    (port,) = free_ports(1)
    (world.folder / "hook-key").touch(mode=0o600)
    (world.folder / "hook-key").write_bytes(b"a key that both sides know")
    world.config.write_text(
        f'{world.config.read_text()}\n[messenger.chat]\nkind = "webhook"\nurl = "http://127.0.0.1:{port}/in"\n'
        'key_file = "hook-key"\n'
    )
    with HookReceiver(port) as receiver:
        yield receiver


def told(hook: HookReceiver) -> dict[str, list[str]]:
    """What the last message said, and forget it."""
    document = json.loads(hook.posts.pop()[1])
    return {key: [each["text"] for each in document[key]] for key in ("new", "over")}


def test_the_steps_of_a_bought_certificate_are_told_with_who_acts_and_each_is_reminded_of_once(
    world: PortalWorld, hook: HookReceiver
) -> None:
    page = world.ordered("file")
    assert "step 1 of 4, usually 1 day" in flat(world.run("status").out)
    assert world.run("prove", "shop").status == 0
    assert stand(world) == ("waiting for the CA", "inkstamp why shop --waiting call")
    told_of = flat(world.run("status").out)
    assert "shop: the CA vets the organisation, step 2 of 4, usually 2 days, since today" in told_of
    assert world.run("renew").status == 3
    assert hook.posts == []  # the CA is at work, and the usual days are not over

    late = world.run("why", "shop", "--waiting", "organisation", "--until", "2026-11-20")
    assert "expected 2026-11-20, " in flat(late.out)
    for _ in range(2):
        world.run("renew")
    assert told(hook) == {
        "new": [
            "“shop” waits for a person: the CA vets the organisation, which was expected by 2026-11-20; ask the CA"
        ],
        "over": [],
    }
    assert hook.posts == []

    far = (datetime.now(UTC) + timedelta(days=3)).strftime("%Y-%m-%dT10:00Z")
    called = flat(world.run("why", "shop", "--waiting", "call", "--until", far, "--note", "ask for Mo").out)
    assert "shop: waiting for you step the CA calls, and somebody has to answer step 3 of 4" in called
    assert "waiting for you" in called
    assert "note" in called
    assert world.run("renew").status == 3
    assert told(hook)["new"] == []  # that the vetting is late is over; the call is reminded of on its day
    world.run("why", "shop", "--waiting", "call")
    world.run("renew")
    assert told(hook)["new"] == ["“shop” waits for a person: the CA calls, and somebody has to answer"]

    assert world.run("why", "shop", "--waiting", "approval").status == 0
    assert stand(world)[0] == "waiting for approval"
    assert world.run("why", "shop", "--waiting", "review").status == 0
    assert stand(world) == ("waiting for the CA", "inkstamp collect shop FILE…")
    assert "issued" in world.post(f"{page}/check")
    assert world.run("collect", "shop", str(world.download(page))).status == 0
    assert world.run("renew").status == 0
    assert stand(world) == ("ok", "")


def test_a_step_that_no_order_is_at_and_a_date_that_is_none_change_nothing(world: PortalWorld) -> None:
    refused = world.run("why", "shop", "--waiting", "call")
    assert refused.status == 2
    assert "no order for “shop” waits at a portal" in flat(refused.err)
    world.ordered("file")
    assert "is not a time" in flat(world.run("why", "shop", "--waiting", "call", "--until", "Tuesday").err)
    assert "--until goes with --waiting" in flat(world.run("why", "shop", "--until", "2026-11-20").err)
    assert world.run("why", "shop", "--json").json["why"]["stall"]["progress"]["step"] == "validation"
    assert world.run("why", "shop", "--waiting", "review", "--until", "9999-12-31").status == 0
    assert world.run("renew").status == 3
    assert world.run("why", "shop", "--waiting", "payment").status == 0
    back = world.run("why", "shop", "--waiting", "validation", "--json").json["why"]["stall"]
    assert (back["progress"]["step"], back["next_command"]) == ("validation", "inkstamp prove shop")


def test_an_email_is_waited_for_until_it_is_approved_and_can_be_sent_again(world: PortalWorld) -> None:
    world.configure(rule="")
    world.nameserver.records["saltmarsh.test", "MX"] = ["10 mail.saltmarsh.test."]
    world.ordered("email")
    address = "hostmaster@saltmarsh.test"
    refused = world.run("prove", "shop", "--approved")
    assert refused.status == 2
    assert "no name of order 1 is validated by e-mail" in flat(refused.err)
    assert world.run("prove", "shop", "--email", address, "--sent", "2026-11-20T08:30Z").status == 0
    assert stand(world) == ("waiting for you", "inkstamp prove shop --approved")
    assert world.run("prove", "shop", "--sent", "2026-11-21T08:30Z").status == 0
    assert "sent 2026-11-21 08:30 UTC" in flat(world.run("why", "shop").out)
    assert "lie in the future" in flat(world.run("prove", "shop", "--approved", "2099-01-01").err)
    approved = world.run("prove", "shop", "--approved", "2026-11-21T09:00Z")
    assert approved.status == 0, approved.err
    assert f"the e-mail to {address} was approved on 2026-11-21 09:00 UTC" in flat(approved.out)
    assert stand(world) == ("waiting for the CA", "inkstamp collect shop FILE…")
    assert world.run("prove", "shop", "--sent").status == 0  # it had to be sent once more
    assert stand(world) == ("waiting for you", "inkstamp prove shop --approved")


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ('{ step = "call"', '{ step = "coffee"', "known values: validation, organisation, call"),
        ('{ step = "call"', '{ step = "review"', "“steps” has “review” twice"),
        ("days = 2", "hours = 2", "unknown key “hours”"),
        ("days = 2", "days = -2", "“days” is no number of days"),
        ("days = 2", "days = inf", "is no number that can be meant"),
        ("days = 2", "days = 1e9", "write a number from 0 to 1000"),
        ('level = "EV"', 'level = "XV"', "known values: DV, IV, OV, EV"),
        ('kind = "portal"', 'directory = "https://ca.test/"', "“page” does not apply to kind = “acme”"),
    ],
)
def test_steps_that_cannot_be_are_refused_with_what_can(world: PortalWorld, old: str, new: str, said: str) -> None:
    world.config.write_text(world.config.read_text().replace(old, new, 1))
    refused = world.run("status")
    assert said in flat(refused.out + refused.err)
