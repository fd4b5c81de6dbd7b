"""Revocation: by account, by own key, with a replacement first; of what is ours and of what is not."""

import pytest
from cryptography import x509
from killing import killed_at
from simulated import NAME, SimulatedWorld

from inkstamp.pki import keys
from inkstamp.pki.kinds import KeyKind


def serial(world: SimulatedWorld, number: int) -> int:
    return x509.load_der_x509_certificate(world.edition("rowing", number)).serial_number


def revoked(world: SimulatedWorld) -> dict[int, str]:
    return {number: why.value for number, (_, why) in world.simulated.state.words.revoked.items()}


def secret(world: SimulatedWorld, name: str, data: bytes) -> str:
    file = world.folder / name
    file.write_bytes(data)
    file.chmod(0o600)
    return str(file)


@pytest.mark.parametrize("by", [(), ("--by-own-key",)], ids=["account", "own key"])
def test_what_is_revoked_is_due_at_once(world: SimulatedWorld, by: tuple[str, ...]) -> None:
    assert world.run("stamp", NAME, "--as", "rowing").status == 0
    asked = world.run("revoke", "rowing", "--reason", "key-compromise", *by)
    assert asked.status == 2
    assert "served by front" in asked.flat
    assert "visitors are warned until the next `inkstamp renew`" in asked.flat
    assert "key-compromise: the private key may be known to others" in asked.flat
    assert "add --yes" in asked.flat
    assert revoked(world) == {}
    done = world.run("revoke", "rowing", "--reason", "key-compromise", "--yes", *by)
    assert done.status == 0, done.err
    assert revoked(world) == {serial(world, 1): "keyCompromise"}
    assert "next inkstamp renew rowing" in done.flat
    due = world.run("renew", "--json")
    assert due.status == 0, due.err
    assert "revoked" in due.json["renewed"][0]["due"]["reason"]
    assert due.json["renewed"][0]["outcome"]["edition"]["number"] == 2
    again = world.run("revoke", "rowing", "--edition", "1", "--yes", "--json")
    assert (again.status, again.json["revoked"]["already"]) == (0, True)


def test_what_is_revoked_is_put_on_no_server_again(world: SimulatedWorld) -> None:
    assert world.run("stamp", NAME, "--as", "rowing").status == 0
    assert world.run("revoke", "rowing", "--reason", "key-compromise", "--and-replace", "--yes").status == 0
    for command in (["undo", "rowing"], ["undo", "rowing", "--preview"], ["install", "rowing", "--edition", "1"]):
        refused = world.run(*command)
        assert refused.status == 1
        assert "edition 1 of “rowing” was revoked" in refused.flat
        assert "(key-compromise)" in refused.flat
        assert "install the newest: inkstamp install rowing" in refused.flat
        assert world.served(NAME) == world.edition("rowing", 2)
    assert world.run("install", "rowing").status == 0


def test_a_replacement_is_served_before_the_old_one_is_revoked(world: SimulatedWorld) -> None:
    assert world.run("stamp", NAME, "--as", "rowing").status == 0
    key = (world.home / "shelf/rowing/0001/key.pem").read_bytes()
    done = world.run("revoke", "rowing", "--reason", "superseded", "--and-replace", "--yes")
    assert done.status == 0, done.err
    assert "replaced by edition 2 on front" in done.flat
    assert world.served(NAME) == world.edition("rowing", 2)
    assert (world.home / "shelf/rowing/0002/key.pem").read_bytes() != key
    assert revoked(world) == {serial(world, 1): "superseded"}
    assert world.run("renew", "--json").json["renewed"] == [], "the new one is ok"


