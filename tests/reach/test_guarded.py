"""A document root belongs to a customer: no link of theirs leads a write, a read or a removal elsewhere.

The same holds on this machine and on another one over SSH.
"""

import itertools
import os
import stat
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from inkstamp.errors import FileTrouble
from inkstamp.reach.interface import Host
from inkstamp.reach.local import LocalHost

PARTS = (".well-known", "acme-challenge", "tok")
CUSTOMER = 12345


def test_a_proof_is_readable_to_all_whatever_the_umask_and_leaves_no_trace(host: Host, tmp_path: Path) -> None:
    before = os.umask(0o077)
    try:
        missing = host.missing_folders(str(tmp_path), PARTS)
        planted = host.plant(str(tmp_path), PARTS, b"proof")
    finally:
        os.umask(before)
    assert missing == planted.made == (0, 1)
    file = tmp_path.joinpath(*PARTS)
    assert file.read_bytes() == b"proof"
    assert stat.S_IMODE(file.stat().st_mode) == 0o644
    assert stat.S_IMODE(file.parent.stat().st_mode) == 0o755
    host.uproot(planted.root, planted.parts, planted.made)
    assert list(tmp_path.iterdir()) == []
    host.uproot(planted.root, planted.parts, planted.made)  # again, after a crash: harmless


def test_proofs_of_many_orders_in_one_document_root_are_not_in_each_others_way(host: Host, tmp_path: Path) -> None:
    def prove(number: int) -> None:
        for turn in range(5):
            parts = (*PARTS[:2], f"token-{number}-{turn}")
            host.plant(str(tmp_path), parts, b"proof")
            assert tmp_path.joinpath(*parts).read_bytes() == b"proof"
            host.uproot(str(tmp_path), parts, (0, 1))

    with ThreadPoolExecutor(6) as pool:
        list(pool.map(prove, range(6)))
    assert list(tmp_path.iterdir()) == []


def test_a_folder_that_goes_away_before_the_next_one_is_made_in_it_is_made_again(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    make, asked = os.mkdir, itertools.count()

    def gone_once(part: str, mode: int = 0o777, *, dir_fd: int | None = None) -> None:
        if next(asked) == 1:
            os.rmdir(tmp_path / PARTS[0])
        make(part, mode, dir_fd=dir_fd)

    monkeypatch.setattr(os, "mkdir", gone_once)
    planted = LocalHost().plant(str(tmp_path), PARTS, b"proof")
    assert tmp_path.joinpath(*PARTS).read_bytes() == b"proof"
    assert planted.made == (0, 1)


def test_folders_that_were_there_or_hold_something_else_stay(host: Host, tmp_path: Path) -> None:
    (tmp_path / ".well-known").mkdir()
    planted = host.plant(str(tmp_path), PARTS, b"proof")
    assert planted.made == (1,)
    other = tmp_path / ".well-known" / "acme-challenge" / "other"
    other.write_text("someone else's")
    host.uproot(planted.root, planted.parts, planted.made)
    assert other.read_text() == "someone else's"
    other.unlink()
    host.uproot(planted.root, planted.parts, planted.made)
    assert [each.name for each in tmp_path.iterdir()] == [".well-known"]


@pytest.mark.parametrize("depth", [0, 1])
def test_a_link_planted_in_place_of_a_folder_is_refused_and_its_target_untouched(
    host: Host, tmp_path: Path, depth: int
) -> None:
    target = tmp_path / "etc"
    target.mkdir()
    root = tmp_path / "www"
    (root / PARTS[0] if depth else root).mkdir(parents=True)
    root.joinpath(*PARTS[: depth + 1]).symlink_to(target)
    for attempt in (lambda: host.plant(str(root), PARTS, b"x"), lambda: host.check_root(str(root), PARTS)):
        with pytest.raises(FileTrouble, match="symbolic link"):
            attempt()
    assert list(target.iterdir()) == []
    (target / PARTS[-1]).write_text("precious")
    host.uproot(str(root), PARTS, (0, 1))
    assert (target / PARTS[-1]).read_text() == "precious"


def test_a_link_planted_in_place_of_the_file_is_replaced_and_not_followed(host: Host, tmp_path: Path) -> None:
    target = tmp_path / "passwd"
    target.write_text("precious")
    folder = tmp_path / "www" / PARTS[0] / PARTS[1]
    folder.mkdir(parents=True)
    (folder / PARTS[2]).symlink_to(target)
    host.plant(str(tmp_path / "www"), PARTS, b"proof")
    assert target.read_text() == "precious"
    assert (folder / PARTS[2]).read_bytes() == b"proof"
    assert not (folder / PARTS[2]).is_symlink()


def test_a_file_in_the_place_of_a_folder_is_told_and_kept(host: Host, tmp_path: Path) -> None:
    (tmp_path / ".well-known").write_text("a file")
    with pytest.raises(FileTrouble, match="not a folder"):
        host.plant(str(tmp_path), PARTS, b"x")
    assert (tmp_path / ".well-known").read_text() == "a file"


def test_a_link_of_our_own_on_the_way_to_the_root_is_followed(host: Host, tmp_path: Path) -> None:
    (tmp_path / "release-7").mkdir()
    (tmp_path / "live").symlink_to("release-7")
    (tmp_path / "deep").mkdir()
    (tmp_path / "deep" / "there").symlink_to("../live")
    for root in ("live", "deep/there"):
        host.plant(str(tmp_path / root), PARTS, b"proof")
        assert tmp_path.joinpath("release-7", *PARTS).read_bytes() == b"proof"
    (tmp_path / "round").symlink_to("round")
    with pytest.raises(FileTrouble, match="too many"):
        host.check_root(str(tmp_path / "round"), PARTS)


def test_a_missing_root_or_one_that_cannot_be_written_is_told_beforehand(host: Host, tmp_path: Path) -> None:
    with pytest.raises(FileTrouble, match=r"document root|there is no “gone”"):
        host.check_root(str(tmp_path / "gone"), PARTS)
    host.check_root(str(tmp_path), PARTS)
    assert list(tmp_path.iterdir()) == []


@pytest.mark.needs_root
@pytest.mark.skipif(os.geteuid() != 0, reason="only root can give files to a customer")
@pytest.mark.parametrize("who_owns", ["link", "folder", "loose folder"])
def test_as_root_a_customers_link_on_the_way_to_the_root_is_refused(host: Host, tmp_path: Path, who_owns: str) -> None:
    target = tmp_path / "etc"
    target.mkdir()
    home = tmp_path / "customer"
    home.mkdir()
    link = home / "www"
    link.symlink_to(target)
    if who_owns == "link":
        os.lchown(link, CUSTOMER, CUSTOMER)
    elif who_owns == "folder":
        os.chown(home, CUSTOMER, CUSTOMER)
    else:
        home.chmod(0o777)
    with pytest.raises(FileTrouble, match="a customer controls"):
        host.plant(str(link), PARTS, b"x")
    host.uproot(str(link), PARTS, (0, 1))
    assert list(target.iterdir()) == []
