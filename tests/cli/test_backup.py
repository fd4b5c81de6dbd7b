"""`backup` and `restore`: what is in them, who can read them, and that nothing is lost on the way."""

import base64
import gzip
import io
import os
import shutil
import sqlite3
import subprocess
import tarfile
import threading
import time
import tracemalloc
from collections.abc import Callable
from contextlib import closing
from datetime import UTC, datetime
from hashlib import sha256
from pathlib import Path

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st
from killing import killed_at
from simulated import NAME, SimulatedWorld
from world import Ran, find_program

from inkstamp.errors import FileTooLarge, FileTrouble
from inkstamp.jobs.backups.archive import FORMAT, Contents, unpack

_PLACES = (9, 14, 19, 24, 29, 34, 39)
"""Where an order is killed: from its beginning to the install."""


def _keys(folder: Path) -> tuple[Path, Path]:
    """An SSH key pair as ssh-keygen makes it."""
    private = folder / "id_ed25519"
    subprocess.run([find_program("ssh-keygen"), "-q", "-t", "ed25519", "-N", "", "-f", str(private)], check=True)
    return private, private.with_suffix(".pub")


def _restored(world: SimulatedWorld, file: Path, place: Path, *more: str) -> Ran:
    place.mkdir(mode=0o700, exist_ok=True)
    return world.run("--config", str(place / "inkstamp.toml"), "restore", str(file), *more)


def _files(folder: Path) -> dict[str, bytes]:
    return {
        str(each.relative_to(folder)): each.read_bytes()
        for each in folder.rglob("*")
        if each.is_file() and "locks" not in each.parts and not each.name.startswith("ledger.db")
    }


def test_a_path_that_cannot_be_looked_at_keeps_no_backup_from_being_made(world: SimulatedWorld) -> None:
    odd = f'[server.odd]\nkind = "nginx"\nmain_file = "/{"a" * 300}/nginx.conf"\n'
    world.config.write_text(f"{world.config.read_text()}\n{odd}")
    done = world.run("backup", str(world.folder / "b.tgz"), "--not-encrypted")
    assert done.status == 0, done.err


def test_a_backup_to_an_ssh_key_moves_everything_to_another_place_and_other_programs_can_open_it(
    world: SimulatedWorld,
) -> None:
    assert world.run("stamp", NAME).status == 0
    private, public = _keys(world.folder)
    file, place = world.folder / "b.age", world.folder / "other"
    made = world.run("backup", str(file), "--public-key", str(public))
    assert (made.status, file.stat().st_mode & 0o777) == (0, 0o600), made.err
    assert world.run("backup", str(file), "--public-key", str(public)).status == 2  # an older one is not lost
    assert _restored(world, file, place).status == 2  # and it is encrypted
    assert list(place.iterdir()) == []

    shown = world.run("restore", str(file), "--private-key", str(private), "--preview", "--json").json["contents"]
    assert (shown["home"], shown["ledger"]) == (str(world.home), True)
    done = _restored(world, file, place, "--private-key", str(private))
    assert done.status == 0, done.err
    assert _files(place / "home") == _files(world.home)
    assert (place / "home" / "shelf" / NAME / "0001" / "key.pem").stat().st_mode & 0o777 == 0o600
    for command in ("status", "why"):
        given = [command, *([NAME] if command == "why" else []), "--json"]
        assert world.run("--config", str(place / "inkstamp.toml"), *given).json == world.run(*given).json
    assert "restored" in world.run("--config", str(place / "inkstamp.toml"), "history").out

    witness = subprocess.run(
        [find_program("age"), "-d", "-i", str(private), str(file)], capture_output=True, check=True
    )
    with tarfile.open(fileobj=io.BytesIO(witness.stdout)) as tar:
        assert {f"home/shelf/{NAME}/0001/key.pem", "home/ledger.db", "config/inkstamp.toml"} <= set(tar.getnames())


def test_a_passphrase_opens_it_and_a_wrong_one_or_another_key_changes_nothing(world: SimulatedWorld) -> None:
    assert world.run("stamp", NAME).status == 0
    right, wrong = world.folder / "right", world.folder / "wrong"
    for each in (right, wrong):
        each.touch(mode=0o600)
        each.write_text(f"high water {each.name}\n")
    file, place = world.folder / "b.age", world.folder / "other"
    assert world.run("backup", str(file), "--passphrase-file", str(right)).status == 0
    assert b"high water" not in file.read_bytes()
    private, _ = _keys(world.folder)
    for option, secret in (("--passphrase-file", wrong), ("--private-key", private)):
        refused = _restored(world, file, place, option, str(secret))
        assert refused.status == 1, refused.out
        assert "cannot decrypt" in refused.err
    assert list(place.iterdir()) == []
    assert _restored(world, file, place, "--passphrase-file", str(right)).status == 0


