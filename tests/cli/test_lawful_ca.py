"""Whatever RFC 8555 leaves open to a CA, the first try is a certificate."""

import json
from collections.abc import Callable
from datetime import UTC, datetime, timedelta

import pytest
from cryptography import x509
from simulated import NAME, SimulatedWorld

from inkstamp.standins.ca_mood import Canned, Mood

WWW = f"www.{NAME}"


def proven(mood: Mood) -> None:
    mood.proven = True


def proven_and_done_at_once(mood: Mood) -> None:
    mood.proven = mood.at_once = True


def relative(mood: Mood) -> None:
    mood.relative = True


def talkative(mood: Mood) -> None:
    mood.talkative = True


def no_up_links(mood: Mood) -> None:
    mood.up_links = False


def no_terms(mood: Mood) -> None:
    mood.terms = False


def moved(mood: Mood) -> None:
    mood.moved = True


def all_of_it(mood: Mood) -> None:
    mood.relative = mood.talkative = mood.moved = mood.at_once = True
    mood.up_links = mood.lists_orders = mood.names_windows = False


def dressed(mood: Mood) -> None:
    mood.chain = "dressed"


def lapsing(mood: Mood) -> None:
    mood.lapsing = {NAME}


@pytest.mark.parametrize(
    "manner",
    [proven, proven_and_done_at_once, relative, talkative, no_up_links, no_terms, moved, all_of_it, dressed, lapsing],
    ids=lambda manner: manner.__name__,
)
def test_a_ca_of_any_lawful_manner_gives_a_certificate_at_the_first_try(
    world: SimulatedWorld, manner: Callable[[Mood], None]
) -> None:
    world.site("rowing", [NAME, WWW])
    manner(world.simulated.state.mood)
    done = world.run("stamp", NAME, WWW, "--as", "rowing")
    assert done.status == 0, done.err
    assert world.simulated.state.issued == 1
    leaf = x509.load_pem_x509_certificate((world.home / "shelf/rowing/current/leaf.pem").read_bytes())
    names = leaf.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    assert set(names.get_values_for_type(x509.DNSName)) == {NAME, WWW}
    assert world.left_behind() == []
    assert world.asked()["new-order"] == (2 if manner is lapsing else 1)
    assert b"\r" not in (world.home / "shelf/rowing/current/served.pem").read_bytes()


def test_a_challenge_that_the_ca_tries_again_by_itself_is_waited_for(
    world: SimulatedWorld, monkeypatch: pytest.MonkeyPatch
) -> None:
    """RFC 8555 section 8.2: it goes back to `pending`, with the error of the last try in it."""
    world.simulated.state.mood.tries = 4
    outside, calls = world.simulated.state._outside.http01, [0]

    def blind_at_first(name: str, token: str, wanted: str) -> tuple[str, str]:
        calls[0] += 1
        return ("connection", "nobody answers yet") if calls[0] < 3 else outside(name, token, wanted)

    monkeypatch.setattr(world.simulated.state._outside, "http01", blind_at_first)
    done = world.run("stamp", NAME, "--as", "rowing")
    assert done.status == 0, done.err
    assert calls[0] == 3
    assert world.asked()["new-order"] == world.asked()["challenge"] == 1


def test_a_cause_that_stands_in_a_challenge_alone_is_told(
    world: SimulatedWorld, monkeypatch: pytest.MonkeyPatch
) -> None:
    world.simulated.state.mood.vague = True
    monkeypatch.setattr(world.simulated.state._outside, "http01", lambda *_: ("caa", "only fogbell.test may issue"))
    done = world.run("stamp", NAME, "--as", "rowing")
    assert done.status == 1
    assert f"{NAME}: caa: only fogbell.test may issue" in done.flat
    assert "CAA record" in done.flat


def test_names_in_unicode_are_ordered_in_the_form_of_dns(world: SimulatedWorld) -> None:
    world.site("shed", ["xn--bcherei-n2a.saltmarsh.test"])
    done = world.run("stamp", "bücherei.saltmarsh.test")
    assert done.status == 0, done.err
    (order,) = world.simulated.state.orders.values()
    assert order.names == ("xn--bcherei-n2a.saltmarsh.test",)


