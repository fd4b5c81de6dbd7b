"""`key_group`: one group may read the keys on the shelf, nobody else."""

import grp
import os
import stat
import subprocess
from pathlib import Path

import pytest
from simulated import NAME, SimulatedWorld

GROUP = grp.getgrnam("daemon") if os.geteuid() == 0 else grp.getgrgid(os.getegid())


def rights(path: Path) -> tuple[int, str]:
    found = path.stat()
    return stat.S_IMODE(found.st_mode), grp.getgrgid(found.st_gid).gr_name


def can_read(world: SimulatedWorld, path: Path, group: int) -> bool:
    """Whether somebody who is in this group and nobody else can read a file."""
    done = subprocess.run(
        ["cat", str(path)], check=False, capture_output=True, user=65534, group=group, extra_groups=[]
    )
    return done.returncode == 0


def configure(world: SimulatedWorld, group: str) -> None:
    text = world.config.read_text()
    kept = "\n".join(line for line in text.splitlines() if not line.startswith("key_group"))
    world.config.write_text(f'key_group = "{group}"\n{kept}\n' if group else f"{kept}\n")


def test_the_group_reads_the_keys_of_editions_and_nothing_else(world: SimulatedWorld) -> None:
    configure(world, GROUP.gr_name)
    assert world.run("stamp", NAME).status == 0
    key = world.home / "shelf" / NAME / "current" / "key.pem"
    for file in (key, key.with_name("combined.pem")):
        assert rights(file) == (0o640, GROUP.gr_name)
    for folder in (world.home, world.home / "shelf", world.home / "shelf" / NAME, key.resolve().parent):
        assert rights(folder) == (0o710, GROUP.gr_name)
    if os.geteuid() == 0:
        for above in (world.folder, *world.folder.parents):  # which a test's own folders are closed to
            if above.stat().st_uid == 0 and not stat.S_IMODE(above.stat().st_mode) & 0o001:
                above.chmod(stat.S_IMODE(above.stat().st_mode) | 0o001)
        assert can_read(world, key, GROUP.gr_gid)
        assert not can_read(world, key, 65534)
        for other in ("ledger.db", "accounts/quayside.pem"):
            assert not can_read(world, world.home / other, GROUP.gr_gid)
    assert world.run("stamp", NAME, "--reissue").status == 0  # what the group may read is no reason to refuse it
    assert world.run("export", NAME, "--form", "combined", "--into", str(world.folder)).status == 0
    assert rights(key) == (0o640, GROUP.gr_name)
    configure(world, "")
    assert world.run("install", NAME).status == 0
    assert world.run("stamp", NAME, "--reissue").status == 0
    assert rights(key)[0] == 0o600


@pytest.mark.parametrize(("group", "told"), [("no-such-group-here", "there is no group"), ("a b", "is no group")])
def test_a_group_that_is_not_there_is_told_and_leaves_the_key_to_its_owner(
    world: SimulatedWorld, group: str, told: str
) -> None:
    configure(world, group)
    refused = world.run("stamp", NAME)
    assert refused.status == 2
    assert told in refused.flat
    assert world.simulated.state.orders == {}  # before the CA hears of it
    configure(world, "")
    assert world.run("stamp", NAME).status == 0
