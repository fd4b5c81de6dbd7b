"""An account's whole life at a CA, by the built program."""

import json
import os
import stat
import subprocess
from pathlib import Path

import pytest
from cryptography.hazmat.primitives import serialization
from killing import killed_at
from simulated import NAME, SimulatedWorld
from world import inkstamp_program

from inkstamp.acme.jws import b64url
from inkstamp.pki import keys
from inkstamp.pki.kinds import KeyKind

MAC = os.urandom(32)


def add(world: SimulatedWorld, name: str, *more: str) -> list[str]:
    return [
        "authority",
        "add",
        name,
        "--directory",
        world.directory,
        "--agree-terms",
        "--trust",
        str(world.trust),
        *more,
    ]


def account_key(world: SimulatedWorld, name: str = "quayside") -> bytes:
    return (world.home / "accounts" / f"{name}.pem").read_bytes()


def secret_file(world: SimulatedWorld, name: str, data: bytes) -> str:
    file = world.folder / name
    file.write_bytes(data)
    file.chmod(0o600)
    return str(file)


@pytest.mark.parametrize("algorithm", ["HS256", "HS384", "HS512"])
def test_an_account_is_bound_to_a_customer_where_the_ca_wants_that(world: SimulatedWorld, algorithm: str) -> None:
    world.simulated.state.mood.customers = {"saltmarsh-7": MAC}
    done = world.run(*add(world, "bound"))
    assert done.status == 2
    assert "requires external account binding (EAB)" in done.flat
    assert "--binding-id ID --binding-key-file FILE" in done.flat
    text = b64url(MAC) + ("=" if algorithm == "HS384" else "")
    file = secret_file(world, "mac.key", text.encode() + b"\n")
    binding = ["--binding-id", "saltmarsh-7", "--binding-key-file", file]
    wrong = world.run(*add(world, "bound", "--binding-id", "another", "--binding-key-file", file))
    assert wrong.status == 1
    assert "the binding is not right" in wrong.flat
    if algorithm != "HS256":
        text = f'\n[authority.bound]\ndirectory = "{world.directory}"\nagree_terms = true\ntrust = "{world.trust}"\n'
        text += f'binding_id = "saltmarsh-7"\nbinding_key_file = "{file}"\nbinding_algorithm = "{algorithm}"\n'
        world.config.write_text(world.config.read_text() + text)
    done = world.run(*(add(world, "bound", *binding) if algorithm == "HS256" else ["authority", "add", "bound"]))
    assert done.status == 0, done.err
    for said in (done.out, done.err, world.run("history").out, world.config.read_text()):
        assert b64url(MAC) not in said
    Path(file).chmod(0o644)
    world.simulated.state.accounts._known.clear()
    (world.home / "ledger.db").unlink()
    assert "mode" in world.run("authority", "add", "bound").flat, "a MAC key that others can read is refused"


@pytest.mark.parametrize("broken", [b"", b"not base64url: \xff", b"!!!!"])
def test_a_mac_key_that_is_none_is_refused_before_the_ca_hears_of_it(world: SimulatedWorld, broken: bytes) -> None:
    world.simulated.state.mood.customers = {"saltmarsh-7": MAC}
    file = secret_file(world, "mac.key", broken)
    done = world.run(*add(world, "bound", "--binding-id", "saltmarsh-7", "--binding-key-file", file))
    assert done.status == 2
    assert file in done.flat
    assert world.asked()["new-account"] == 0


@pytest.mark.parametrize("kind", [KeyKind.ECDSA_P256, KeyKind.ECDSA_P384, KeyKind.RSA_2048])
def test_an_account_that_a_key_has_already_is_found(world: SimulatedWorld, kind: KeyKind) -> None:
    brought = secret_file(world, "old.pem", keys.to_pem(keys.make(kind)))
    first = world.run(*add(world, "first", "--key-file", brought), "--json")
    second = world.run(*add(world, "second", "--key-file", brought), "--json")
    assert (first.status, second.status) == (0, 0), first.err + second.err
    assert first.json["added"]["account_url"] == second.json["added"]["account_url"]
    assert account_key(world, "second") == Path(brought).read_bytes()
    assert "found" in world.run("history").out
    other = secret_file(world, "other.pem", keys.to_pem(keys.make(kind)))
    refused = world.run("authority", "add", "second", "--key-file", other)
    assert refused.status == 2
    assert "another account key already" in refused.flat
    assert account_key(world, "second") == Path(brought).read_bytes()


