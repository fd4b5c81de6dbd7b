"""Killed with SIGKILL anywhere, the next run resumes the same order and the same key."""

import json
import signal
from collections.abc import Iterator

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import serialization
from killing import killed_at
from world import World, real_world


@pytest.fixture(scope="module")
def world(tmp_path_factory: pytest.TempPathFactory) -> Iterator[World]:
    with real_world(tmp_path_factory.mktemp("killed"), ca_env={"nonces_rejected": "0"}) as made:
        made.add_authority()
        yield made


def stamp_and_die(world: World, place: int, name: str) -> tuple[int, list[str]]:
    done, places = killed_at(place, world.folder / "places", world.config, ["stamp", name])
    # How often the CA is asked depends on how fast it is: a run may come to its end before the last places.
    ended = done.returncode == 0 and len(places) < place
    if place and not ended and done.returncode != -signal.SIGKILL:
        raise AssertionError(f"not killed at place {place}: {done.returncode}\n{done.stderr}")
    return done.returncode, places


def test_a_run_killed_at_any_step_goes_on_with_the_same_order_and_key(world: World) -> None:
    world.site("place0", ["place0.saltmarsh.test"])
    status, places = stamp_and_die(world, 0, "place0.saltmarsh.test")
    assert status == 0
    assert len(places) > 30
    killed = 0
    for number in range(1, len(places) + 1):
        name = f"place{number}.saltmarsh.test"
        what = f"killed behind {places[number - 1]}"
        world.site(f"place{number}", [name])
        orders, certificates = world.ca.orders(), world.ca.certificates()
        before = (world.nginx.folder / "sites" / f"place{number}.conf").read_bytes()
        killed += stamp_and_die(world, number, name)[0] != 0
        keys = [each.read_bytes() for each in (world.home / "orders").rglob("key.pem")]
        keys += [each.read_bytes() for each in (world.home / "shelf" / name).glob("0*/key.pem")]

        again = world.run("stamp", name)

        assert again.status == 0, f"{what}: {again.err}"
        assert world.ca.orders() - orders == 1, what
        assert world.ca.certificates() - certificates == 1, what
        edition = world.home / "shelf" / name / "current"
        assert (edition / "key.pem").read_bytes() in (keys or [(edition / "key.pem").read_bytes()]), what
        leaf = x509.load_pem_x509_certificate((edition / "leaf.pem").read_bytes())
        assert world.served(name) == leaf.public_bytes(serialization.Encoding.DER), what
        after = (world.nginx.folder / "sites" / f"place{number}.conf").read_bytes()
        assert b"ssl_certificate " in after, what
        assert after.count(b"ssl_certificate ") == 1, what
        assert before[:20] == after[:20]
        assert world.left_behind() == [], what
        assert list((world.home / "orders").iterdir()) == [], what
        kept = list((world.home / "undo" / name).iterdir())
        assert [json.loads((each / "manifest.json").read_text())["done"] for each in kept] == [True], what
    assert killed >= len(places) - 4