def test_a_backup_that_would_take_hours_to_decrypt_or_more_disk_than_there_is_is_refused(
    world: SimulatedWorld, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    def line(size: int) -> str:
        return base64.b64encode(os.urandom(size)).decode().rstrip("=")

    header = f"age-encryption.org/v1\n-> scrypt {line(16)} 40\n{line(32)}\n--- {line(32)}\n"
    file, word = world.folder / "slow.age", world.folder / "word"
    file.write_bytes(header.encode() + os.urandom(64))
    word.touch(mode=0o600)
    word.write_text("high water\n")
    began = time.monotonic()
    refused = _restored(world, file, world.folder / "other", "--passphrase-file", str(word))
    assert (refused.status, time.monotonic() - began < 60) == (1, True)
    assert "Excessive work parameter" in refused.flat
    monkeypatch.setattr("inkstamp.jobs.backups.archive._MOST_UNPACKED", 3)
    with pytest.raises(FileTooLarge):
        unpack(_one(_member("home/a"))(), tmp_path, "b.tgz")


def test_a_release_is_rolled_back_with_a_ledger_that_it_can_read(world: SimulatedWorld) -> None:
    assert world.run("stamp", NAME).status == 0
    file = world.folder / "b.tgz"
    assert world.run("backup", str(file), "--not-encrypted").status == 0
    with closing(sqlite3.connect(world.home / "ledger.db")) as database, database:
        database.execute("UPDATE ledger SET version = version + 1")  # as a later release would
    newer = world.run("status")
    assert (newer.status, "newer" in newer.flat) == (1, True)
    assert world.run("backup", str(world.folder / "c.tgz"), "--not-encrypted").status == 1
    assert world.run("restore", str(file), "--replace").status == 0
    assert world.run("status").status == 0
    assert world.run("renew").status == 0


def test_it_has_to_be_said_who_may_read_a_backup(world: SimulatedWorld) -> None:
    file = world.folder / "b.tgz"
    for options in ((), ("--not-encrypted", "--passphrase-file", str(world.config))):
        refused = world.run("backup", str(file), *options)
        assert refused.status == 2
        assert not file.exists()
    assert world.run("backup", str(file), "--public-key", str(world.config)).status == 2
    assert world.run("backup", str(file), "--not-encrypted").status == 0
    inside = world.run("backup", str(world.home / "b.tgz"), "--not-encrypted")
    assert (inside.status, "is in the data directory" in inside.flat) == (2, True)


@pytest.mark.parametrize("number", _PLACES)
def test_an_order_that_was_under_way_goes_on_from_a_backup(world: SimulatedWorld, number: int) -> None:
    _, done = killed_at(number, world.folder / "counts", world.config, ["stamp", NAME])
    assert len(done) == number
    file = world.folder / "b.tgz"
    assert world.run("backup", str(file), "--not-encrypted").status == 0
    shutil.rmtree(world.home)
    world.config.rename(world.folder / "lost.toml")
    restored = world.run("restore", str(file))  # into the place where it was
    assert restored.status == 0, restored.err
    gone_on = world.run("stamp", NAME)
    assert gone_on.status == 0, gone_on.err
    assert world.asked()["new-order"] <= 1
    assert world.served(NAME) == world.edition(NAME, 1)


def test_backups_are_taken_while_certificates_are_ordered_and_each_can_be_restored(world: SimulatedWorld) -> None:
    names = [f"site{each}.saltmarsh.test" for each in range(3)]
    for each in names:
        world.site(each, [each])
    ended: list[Ran] = []

    def order() -> None:
        ended.extend(world.run("stamp", each) for each in names)

    ordering = threading.Thread(target=order)
    ordering.start()
    files: list[Path] = []
    while ordering.is_alive():
        files.append(world.folder / f"{len(files)}.tgz")
        made = world.run("backup", str(files[-1]), "--not-encrypted")
        assert made.status == 0, made.err
    ordering.join()
    assert [each.status for each in ended] == [0] * len(names), [each.err for each in ended]
    for file in files:
        place = world.folder / file.stem
        assert _restored(world, file, place).status == 0
        for each in world.run("--config", str(place / "inkstamp.toml"), "status", "--json").json["certificates"]:
            if each["edition"]:  # what the ledger knows of is on the shelf, with its key
                into = ["--form", "combined", "--into", str(place), "--as", each["name"]]
                assert world.run("--config", str(place / "inkstamp.toml"), "export", each["name"], *into).status == 0


def test_a_restore_that_is_killed_anywhere_leaves_nothing_half_done_and_goes_on(world: SimulatedWorld) -> None:
    assert world.run("stamp", NAME).status == 0
    file, place = world.folder / "b.tgz", world.folder / "other"
    assert world.run("backup", str(file), "--not-encrypted").status == 0
    config, counts = place / "inkstamp.toml", world.folder / "counts"
    place.mkdir(mode=0o700)
    _, places = killed_at(0, counts, _readable(config), ["restore", str(file)])
    for number in range(1, len(places) + 1, 3):
        shutil.rmtree(place)
        place.mkdir(mode=0o700)
        ended, _ = killed_at(number, counts, _readable(config), ["restore", str(file)])
        assert ended.returncode == -9
        if not (place / "home").exists():
            again = _restored(world, file, place)
            assert again.status == 0, again.err
        assert _files(place / "home") == _files(world.home)
        left = {each.name for each in place.iterdir()} - {"home", "inkstamp.toml", "roots.pem", "ca", "web"}
        assert left <= {"web-server", ".home.restoring"}
        assert not any((place / ".home.restoring").rglob("*"))


def _readable(config: Path) -> Path:
    """The killer looks into the configuration for a database; there has to be one, as the backup has it."""
    if not config.exists():
        config.write_bytes((config.parent.parent / "inkstamp.toml").read_bytes())
        config.chmod(0o600)
    return config


def test_what_is_there_is_kept_or_moved_aside(world: SimulatedWorld) -> None:
    assert world.run("stamp", NAME).status == 0
    file = world.folder / "b.tgz"
    assert world.run("backup", str(file), "--not-encrypted").status == 0
    before = _files(world.home)
    refused = world.run("restore", str(file))
    assert refused.status == 2
    assert _files(world.home) == before
    assert world.run("stamp", NAME, "--reissue").status == 0
    world.config.write_text(world.config.read_text() + "# changed since\n")
    assert world.run("restore", str(file), "--replace").status == 0
    assert _files(world.home) == before
    assert "changed since" not in world.config.read_text()
    (aside,) = world.folder.glob("home.before-*")
    assert (aside / "shelf" / NAME / "0002" / "leaf.pem").is_file()
    assert "changed since" in next(world.folder.glob("inkstamp.toml.before-*")).read_text()


def _archive(members: list[tarfile.TarInfo], data: dict[str, bytes], files: dict[str, str]) -> io.BytesIO:
    contents = Contents(format=FORMAT, made=datetime.now(UTC), version="1", host="h", home="/h", configured_home="",
                        config="/c", ledger=False, files=files)  # fmt: skip
    whole = io.BytesIO()
    with tarfile.open(fileobj=whole, mode="w:gz") as tar:
        for each in members:
            tar.addfile(each, io.BytesIO(data.get(each.name, b"")))
        listed = msgspec.json.encode(contents)
        last = tarfile.TarInfo("contents.json")
        last.size = len(listed)
        tar.addfile(last, io.BytesIO(listed))
    whole.seek(0)
    return whole


def _member(name: str, kind: bytes = tarfile.REGTYPE, target: str = "") -> tarfile.TarInfo:
    made = tarfile.TarInfo(name)
    made.type, made.linkname, made.size = kind, target, 4 if kind == tarfile.REGTYPE else 0
    return made


def _through_a_link() -> io.BytesIO:
    evil = {"home/a/passwd": b"evil"}
    members = [_member("home/a", tarfile.SYMTYPE, "../../outside"), _member("home/a/passwd")]
    return _archive(members, evil, {"home/a/passwd": sha256(b"evil").hexdigest(), "home/a": "-> ../../outside"})


def _one(member: tarfile.TarInfo, expected: str = sha256(b"evil").hexdigest()) -> Callable[[], io.BytesIO]:
    return lambda: _archive([member], {member.name: b"evil"}, {member.name: expected})


@pytest.mark.parametrize(
    "made",
    [
        _one(_member("../outside/evil")),
        _one(_member("/tmp/outside/evil")),
        _one(_member("home/../../outside/evil")),
        _one(_member("home/link", tarfile.SYMTYPE, "/etc/passwd"), "-> /etc/passwd"),
        _one(_member("home/link", tarfile.SYMTYPE, "../config/x"), "-> ../config/x"),
        _one(_member("home/hard", tarfile.LNKTYPE, "/etc/passwd")),
        _one(_member("home/device", tarfile.CHRTYPE)),
        _one(_member("home/pipe", tarfile.FIFOTYPE)),
        _one(_member("home/changed"), sha256(b"good").hexdigest()),
        _one(_member("home/\x1b[31m")),
        _through_a_link,
    ],
)
def test_an_archive_of_a_stranger_writes_nothing_outside_and_is_refused(
    tmp_path: Path, made: Callable[[], io.BytesIO]
) -> None:
    outside, into = tmp_path / "outside", tmp_path / "into"
    outside.mkdir()
    into.mkdir()
    with pytest.raises(FileTrouble) as refused:
        unpack(made(), into, "b.tgz")
    assert list(outside.iterdir()) == []
    assert str(refused.value).isprintable()


def _headers(kind: bytes, size: int, data: bytes) -> bytes:
    """A header that another member's would follow."""
    made = tarfile.TarInfo("home/a")
    made.type, made.size = kind, size
    return made.tobuf(tarfile.GNU_FORMAT) + data.ljust(-len(data) % 512 + len(data), b"\0")


def _sparse(key: str, value: str) -> bytes:
    line = f" {key}={value}\n"
    record = f"{len(line) + 2}{line}".encode()
    record = record if len(record) == len(line) + 2 else f"{len(line) + 3}{line}".encode()
    return _headers(tarfile.XHDTYPE, len(record), record) + _headers(tarfile.REGTYPE, 4, b"evil")


@pytest.mark.parametrize(
    "start",
    [
        pytest.param(_headers(tarfile.XHDTYPE, 1 << 32, b""), id="pax header"),
        pytest.param(_headers(tarfile.XGLTYPE, 1 << 32, b""), id="pax header of all"),
        pytest.param(_headers(tarfile.GNUTYPE_LONGNAME, 1 << 32, b""), id="long name"),
        pytest.param(_sparse("GNU.sparse.map", "a,b"), id="map of no numbers"),
        pytest.param(_sparse("size", "-1024"), id="a size below nothing"),
        pytest.param(_headers(tarfile.XHDTYPE, 0, b"") * 100_000, id="headers without end"),
    ],
)
def test_no_header_of_an_archive_takes_memory_or_ends_in_anything_but_an_error_of_ours(
    tmp_path: Path, start: bytes
) -> None:
    whole = io.BytesIO(gzip.compress(start + bytes(1 << 26), 1))
    tracemalloc.start()
    try:
        with pytest.raises(FileTrouble):
            unpack(whole, tmp_path, "b.tgz")
        assert tracemalloc.get_traced_memory()[1] < 1 << 24
    finally:
        tracemalloc.stop()


@given(at=st.integers(0, 10_000), value=st.integers(0, 255), cut=st.booleans())
def test_a_damaged_archive_is_whole_or_refused(
    tmp_path_factory: pytest.TempPathFactory, at: int, value: int, cut: bool
) -> None:
    good = {"home/a": b"evil", "config/b": b"more"}
    members = [_member(each) for each in good]
    plain = gzip.decompress(
        _archive(members, good, {name: sha256(data).hexdigest() for name, data in good.items()}).read()
    )
    at %= len(plain)
    changed = plain[:at] if cut else plain[:at] + bytes([value]) + plain[at + 1 :]
    into = tmp_path_factory.mktemp("damaged")
    try:
        unpack(io.BytesIO(gzip.compress(changed)), into, "b.tgz")
    except FileTrouble:
        return
    assert {str(each.relative_to(into)): each.read_bytes() for each in into.rglob("*") if each.is_file()} == good


def test_keys_that_a_group_may_read_keep_that_and_others_do_not_get_it(tmp_path: Path) -> None:
    member = _member("home/key.pem")
    member.mode, member.gname = 0o4647, "no-such-group"
    unpack(_archive([member], {member.name: b"evil"}, {member.name: sha256(b"evil").hexdigest()}), tmp_path, "b")
    assert os.stat(tmp_path / "home" / "key.pem").st_mode & 0o7777 == 0o600
