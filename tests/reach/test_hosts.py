"""Files and programs on a host: the same on this machine and over SSH; a connection's trouble is told."""

import os
import socket
import stat
import threading
import time
from functools import partial
from pathlib import Path

import pytest
from more_servers import Machine
from world import make_tls_pair

from inkstamp.errors import FileTrouble, ReachTrouble, ServerTrouble
from inkstamp.reach.interface import Host, Rights
from inkstamp.reach.ssh import SshHost

ODD = "it's “odd” $HOME `x` \\n; & <b>"


def test_any_bytes_are_written_and_read_back_under_any_name(host: Host, tmp_path: Path) -> None:
    file = tmp_path / ODD
    file.write_bytes(b"old")
    data = bytes(range(256)) * 40 + b"%s %d \\0 inkstamp-ends 0\n'"
    host.replace(str(file), data)
    assert file.read_bytes() == data
    assert host.read(str(file)) == data
    host.replace(str(file), b"")
    assert host.read(str(file)) == b""
    assert [each.name for each in tmp_path.iterdir()] == [ODD]


def test_a_file_keeps_its_mode_and_a_link_to_it_stays_a_link(host: Host, tmp_path: Path) -> None:
    file, link = tmp_path / "available" / "site", tmp_path / "enabled" / "site"
    for each in (file, link):
        each.parent.mkdir()
    file.write_bytes(b"old")
    file.chmod(0o640)
    link.symlink_to("../available/site")
    host.replace(str(link), b"new")
    assert link.is_symlink()
    assert file.read_bytes() == b"new"
    assert stat.S_IMODE(file.stat().st_mode) == 0o640
    assert [each.name for each in file.parent.iterdir()] == ["site"]


def test_what_is_not_there_is_told_with_its_path(host: Host, tmp_path: Path) -> None:
    for attempt in (lambda: host.read(str(tmp_path / "no")), lambda: host.replace(str(tmp_path / "no"), b"x")):
        with pytest.raises(FileTrouble) as caught:
            attempt()
        assert "no" in caught.value.where
    assert not list(tmp_path.iterdir())


def test_nothing_takes_the_place_of_what_is_no_file(host: Host, tmp_path: Path) -> None:
    pipe, folder = tmp_path / "pipe", tmp_path / "folder"
    os.mkfifo(pipe)
    folder.mkdir()
    for place in (pipe, folder):
        for attempt in (
            partial(host.put, str(place), b"x", Rights(0o600)),
            partial(host.replace, str(place), b"x"),
        ):
            with pytest.raises(FileTrouble):
                attempt()
    assert pipe.is_fifo()
    assert folder.is_dir()
    assert sorted(each.name for each in tmp_path.iterdir()) == ["folder", "pipe"]


def test_patterns_find_files_in_order_and_quote_everything_else(host: Host, tmp_path: Path) -> None:
    folder = tmp_path / "a b'c"
    folder.mkdir()
    for name in ("2.conf", "1 x.conf", "3.bak", "[z].conf"):
        (folder / name).touch()
    assert host.glob(f"{folder}/*.conf") == [f"{folder}/{name}" for name in ("1 x.conf", "2.conf", "[z].conf")]
    assert host.glob(f"{folder}/[0-9]*.conf") == [f"{folder}/1 x.conf", f"{folder}/2.conf"]
    assert host.glob(f"{folder}/none*") == []
    assert host.glob(f"{folder}/[$(touch {tmp_path}/oops)]*") == []
    assert not (tmp_path / "oops").exists()


def test_a_program_runs_without_a_shell_and_says_how_it_ended(host: Host) -> None:
    ran = host.run(["sh", "-c", 'printf "%s|" "$@"; echo err >&2; exit 7', "x", ODD, ""], 10)
    assert (ran.status, ran.output) == (7, f"{ODD}||err")
    assert host.run(["cat"], 10, b"given\x00\xff").output == "given\x00\ufffd"
    assert host.run(["cat"], 10).output == ""
    with pytest.raises(ServerTrouble, match="no-such-program"):
        host.run(["no-such-program"], 10)


