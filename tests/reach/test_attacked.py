"""A folder's owner exchanges files and folders while root works there: nothing outside of the folder is ever touched.

The attackers are processes of an ordinary user, who do to the names in a folder of theirs what they like, as fast as
they can. The same holds on this machine and on another one over SSH.
"""

import os
import stat
import time
from collections.abc import Callable, Sequence
from contextlib import suppress

import pytest
from attackers import CUSTOMER, SECRET, Ground, attacker
from more_servers import open_folder

from inkstamp.errors import FileTrouble
from inkstamp.reach.interface import Host, Rights

NEW = b"new contents"
SECONDS = {"here": 0.7, "over ssh": 1.6}

pytestmark = [
    pytest.mark.needs_root,
    pytest.mark.skipif(os.geteuid() != 0, reason="only root has something to give away"),
]


RIGHTS = Rights(0o640, str(CUSTOMER), str(CUSTOMER))
WORK: dict[str, Callable[[Host, Ground], object]] = {
    "put": lambda host, ground: host.put(str(ground.file), NEW, RIGHTS),
    "replace": lambda host, ground: host.replace(str(ground.file), NEW),
    "remove": lambda host, ground: host.remove(str(ground.file)),
    "plant": lambda host, ground: host.plant(str(ground.home), ("site", "keys", "file"), NEW),
    "uproot": lambda host, ground: host.uproot(str(ground.home), ("site", "keys", "file"), (0, 1)),
    "have a folder": lambda host, ground: host.have_folder(str(ground.folder / "file" / "deep")),
    "drop a folder": lambda host, ground: host.drop_folder(str(ground.folder / "file")),
}


@pytest.mark.parametrize("work", [*WORK, "present"])
def test_whatever_is_exchanged_while_root_works_in_a_strangers_folder_nothing_outside_of_it_is_touched(
    host: Host, request: pytest.FixtureRequest, work: str
) -> None:
    with open_folder() as top:
        ground = Ground(top)
        done: Sequence[object] = []
        end = time.monotonic() + SECONDS[request.node.callspec.params["host"]]
        with attacker(ground.spam_links), attacker(ground.exchange):
            while time.monotonic() < end:
                with suppress(FileTrouble):  # it may well fail; what it must not do is succeed elsewhere
                    if work == "present":
                        done = [*done, host.present(str(ground.file))]
                    else:
                        WORK[work](host, ground)
                assert ground.state() == ground.before
        assert not any(SECRET in each[0] for each in done if isinstance(each, tuple))
        left = [each for each in ground.home.rglob("*") if each.lstat().st_uid == 0 and ".inkstamp" in each.name]
        assert left == []
        for each in ground.home.rglob("*"):  # nobody was given root's file, nor a link to it that counts as his
            assert not stat.S_ISREG(each.lstat().st_mode) or SECRET not in each.read_bytes()


def test_what_is_written_into_a_quiet_folder_has_its_rights_from_the_first_moment_on(host: Host) -> None:
    with open_folder() as top:
        ground = Ground(top)
        host.put(str(ground.file), NEW, RIGHTS)
        known = ground.file.stat()
        assert (ground.file.read_bytes(), known.st_uid, stat.S_IMODE(known.st_mode)) == (NEW, CUSTOMER, 0o640)
        host.replace(str(ground.file), b"newer")
        known = ground.file.stat()
        assert (ground.file.read_bytes(), known.st_uid, stat.S_IMODE(known.st_mode)) == (b"newer", CUSTOMER, 0o640)
        assert host.present(str(ground.file)) == (b"newer", RIGHTS)
        host.remove(str(ground.file))
        assert list(ground.folder.iterdir()) == []
        host.put(str(ground.file), NEW, RIGHTS)
        own = ground.prize / "link"
        own.symlink_to(ground.victim)
        host.replace(str(own), SECRET)  # a link of root's own, in root's own folder, leads to the file that is meant
        assert own.is_symlink()
        theirs = ground.folder / "link"
        theirs.symlink_to(ground.victim)
        os.lchown(theirs, CUSTOMER, CUSTOMER)
        with pytest.raises(FileTrouble, match="customer"):
            host.replace(str(theirs), NEW)
        assert ground.victim.read_bytes() == SECRET