def test_the_ca_is_asked_what_it_offers_and_how_the_account_stands(world: SimulatedWorld) -> None:
    world.simulated.state.mood.profiles = {"harbour": "for browsers", "tide": "short-lived"}
    assert world.run("stamp", NAME, "--as", "rowing").status == 0
    told = world.run("authority", "show", "quayside")
    assert told.status == 0, told.err
    for each in ("the account is valid", "mailto:certs@saltmarsh.test", "quayside.test",
                 "offers renewal information (ARI)",
                 "revokes", "offers key rollover", "tide: short-lived", "valid rowing.saltmarsh.test",
                 "for rowing"):  # fmt: skip
        assert each in told.flat, each
    shown = world.run("authority", "show", "quayside", "--json").json["authority"]
    assert shown["orders"][0][1:] == ["valid", [NAME]]
    assert world.run("authority", "show", "nobody").status == 2
    assert max(map(len, told.out.splitlines())) <= 130
    world.simulated.state.mood.lists_orders = False
    assert "orders" not in [line.split()[0] for line in world.run("authority", "show", "quayside").out.splitlines()]


def test_another_contact_goes_to_the_ca_and_into_the_configuration_with_its_comments(world: SimulatedWorld) -> None:
    done = world.run("authority", "change", "quayside", "--email", "night@saltmarsh.test")
    assert done.status == 0, done.err
    assert 'email = "night@saltmarsh.test"' in world.config.read_text()
    assert "# kept by hand" in world.config.read_text()
    assert world.run("authority", "show", "quayside", "--json").json["authority"]["contact"] == [
        "mailto:night@saltmarsh.test"
    ]
    world.config.write_text(world.config.read_text().replace("night@", "day@"))
    assert world.run("stamp", NAME, "--as", "rowing").status == 0
    (known,) = world.simulated.state.accounts._known.values()
    assert known["contact"] == ["mailto:day@saltmarsh.test"], "an edit of the file is enough"


def test_changed_terms_say_where_to_read_and_agree_and_the_next_run_goes_on(world: SimulatedWorld) -> None:
    world.simulated.state.mood.terms_changed = True
    done = world.run("stamp", NAME, "--as", "rowing")
    assert done.status == 1
    assert f"see {world.directory.removesuffix('/directory')}/agree" in done.flat
    assert f"see {world.directory.removesuffix('/directory')}/terms" in done.flat
    assert "a person has to read and agree to something in a browser" in done.flat
    assert "userActionRequired" in world.run("why", "rowing").flat
    world.simulated.state.mood.terms_changed = False
    again = world.run("renew", "rowing")
    assert again.status == 0, again.err
    assert world.simulated.state.issued == 1


def test_a_new_key_takes_the_place_of_the_old_one_and_the_account_stays(world: SimulatedWorld) -> None:
    before = account_key(world)
    url = world.run("authority", "show", "--json").json["authorities"][0]["account_url"]
    done = world.run("authority", "rollover", "quayside", "--kind", "ecdsa-p384", "--json")
    assert done.status == 0, done.err
    assert done.json["account_url"] == url
    assert done.json["key"] == "ecdsa-p384"
    file = world.home / "accounts" / "quayside.pem"
    assert file.read_bytes() != before
    assert stat.S_IMODE(file.stat().st_mode) == 0o600
    assert [each.name for each in file.parent.iterdir()] == ["quayside.pem"]
    assert world.run("stamp", NAME, "--as", "rowing").status == 0
    world.simulated.state.mood.changes_keys = False
    assert "does not offer key rollover" in world.run("authority", "rollover", "quayside").flat