def test_folders_are_made_for_all_to_read_and_dropped_when_empty(host: Host, tmp_path: Path) -> None:
    folder = tmp_path / "deep" / "proofs"
    before = os.umask(0o077)
    try:
        assert host.have_folder(str(folder))
    finally:
        os.umask(before)
    assert stat.S_IMODE(folder.stat().st_mode) == 0o755
    assert not host.have_folder(str(folder))
    (folder / "x").touch()
    host.drop_folder(str(folder))
    assert folder.exists()
    (folder / "x").unlink()
    host.drop_folder(str(folder))
    host.drop_folder(str(folder))
    assert not folder.exists()


def test_a_host_knows_its_own_addresses(host: Host) -> None:
    assert host.has_address("127.0.0.1")
    assert host.has_address("::1")
    assert not host.has_address("192.0.2.77")


def test_one_connection_serves_all_requests_of_a_run_and_ends_with_it(machine: Machine, tmp_path: Path) -> None:
    log = machine.folder / "sshd.log"
    before = log.read_text().count("Accepted publickey")
    host = SshHost(f"ssh://127.0.0.1:{machine.port}", config_file=str(machine.client))
    threads = [threading.Thread(target=lambda: host.run(["true"], 10)) for _ in range(3)]
    host.have_folder(str(tmp_path))
    for each in threads:
        each.start()
    for each in threads:
        each.join()
    assert log.read_text().count("Accepted publickey") == before + 1
    folder = host._connection.folder
    host.close()
    assert not folder.exists()
    host.close()  # twice is harmless


def test_a_connection_that_is_lost_in_the_middle_is_told_and_the_next_request_comes_through(
    machine: Machine, tmp_path: Path
) -> None:
    host = SshHost(f"ssh://127.0.0.1:{machine.port}", config_file=str(machine.client))

    def cut() -> None:
        deadline = time.monotonic() + 20
        while not (tmp_path / "begun").exists() and time.monotonic() < deadline:
            time.sleep(0.02)
        machine.cut()

    cutter = threading.Thread(target=cut)
    cutter.start()
    with pytest.raises(ReachTrouble, match="was lost in the middle of a request"):
        host.run(["sh", "-c", f"touch {tmp_path}/begun; sleep 20"], 30)
    cutter.join()
    assert host.run(["true"], 10).status == 0
    host.close()


@pytest.mark.parametrize(
    ("asked", "meanwhile"),
    [
        ("./acme-challenge", 'mkdir "$1" && rmdir "$1" && exit 0'),
        ("./acme-challenge", "exit 1"),
        ("./.inkstamp.*", 'rmdir "$(pwd -P)"'),
    ],
    ids=["after it is made", "before it is entered", "before the file is written"],
)
def test_a_folder_that_another_proof_clears_away_is_made_again_over_ssh(
    machine: Machine, tmp_path: Path, asked: str, meanwhile: str
) -> None:
    root, once, mkdir = tmp_path / "www", tmp_path / "once", machine.folder / "bin" / "mkdir"
    root.mkdir()
    mkdir.write_text(
        f'#!/bin/sh\nPATH=/usr/bin:/bin\ncase "$*" in {asked})\n[ -e {once} ] || {{ touch {once}; {meanwhile}; }} ;;\n'
        'esac\nexec mkdir "$@"\n'
    )
    mkdir.chmod(0o755)
    host = SshHost(f"ssh://127.0.0.1:{machine.port}", config_file=str(machine.client))
    parts = (".well-known", "acme-challenge", "token")
    planted = host.plant(str(root), parts, b"proof")
    mkdir.unlink()
    assert once.exists()
    assert root.joinpath(*parts).read_bytes() == b"proof"
    host.uproot(str(root), parts, planted.made)
    assert list(root.iterdir()) == []
    host.close()