def test_killed_anywhere_it_never_revokes_what_took_the_others_place(world: SimulatedWorld) -> None:
    def replace(place: int, name: str) -> list[str]:
        command = ["revoke", name, "--and-replace", "--yes"]
        return killed_at(place, world.folder / "places", world.config, command)[1]

    world.site("first", ["first.saltmarsh.test"])
    assert world.run("stamp", "first.saltmarsh.test").status == 0
    whole = replace(0, "first")
    for place in range(1, len(whole) + 1, max(len(whole) // 6, 1)):
        short = f"place{place}"
        world.site(short, [f"{short}.saltmarsh.test"])
        assert world.run("stamp", f"{short}.saltmarsh.test", "--as", short).status == 0
        before = set(revoked(world))
        old = x509.load_der_x509_certificate(world.edition(short, 1)).serial_number
        replace(place, short)
        done = world.run("revoke", short, "--and-replace", "--yes")
        assert done.status == 0, f"killed behind {whole[place - 1]}: {done.err}"
        gone = set(revoked(world)) - before
        assert old in gone, f"killed behind {whole[place - 1]}: {done.out}"
        served = x509.load_der_x509_certificate(world.served(f"{short}.saltmarsh.test")).serial_number
        assert served not in revoked(world), f"killed behind {whole[place - 1]}"


def test_a_certificate_from_elsewhere_is_revoked_by_its_own_key_or_not_at_all(world: SimulatedWorld) -> None:
    assert world.run("stamp", NAME, "--as", "rowing").status == 0
    shelf = world.home / "shelf/rowing/0001"
    leaf, own = shelf / "leaf.pem", shelf / "key.pem"
    other_home = ["--home", str(world.folder / "other-home")]
    foreign = ["revoke", "--file", str(leaf), "--authority", "quayside", "--yes", *other_home]
    opened = world.run("authority", "add", "quayside", *other_home)
    assert opened.status == 0, opened.err
    refused = world.run(*foreign)
    assert refused.status == 1
    assert "neither the account that ordered it nor its own key" in refused.flat
    wrong = secret(world, "wrong.key", keys.to_pem(keys.make(KeyKind.ECDSA_P256)))
    assert "another certificate's" in world.run(*foreign, "--key-file", wrong).flat
    assert revoked(world) == {}
    done = world.run(*foreign, "--key-file", str(own), "--reason", "cessation-of-operation")
    assert done.status == 0, done.err
    assert revoked(world) == {serial(world, 1): "cessationOfOperation"}


@pytest.mark.parametrize(
    ("arguments", "told"),
    [
        (("revoke",), "name a certificate, or a file"),
        (("revoke", "rowing", "--authority", "quayside"), "go with --file"),
        (("revoke", "--file", "x.pem"), "not known who issued it"),
        (("revoke", "nobody", "--yes"), "no certificate “nobody”"),
        (("revoke", "rowing", "--edition", "7", "--yes"), "has no edition 7"),
        (("revoke", "--file", "x.pem", "--authority", "fogbell", "--yes"), "there is no authority “fogbell”"),
        (("revoke", "--file", "x.pem", "--authority", "quayside", "--and-replace"), "go with a configured certificate"),
    ],
)
def test_what_cannot_be_meant_is_said_before_anybody_is_asked(
    world: SimulatedWorld, arguments: tuple[str, ...], told: str
) -> None:
    entry = f'[certificate.rowing]\nnames = ["{NAME}"]\nauthority = "quayside"\nvia = "front"\n'
    world.config.write_text(world.config.read_text() + entry)
    done = world.run(*arguments)
    assert done.status == 2
    assert told in done.flat
    assert world.asked()["revoke-cert"] == 0


def test_a_ca_that_does_not_revoke_or_refuses_a_reason_is_told_of(world: SimulatedWorld) -> None:
    assert world.run("stamp", NAME, "--as", "rowing").status == 0
    world.simulated.state.mood.revokes = False
    assert "does not revoke by ACME" in world.run("revoke", "rowing", "--yes").flat
    world.simulated.state.mood.revokes = True
    from inkstamp.standins.ca_words import CODES

    held = CODES.pop(9)
    try:
        done = world.run("revoke", "rowing", "--reason", "privilege-withdrawn", "--yes")
    finally:
        CODES[9] = held
    assert done.status == 1
    assert "does not accept that reason" in done.flat
    assert world.run("stamp", "rowing", "--reissue").status == 0
    assert world.run("revoke", "rowing", "--yes").status == 0
    assert revoked(world) == {serial(world, 1): "unspecified"}, "the one that was meant, and not the newest"