def test_killed_anywhere_a_change_of_key_leaves_an_account_that_works(world: SimulatedWorld) -> None:
    def change(place: int) -> list[str]:
        return killed_at(place, world.folder / "places", world.config, ["authority", "rollover", "quayside"])[1]

    whole = change(0)
    assert len(whole) >= 5
    for place in range(1, len(whole) + 1):
        change(place)
        shown = world.run("authority", "show", "quayside", "--json")
        assert shown.status == 0, f"killed behind {whole[place - 1]}: {shown.err}"
        assert [each.name for each in (world.home / "accounts").iterdir()] == ["quayside.pem"]
        assert len(world.simulated.state.accounts._known) == 1
    assert world.run("stamp", NAME, "--as", "rowing").status == 0


def test_an_answer_that_is_lost_is_found_out_about(world: SimulatedWorld) -> None:
    """The CA has changed the key, and its answer never came."""
    weather = world.simulated.weather
    before = account_key(world)
    original = world.simulated.state.accounts.change_key

    def unheard(*arguments: object) -> None:
        original(*arguments)  # type: ignore[arg-type]
        weather.down = True
        raise ConnectionError

    world.simulated.state.accounts.change_key = unheard  # type: ignore[method-assign,assignment]
    done = world.run("authority", "rollover", "quayside")
    assert done.status == 1
    assert (world.home / "accounts" / "quayside.next.pem").exists()
    weather.down = False
    assert world.run("stamp", NAME, "--as", "rowing").status == 0
    assert account_key(world) != before
    assert "the new key is in use" in world.run("history").out


def test_an_account_is_retired_after_a_question_and_not_opened_again_by_itself(world: SimulatedWorld) -> None:
    assert world.run("stamp", NAME, "--as", "rowing").status == 0
    assert world.run("authority", "deactivate", "quayside").status == 2, "nobody is there to be asked"
    command = [inkstamp_program(), "--config", str(world.config), "authority", "deactivate", "quayside"]
    for answer, status in (("no\n", 2), ("quayside\n", 0)):
        asked = subprocess.run(
            ["script", "-qec", " ".join(command), "/dev/null"], input=answer, capture_output=True, text=True,
            timeout=60, check=False,
        )  # fmt: skip
        assert asked.returncode == status, asked.stdout
        assert "will not be renewed: rowing" in " ".join(asked.stdout.split())
    (known,) = world.simulated.state.accounts._known.values()
    assert known["status"] == "deactivated"
    done = world.run("stamp", "rowing", "--reissue")
    assert done.status == 2
    assert "was deactivated" in done.flat
    assert len(world.simulated.state.accounts._known) == 1
    opened = world.run("authority", "add", "quayside", "--json")
    assert opened.status == 0, opened.err
    assert opened.json["added"]["account_opened"] is True
    assert world.run("stamp", "rowing", "--reissue").status == 0
    assert len(world.simulated.state.accounts._known) == 2
    assert any("retired" in each.name for each in (world.home / "accounts").iterdir()), "no key is thrown away"


def test_several_accounts_at_one_ca_stand_side_by_side(world: SimulatedWorld) -> None:
    assert world.run(*add(world, "other", "--account-key", "rsa-2048")).status == 0
    known = world.simulated.state.accounts._known
    assert len(known) == 2
    assert {each["jwk"]["kty"] for each in known.values()} == {"EC", "RSA"}
    world.site("bakery", ["bakery.saltmarsh.test"])
    for name, authority in ((NAME, "quayside"), ("bakery.saltmarsh.test", "other")):
        done = world.run("stamp", name, "--authority", authority)
        assert done.status == 0, done.err
    orders = world.simulated.state.orders.values()
    assert len({each.account for each in orders}) == 2
    key = serialization.load_pem_private_key(account_key(world, "other"), None)
    assert key.key_size == 2048  # type: ignore[union-attr]
    assert json.loads(world.run("authority", "show", "--json").out)["authorities"][1]["name"] == "other"