def test_what_takes_too_long_is_given_up(machine: Machine, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("inkstamp.reach.ssh_connection._GRACE", 0.5)
    host = SshHost(f"ssh://127.0.0.1:{machine.port}", config_file=str(machine.client))
    with pytest.raises(ReachTrouble, match="no answer within 1 s"):
        host.run(["sleep", "20"], 1)
    host.close()


def test_with_sudo_everything_goes_through_it_and_a_password_is_never_asked_for(
    machine: Machine, tmp_path: Path
) -> None:
    (tmp_path / "f").write_text("x")
    host = SshHost(f"ssh://127.0.0.1:{machine.port}", config_file=str(machine.client), sudo=True)
    assert host.read(str(tmp_path / "f")) == b"x"
    assert (machine.folder / "sudo.log").read_text().splitlines()[-1] == "-n sh"
    (machine.folder / "sudo-refuses").touch()
    with pytest.raises(ReachTrouble) as caught:
        host.read(str(tmp_path / "f"))
    (machine.folder / "sudo-refuses").unlink()
    assert "a password is required" in caught.value.said
    assert "without a password" in caught.value.advice
    host.close()


def test_a_copy_is_written_with_its_rights_and_through_no_link_of_a_stranger(host: Host, tmp_path: Path) -> None:
    file = tmp_path / "new" / ODD
    host.put(str(file), b"secret", Rights(0o640, str(os.getuid()), str(os.getgid())))
    assert (file.read_bytes(), stat.S_IMODE(file.stat().st_mode)) == (b"secret", 0o640)
    assert host.present(str(file)) == (b"secret", Rights(0o640, str(os.getuid()), str(os.getgid())))
    host.put(str(file), b"", Rights(0o600))
    assert (file.read_bytes(), stat.S_IMODE(file.stat().st_mode)) == (b"", 0o600)
    assert host.present(str(tmp_path / "none")) is None
    assert host.present(str(tmp_path / "none" / "none")) is None
    link = tmp_path / "link"
    link.symlink_to(file)
    for wrong in (link, tmp_path):
        with pytest.raises(FileTrouble):
            host.present(str(wrong))
    host.put(str(link), b"own", Rights(0o600))  # the link is replaced, what it led to is not touched
    assert (link.is_symlink(), file.read_bytes()) == (False, b"")
    with pytest.raises(FileTrouble):
        host.put(str(tmp_path / "x"), b"x", Rights(0o600, "nobody-at-all"))
    if os.geteuid() == 0:
        strange = tmp_path / "strange"
        strange.symlink_to(tmp_path / "new")
        os.chown(strange, 65534, 65534, follow_symlinks=False)
        with pytest.raises(FileTrouble, match="symbolic link"):
            host.put(str(strange / "x"), b"x", Rights(0o600))
    assert sorted(each.name for each in (tmp_path / "new").iterdir()) == [ODD]


def test_files_are_gathered_in_one_request_with_contents_and_whose_they_are(host: Host, tmp_path: Path) -> None:
    contents = {"a.pem": b"", "b c.pem": b"x\n" * 700 + bytes(range(256)), "d.key": b"secret"}
    for name, data in contents.items():
        (tmp_path / name).write_bytes(data)
        (tmp_path / name).chmod(0o640)
    (tmp_path / "folder.pem").mkdir()
    (tmp_path / "link.pem").symlink_to("a.pem")
    owner = (str(os.getuid()), str(os.getgid()))
    found = host.gather([f"{tmp_path}/*.pem", f"{tmp_path}/none", f"{tmp_path}/none*"], contents="all")
    assert {Path(path).name: (each.data, each.rights) for path, each in found.items()} == {
        name: (contents.get(name, b""), Rights(0o640, *owner)) for name in ("a.pem", "b c.pem", "link.pem")
    }
    (key,) = host.gather([f"{tmp_path}/d.key"], contents="none").values()
    assert (key.data, key.rights.mode) == (None, 0o640)


def test_of_a_file_with_certificate_and_key_the_certificate_alone_is_read(host: Host, tmp_path: Path) -> None:
    cert, key = make_tls_pair(tmp_path, "a.test")
    both = tmp_path / "both.pem"
    both.write_bytes(b"a remark\n" + key.read_bytes() + cert.read_bytes() + key.read_bytes() + cert.read_bytes())
    assert host.read_certificates(str(both)) == cert.read_bytes() * 2
    (found,) = host.gather([str(both)], contents="certificates").values()
    assert found.data == cert.read_bytes() * 2
    assert host.read_certificates(str(key)) == b""
    with pytest.raises(FileTrouble):
        host.read_certificates(str(tmp_path / "none"))


def test_a_socket_in_the_file_system_is_talked_to(host: Host, tmp_path: Path) -> None:
    path = tmp_path / "s"
    with socket.socket(socket.AF_UNIX) as listening:
        listening.bind(str(path))
        listening.listen()

        def answer() -> None:
            stream, _ = listening.accept()
            with stream:
                stream.sendall(b"heard " + stream.recv(100))

        answering = threading.Thread(target=answer)
        answering.start()
        assert host.converse(str(path), b"question\n", 10) == b"heard question\n"
        answering.join()
    path.unlink()
    with pytest.raises(ServerTrouble):
        host.converse(str(path), b"question\n", 2)
