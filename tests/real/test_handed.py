"""Editions that are handed over: to a simulated balancer by its API, and to a program of the user's own."""

import json
import sys
from pathlib import Path

from cryptography.hazmat.primitives import serialization
from world import World, make_tls_pair

from inkstamp.standins.balancer import BalancerState, SimulatedBalancer
from inkstamp.standins.ports import free_ports
from inkstamp.view.handshake import shake_hands

PROGRAM = """
import json, pathlib, sys
told = json.load(sys.stdin)
log = pathlib.Path(sys.argv[1])
with log.open("a") as out:
    out.write(json.dumps(told) + chr(10))
if told["action"] == "install":
    assert "PRIVATE KEY" in pathlib.Path(told["files"]["key"]).read_text()
refuses = log.with_name("refuses")
print(json.dumps({"error": refuses.read_text()} if refuses.exists() else {"done": True}))
"""


def served(port: int, name: str) -> bytes:
    found = shake_hands("127.0.0.1", port, name)
    return found.chain[0].public_bytes(serialization.Encoding.DER) if found.chain else b""


def certificate(world: World, name: str, install: str, more: str) -> str:
    domain = f"{name}.saltmarsh.test"
    world.site(name, [domain])
    entry = f'[certificate.{name}]\nnames = ["{domain}"]\nauthority = "quayside"\nvia = "front"\ninstall = {install}\n'
    world.config.write_text(world.config.read_text() + more + entry)
    return domain


def test_a_balancer_gets_each_edition_attached_beside_those_of_others_and_the_one_before_stays_to_go_back_to(
    world: World, folder: Path
) -> None:
    api, port = free_ports(2)
    pair = make_tls_pair(folder, "localhost")
    (folder / "token").write_text("tide-and-mud\n")
    (folder / "token").chmod(0o600)
    state = BalancerState("tide-and-mud")
    other = [each.read_text() for each in make_tls_pair(folder, "other.test")]
    state.certificates["theirs"] = {"label": "shop", "certificate": other[0], "private_key": other[1], "chain": "",
                                    "sha256": ""}  # fmt: skip
    state.attached = ["theirs"]
    table = (
        f'\n[server.edge]\nkind = "balancer"\naddress = "https://localhost:{api}/v1"\nlistener = "web"\n'
        f'token_file = "{folder}/token"\ntrust = "{pair[0]}"\nlook = ["127.0.0.1:{port}"]\n'
    )
    domain = certificate(world, "sail", '["front", "edge"]', table)
    with SimulatedBalancer(api, port, state, pair):
        done = world.run("stamp", "sail")
        assert done.status == 0, done.err
        assert served(port, domain) == world.served(domain) == world.edition("sail", 1)
        assert world.run("stamp", "sail", "--reissue").status == 0
        assert world.run("stamp", "sail", "--reissue").status == 0
        assert served(port, domain) == world.edition("sail", 3)
        labels = [each["label"] for each in state.certificates.values()]
        assert labels == ["shop", "inkstamp/sail/2", "inkstamp/sail/3"]
        assert [state.certificates[each]["label"] for each in state.attached] == ["inkstamp/sail/3", "shop"]
        before = (dict(state.certificates), list(state.attached))
        state.refuses = "maintenance until four"
        refused = world.run("stamp", "sail", "--reissue")
        state.refuses = ""
        assert (refused.status, "maintenance until four" in refused.flat) == (1, True)
        assert (state.certificates, state.attached) == before
        assert served(port, domain) == world.edition("sail", 3)
        state.hangs_up = True
        lost = world.run("stamp", "sail")
        state.hangs_up = False
        assert (lost.status, "on edge is restored as soon as it can be reached" in lost.flat) == (1, True)
        assert len(state.certificates) == len(before[0]) + 1
        assert world.run("install", "sail", "--preview").status == 0  # the next run that can reach it does so first
        assert [each["label"] for each in state.certificates.values()] == ["shop", "inkstamp/sail/3"]
        assert state.attached == before[1]
        again = world.run("stamp", "sail")
        assert again.status == 0, again.err
        assert served(port, domain) == world.served(domain) == world.edition("sail", 4)
        assert world.run("undo", "sail").status == 0
        assert served(port, domain) == world.edition("sail", 3)
    away = world.run("install", "sail", "--edition", "4")
    assert (away.status, "the balancer “edge” is unreachable" in away.flat) == (1, True)
    assert world.served(domain) == world.edition("sail", 4)
    assert "tide-and-mud" not in away.flat + (world.home / "ledger.db").read_bytes().decode("latin-1")


def test_a_program_is_told_each_edition_and_the_one_before_when_that_fails(world: World, folder: Path) -> None:
    script, log = folder / "take.py", folder / "told"
    script.write_text(PROGRAM)
    table = f'\n[program.vault]\ncommand = ["{sys.executable}", "{script}", "{log}"]\n'
    domain = certificate(world, "oar", '["vault"]', table)
    done = world.run("stamp", "oar")
    (told,) = [json.loads(line) for line in log.read_text().splitlines()]
    assert "not checked whether it is served" in done.flat
    assert (told["action"], told["edition"], told["names"]) == ("install", 1, [domain])
    assert Path(told["files"]["leaf"]).parent == world.home / "shelf" / "oar" / "0001"
    (folder / "refuses").write_text("sealed")
    refused = world.run("stamp", "oar", "--reissue")
    (folder / "refuses").unlink()
    assert (refused.status, "sealed" in refused.flat) == (1, True)
    assert [json.loads(line)["edition"] for line in log.read_text().splitlines()] == [1, 2, 1]
    assert world.run("stamp", "oar").status in (0, 1)
    assert world.run("undo", "oar").status == 0
    assert world.run("undo", "oar").status == 0
    last = [json.loads(line) for line in log.read_text().splitlines()][-3:]
    assert [(each["action"], each.get("edition")) for each in last] == [
        ("install", 2),
        ("install", 1),
        ("remove", None),
    ]
