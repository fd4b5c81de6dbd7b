"""Files for an ACME CA that a person puts on a server which is not ours, by FTP or a customer's panel."""

import os
import re
import shutil
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from world import World, inkstamp_program, real_world

NAME = "club.saltmarsh.test"
AND = "www.club.saltmarsh.test"


@pytest.fixture(scope="module")
def world(folder: Path) -> Iterator[World]:
    with real_world(folder / "world", ca_env={"nonces_rejected": "0"}) as made:
        made.add_authority()
        yield made


def told_files(text: str) -> dict[str, str]:
    """The files that were told, URL and content."""
    return dict(re.findall(r"\bfile (http://\S+) content (\S+)", " ".join(text.split())))


def test_files_made_by_hand_are_told_looked_for_and_told_when_they_may_go(world: World) -> None:
    root = world.site("club", [NAME, AND])
    asked = ("stamp", NAME, AND, "--via", "by-hand", "--proof", "http-01", "--as", "club")
    first = world.run(*asked)
    assert first.status == 3, first.err
    assert "waits for files that you create" in first.flat
    assert "404" not in first.err  # nothing is looked for that was just told
    files = told_files(first.err)
    assert {url.partition("/.well-known/acme-challenge/")[0] for url in files} == {f"http://{NAME}", f"http://{AND}"}
    assert 'proof = "http-01"' in world.config.read_text()

    again = world.run("stamp", "club")
    assert again.status == 3
    assert told_files(again.err) == files
    assert "404" in again.err
    shown = world.run("why", "club")
    assert "waiting for you" in shown.flat
    assert f"create the file {min(files)}, and 1 more" in shown.flat
    assert all(each in shown.flat for pair in files.items() for each in pair)
    proofs = world.run("why", "club", "--json").json["why"]["proofs"]
    assert {f"http://{each['name']}{each['place']}": each["content"] for each in proofs} == files

    saved = world.folder / "upload"
    kept = world.run("prove", "club", "--into", str(saved))
    assert kept.status == 3
    assert {
        f"http://{each.relative_to(saved)}": each.read_text() for each in saved.rglob("*") if each.is_file()
    } == files
    orders = world.ca.orders()
    for name in (NAME, AND):  # as an upload would
        shutil.copytree(saved / name, root, dirs_exist_ok=True)
    done = world.run("stamp", "club")
    assert done.status == 0, done.err
    assert "what you created may be removed: http://" in done.flat
    assert world.ca.orders() == orders
    told = world.run("status").flat
    assert "by hand club: somebody is needed on 20" in told
    assert "since its validation is done by hand" in told
    assert world.run("history", "club").flat.count("what you created may be removed") == 1


def test_it_watches_until_the_file_is_there_and_goes_on_by_itself(world: World) -> None:
    root = world.site("late", ["late.saltmarsh.test"])
    world.run("stamp", "late.saltmarsh.test", "--via", "by-hand", "--proof", "http-01", "--as", "late")
    command = [inkstamp_program(), "--config", str(world.config), "prove", "late", "--wait", "2",
               "--into", str(world.folder / "late")]  # fmt: skip
    log = world.folder / "watching.log"
    with log.open("wb") as out, subprocess.Popen(command, stdout=out, stderr=out, env=dict(os.environ)) as watching:
        deadline = time.monotonic() + 60
        while not told_files(log.read_text()) and time.monotonic() < deadline:
            time.sleep(0.2)
        ((url, content),) = told_files(log.read_text()).items()
        place = root / url.partition("late.saltmarsh.test/")[2]
        place.parent.mkdir(parents=True)
        place.write_text(content)
        assert watching.wait(60) == 0, log.read_text()
    assert world.run("stamp", "late").status == 0


def test_what_nobody_has_to_create_is_not_saved_and_by_hand_has_to_be_said(world: World) -> None:
    refused = world.run("prove", "club", "--into", str(world.folder / "none"))
    assert refused.status == 2
    before = world.config.read_text()
    world.config.write_text(f'{before}\n[certificate.mute]\nnames = ["mute.saltmarsh.test"]\nauthority = "quayside"\n')
    told = world.run("status")
    assert 'or proof = "http-01" or "dns-01" to do it by hand' in (told.flat + told.err)
    world.config.write_text(before)
    looked = world.run("precheck", "club")
    assert "was not tried: the file is created by hand" in looked.flat