def test_a_profile_that_is_offered_is_asked_for_and_another_is_refused_with_those_there_are(
    world: SimulatedWorld,
) -> None:
    world.simulated.state.mood.profiles = {"harbour": "for browsers", "tide": "short-lived"}
    config = world.config.read_text()
    world.config.write_text(config.replace("agree_terms = true", 'agree_terms = true\nprofile = "tide"'))
    assert world.run("stamp", NAME, "--as", "rowing").status == 0
    (order,) = world.simulated.state.orders.values()
    assert order.profile == "tide"
    world.config.write_text(
        world.config.read_text().replace("[certificate.rowing]", '[certificate.rowing]\nprofile = "old"')
    )
    done = world.run("stamp", "rowing", "--reissue")
    assert done.status == 2
    assert "offers no profile “old”" in done.flat
    assert "harbour (for browsers), tide (short-lived)" in done.flat
    assert world.asked()["new-order"] == 1


def test_a_lifetime_is_asked_for_and_left_out_where_the_ca_lets_nobody_choose(world: SimulatedWorld) -> None:
    assert world.run("stamp", NAME, "--as", "rowing").status == 0
    world.config.write_text(
        world.config.read_text().replace("[certificate.rowing]", "[certificate.rowing]\nlifetime_days = 20")
    )
    done = world.run("stamp", "rowing", "--reissue", "--json")
    assert done.status == 0, done.err
    ends = datetime.fromisoformat(done.json["certificates"][0]["edition"]["not_after"])
    assert abs(ends - datetime.now(UTC) - timedelta(days=20)) < timedelta(hours=1)
    world.simulated.state.mood.lets_choose_end = False
    again = world.run("stamp", "rowing", "--reissue")
    assert again.status == 0, again.err
    assert "the CA does not let clients choose the lifetime (malformed); orders without that" in again.flat


def test_an_order_that_ran_out_is_replaced_and_one_given_up_gives_its_authorizations_back(
    world: SimulatedWorld,
) -> None:
    state = world.simulated.state
    assert world.run("order", NAME, "--as", "rowing").status == 3
    (first,) = state.orders.values()
    first.until = datetime.now(UTC) - timedelta(hours=1)
    done = world.run("stamp", "rowing")
    assert done.status == 0, done.err
    assert "it expired on" in world.run("history", "rowing").flat
    assert len(state.orders) == 2
    assert world.run("order", "rowing", "--reissue").status == 3
    newest = list(state.orders.values())[-1]
    assert world.run("order", "rowing", "--cancel").status == 0
    assert [state._authorizations[each].status for each in newest.authorizations] == ["deactivated"]
    assert list((world.home / "orders").iterdir()) == []
    assert world.run("order", "rowing", "--cancel").status == 2
    assert world.run("order", "rowing", "--reissue").status == 3
    world.simulated.weather.down = True
    done = world.run("order", "rowing", "--cancel")
    assert done.status == 0, "a CA that is unreachable keeps nobody from giving up"
    assert "cannot deactivate its authorizations" in done.flat


