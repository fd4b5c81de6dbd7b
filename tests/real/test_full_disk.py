"""A file system without room left: one clear error, nothing lost, and the next run goes on where this one stopped."""

import re
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest
from simulated import SimulatedWorld, simulated_world

NAMES = ("one", "two", "three")


@pytest.fixture
def world(tmp_path: Path) -> Iterator[SimulatedWorld]:
    """A world whose HOME is a file system of its own, of 4 MiB."""
    home = tmp_path / "home"
    home.mkdir(mode=0o700)
    mounted = subprocess.run(["mount", "-t", "tmpfs", "-o", "size=4m,mode=0700", "tmpfs", home], check=False)
    if mounted.returncode:
        pytest.skip("no file system can be mounted here")
    try:
        with simulated_world(tmp_path) as made:
            yield made
    finally:
        subprocess.run(["umount", home], check=True)


def fill(folder: Path) -> Path:
    """Write until nothing more goes in."""
    filler = folder / "filler"
    with filler.open("wb", buffering=0) as file:
        for size in (65_536, 4_096, 1):
            try:
                while file.write(b"\0" * size) == size:
                    pass
            except OSError:
                continue
    return filler


@pytest.mark.needs_root
def test_a_full_disk_is_told_as_that_and_the_next_run_goes_on(world: SimulatedWorld) -> None:
    for each in NAMES:
        world.site(each, [f"{each}.saltmarsh.test"])
        with world.config.open("a") as file:
            file.write(
                f'\n[certificate.{each}]\nnames = ["{each}.saltmarsh.test"]\nauthority = "quayside"\n'
                'via = "front"\ninstall = ["front"]\n'
            )
    assert world.run("stamp", "one").status == 0
    for room in (0, 16_384, 131_072):
        filler = fill(world.home)
        with filler.open("r+b") as file:
            file.truncate(filler.stat().st_size - room)
        full = world.run("renew")
        filler.unlink()
        assert full.status == 1
        assert full.err.count("inkstamp: ") == 1
        assert re.search("free (some )?space", full.flat)
        assert "internal error in Ink Stamp" not in full.err
    done = world.run("renew")
    assert done.status == 0, done.err
    assert "2 renewed, 0 failed" in done.out
    assert world.asked()["new-order"] == len(NAMES), "what was begun was gone on with"