def test_names_that_fail_are_left_out_where_that_is_allowed_and_said_loudly(
    world: SimulatedWorld, monkeypatch: pytest.MonkeyPatch
) -> None:
    names = [f"site{number}.saltmarsh.test" for number in range(12)]
    world.site("many", names)
    mood = world.simulated.state.mood
    mood.refused = {names[3]: ("rejectedIdentifier", "on a list"), names[7]: ("caa", "CAA names another CA")}
    entry = ", ".join(f'"{each}"' for each in names)
    text = f'\n[certificate.many]\nnames = [{entry}]\nauthority = "quayside"\nvia = "front"\ninstall = ["front"]\n'
    plain = world.config.read_text()
    world.config.write_text(plain + text)
    refused = world.run("stamp", "many")
    assert refused.status == 1, "not without being told to"
    assert f"{names[3]}: rejectedIdentifier: on a list" in refused.flat
    world.config.write_text(plain + text + "leave_out_failing = true\n")
    world.nameserver.table[names[5]] = []  # what we see beforehand ourselves
    monkeypatch.setattr(world.simulated.state._outside, "http01", _blind(world, names[9]))
    # In the sentence alone, where no subproblem says it; the name that it begins with is another one.
    told = f'www.{names[10]} aside: cannot issue for "{names[11]}", it is on a list'
    plainly = {"type": "urn:ietf:params:acme:error:rejectedIdentifier", "status": 400, "detail": told}
    world.can("new-order", Canned(400, {}, json.dumps(plainly).encode()))
    done = world.run("stamp", "many")
    assert done.status == 1, "their visitors are warned, and the look from outside says so"
    leaf = x509.load_pem_x509_certificate((world.home / "shelf/many/current/leaf.pem").read_bytes())
    found = leaf.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    without = [names[3], names[5], names[7], names[9], names[11]]
    assert set(found.get_values_for_type(x509.DNSName)) == set(names) - set(without)
    for told in (f"LEAVES OUT {names[5]}", f"LEAVES OUT {names[3]} and 1 more", f"LEAVES OUT {names[9]}",
                 f"LEAVES OUT {names[11]}:",
                 f"lacks {', '.join(without)}, which failed validation"):  # fmt: skip
        assert told in done.flat
    issued = world.simulated.state.issued
    again = world.run("renew", "--json")
    assert again.status == 1, "what is missing is tried again, and said again"
    assert world.simulated.state.issued == issued == 1, "and no second certificate comes of that"
    assert f"does not cover {', '.join(without)}" in again.json["renewed"][0]["due"]["reason"]
    assert world.run("status", "--json").json["certificates"][0]["state"] != "ok"
    mood.refused = {}
    world.nameserver.table[names[5]] = ["127.0.0.1"]
    monkeypatch.undo()
    whole = world.run("renew", "many")
    assert whole.status == 0, whole.err
    assert world.run("status", "--json").json["certificates"][0]["state"] == "ok"


def test_nothing_is_left_out_while_the_edition_before_is_good_for_a_while(world: SimulatedWorld) -> None:
    """Names that fail for a day must not lose a certificate that covers them."""
    lost = "annexe.saltmarsh.test"
    world.site("rowing", [NAME, lost])
    for age, status in ((timedelta(days=70), 1), (timedelta(days=82), 0)):
        world.simulated.state.mood.aged = {NAME: age}
        world.simulated.state.mood.refused = {}
        short = f"aged{age.days}"
        text = world.config.read_text().partition("[certificate.")[0]
        world.config.write_text(
            f'{text}[certificate.{short}]\nnames = ["{NAME}", "{lost}"]\nauthority = "quayside"\nvia = "front"\n'
            "leave_out_failing = true\n"
        )
        assert world.run("stamp", short).status == 0
        world.simulated.state.mood.refused = {lost: ("caa", "only fogbell.test may issue")}
        done = world.run("renew", short)
        assert done.status == status, done.err
        assert ("LEAVES OUT" in done.flat) is (status == 0)


def _blind(world: SimulatedWorld, lost: str) -> Callable[[str, str, str], tuple[str, str]]:
    original = world.simulated.state._outside.http01

    def look(name: str, token: str, wanted: str) -> tuple[str, str]:
        return ("connection", "refused") if name == lost else original(name, token, wanted)

    return look


def test_an_address_that_cannot_be_reached_from_here_is_told_before_and_asked_about_only_when_told(
    world: SimulatedWorld,
) -> None:
    world.nameserver.table[NAME] = ["127.0.0.1", "2001:db8::77"]
    refused = world.run("stamp", NAME, "--as", "rowing")
    assert refused.status == 1
    assert "rowing.saltmarsh.test at 2001:db8::77: " in refused.flat
    assert "`stamp` with --anyway" in refused.flat
    assert world.asked()["challenge"] == 0, "the CA was not asked"
    done = world.run("stamp", NAME, "--as", "rowing", "--anyway")
    assert "edition 1 is served" in done.out, done.err
    assert done.status == 1, "who comes over IPv6 does not reach it"
    assert "the CA is asked anyway" in done.flat
    assert world.asked()["challenge"] == 1
    assert world.run("renew", "rowing").status == 0
