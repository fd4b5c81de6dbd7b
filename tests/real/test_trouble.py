"""Trouble, with a real nginx and a real CA: one clear message, the right exit status, and nothing changed."""

import os
import re
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
from world import Ran, World, make_tls_pair, real_world

as_root = pytest.mark.skipif(os.geteuid() != 0, reason="only root can do this to a file system")


@pytest.fixture(scope="module")
def world(tmp_path_factory: pytest.TempPathFactory) -> Iterator[World]:
    with real_world(tmp_path_factory.mktemp("trouble")) as made:
        made.add_authority()
        made.site("steady", ["steady.saltmarsh.test"])
        assert made.run("stamp", "steady.saltmarsh.test", "--as", "steady").status == 0
        yield made


def snapshot(world: World) -> dict[str, bytes]:
    """All bytes that trouble must not change: configuration, web server files, document roots, shelf."""
    folders = [world.nginx.folder / "sites", world.folder / "www", world.home / "shelf"]
    files = [world.config, *(each for folder in folders for each in folder.rglob("*") if each.is_file())]
    return {str(each): each.read_bytes() for each in files}


@contextmanager
def nothing_changes(world: World, *, orders: int | None = 0) -> Iterator[None]:
    """Hold that no file of note is changed, the live site serves on, and the CA opened just `orders` orders."""
    before, orders_before, served = snapshot(world), world.ca.orders(), world.served("steady.saltmarsh.test")
    yield
    assert snapshot(world) == before
    assert world.left_behind() == []
    assert world.served("steady.saltmarsh.test") == served
    if orders is not None:
        assert world.ca.orders() - orders_before == orders


def assert_told(done: Ran, status: int, *words: str) -> None:
    assert done.status == status, done.out + done.err
    assert "Traceback" not in done.err
    flat = re.sub(r"\s+", " ", done.err)
    assert flat.count("inkstamp: ") + flat.count(": the ") >= 1
    for word in words:
        assert word in flat, f"“{word}” is not in: {flat}"


def test_a_name_that_no_server_has(world: World) -> None:
    world.nameserver.table["nobody.saltmarsh.test"] = ["127.0.0.1"]
    with nothing_changes(world):
        done = world.run("stamp", "nobody.saltmarsh.test", "--as", "nobody")
        told = "no virtual host of server “front” answers for nobody.saltmarsh.test"
        assert_told(done, 1, told, "inkstamp survey")


def test_a_name_that_has_no_address(world: World) -> None:
    world.site("lost", ["lost.saltmarsh.test"])
    del world.nameserver.table["lost.saltmarsh.test"]
    with nothing_changes(world):
        assert_told(
            world.run("stamp", "lost.saltmarsh.test", "--as", "lost"), 1, "NXDOMAIN", "make an A or AAAA record"
        )


def test_a_document_root_that_is_missing(world: World) -> None:
    root = world.site("rootless", ["rootless.saltmarsh.test"])
    (root / "index.html").unlink()
    root.rmdir()
    with nothing_changes(world):
        assert_told(
            world.run("stamp", "rootless.saltmarsh.test", "--as", "rootless"),
            1,
            "cannot open the document root",
            str(root),
        )


@as_root
def test_a_document_root_that_cannot_be_written(world: World) -> None:
    root = world.site("sealed", ["sealed.saltmarsh.test"])
    subprocess.run(["mount", "-t", "tmpfs", "-o", "ro", "none", str(root)], check=True)
    try:
        with nothing_changes(world):
            assert_told(
                world.run("stamp", "sealed.saltmarsh.test", "--as", "sealed"), 1, "cannot write below the document root"
            )
    finally:
        subprocess.run(["umount", str(root)], check=True)


def test_a_customers_link_in_the_document_root(world: World) -> None:
    root = world.site("sly", ["sly.saltmarsh.test"])
    target = world.folder / "precious"
    target.mkdir()
    (root / ".well-known").symlink_to(target)
    try:
        done = world.run("stamp", "sly.saltmarsh.test", "--as", "sly")
        assert_told(done, 1, "is a symbolic link", "no link of a customer's is followed", "remove “.well-known”")
        assert list(target.iterdir()) == []
    finally:
        (root / ".well-known").unlink()


def test_port_80_answered_by_another_machine(world: World) -> None:
    world.site("moved", ["moved.saltmarsh.test"], address="127.0.0.1")
    world.nameserver.table["moved.saltmarsh.test"] = ["127.0.0.7"]
    other = world.folder / "other-machine"
    other.mkdir()
    (other / "nginx.conf").write_text(
        f"pid {other}/pid; error_log {other}/log; events {{}}\n"
        + ("user root;\n" if os.geteuid() == 0 else "")
        + f"http {{ access_log off; client_body_temp_path {other}/c; proxy_temp_path {other}/p; fastcgi_temp_path "
        f"{other}/f; uwsgi_temp_path {other}/u; scgi_temp_path {other}/s; server {{ listen 127.0.0.7:"
        f"{world.nginx.http_port}; location / {{ return 200 'Welcome to the old host'; }} }} }}\n"
    )
    command = [world.nginx.program, "-p", str(other), "-c", str(other / "nginx.conf")]
    subprocess.run(command, check=True, capture_output=True)
    validations = world.ca.log.read_text().count("Attempting to validate")
    try:
        done = world.run("stamp", "moved.saltmarsh.test", "--as", "moved")
    finally:
        subprocess.run([*command, "-s", "stop"], check=True, capture_output=True)
    assert_told(done, 1, "the CA was not asked", "moved.saltmarsh.test at 127.0.0.7: answers 200",
                "Welcome to the old host", "correct the A record in DNS")  # fmt: skip
    assert world.ca.log.read_text().count("Attempting to validate") == validations
    assert world.left_behind() == []
    # the record is corrected: the same order goes on
    orders = world.ca.orders()
    world.nameserver.table["moved.saltmarsh.test"] = ["127.0.0.1"]
    assert world.run("stamp", "moved").status == 0
    assert world.ca.orders() == orders


def test_a_ca_that_rejects_the_proof(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    """The CA sees another world than we do: split DNS."""
    world.site("split", ["split.saltmarsh.test"])
    ours = world.folder / "split.toml"
    # we look through a second nameserver that knows the name, the CA's own does not
    from inkstamp.standins.nameserver import Nameserver
    from inkstamp.standins.ports import free_ports

    (port,) = free_ports(1)
    ours.write_text(re.sub(r'resolver = "[^"]*"', f'resolver = "127.0.0.1:{port}"', world.config.read_text()))
    del world.nameserver.table["split.saltmarsh.test"]
    with Nameserver(port, {"split.saltmarsh.test": ["127.0.0.1"]}):
        done = world.run("stamp", "split.saltmarsh.test", "--as", "split", "--config", str(ours))
        assert_told(done, 1, "the CA refused to issue for split.saltmarsh.test", "split.saltmarsh.test:", "fix ")
        assert world.left_behind() == []
        status = world.run("status", "--json", "--config", str(ours)).json
        state = {each["name"]: each["state"] for each in status["certificates"]}
        assert state["split"] == "refused"
        history = world.run("history", "split", "--config", str(ours)).out
        assert "refused" in history
    assert not (world.home / "shelf" / "split").exists()


@as_root
def test_a_full_disk_while_the_edition_is_written_loses_nothing_and_the_next_run_goes_on(world: World) -> None:
    world.site("full", ["full.saltmarsh.test"])
    shelf = world.home / "shelf" / "full"
    shelf.mkdir(mode=0o700)
    subprocess.run(["mount", "-t", "tmpfs", "-o", "size=4k,mode=700", "none", str(shelf)], check=True)
    certificates = world.ca.certificates()
    try:
        done = world.run("stamp", "full.saltmarsh.test", "--as", "full")
        assert_told(done, 1, "No space left on device", "free some space")
        assert list(shelf.iterdir()) == []
    finally:
        subprocess.run(["umount", str(shelf)], check=True)
    assert b"ssl" not in (world.nginx.folder / "sites" / "full.conf").read_bytes()
    assert world.run("stamp", "full").status == 0
    assert world.ca.certificates() == certificates + 1


def test_a_web_server_configuration_that_was_broken_before(world: World) -> None:
    world.site("early", ["early.saltmarsh.test"])
    broken = world.nginx.sites_file("server { listen 80; no_such_directive on; }", "z-broken")
    try:
        with nothing_changes(world):
            done = world.run("stamp", "early.saltmarsh.test", "--as", "early")
            assert_told(done, 1, "broken already", "no_such_directive", "nothing was changed")
        broken.write_text("server { listen 80;")
        with nothing_changes(world):
            assert_told(world.run("stamp", "early.saltmarsh.test", "--as", "early"), 1, "broken already")
            assert_told(world.run("survey"), 1, "is not closed", "z-broken.conf, line 1")
    finally:
        broken.unlink()


@contextmanager
def nginx_replaced(world: World, script: str) -> Iterator[Path]:
    """Put a program in nginx's place that passes on to the real one what `script` does not take."""
    program = world.folder / "nginx-in-trouble"
    program.write_text(f'#!/bin/sh\n{script}\nexec {world.nginx.program} "$@"\n')
    program.chmod(0o755)
    config = world.folder / "in-trouble.toml"
    config.write_text(
        re.sub(r'program = "[^"]*"', f'program = "{program}"', world.config.read_text())
        + '\n[certificate.doubtful]\nnames = ["doubtful.saltmarsh.test"]\nauthority = "quayside"\nvia = "front"\n'
        'install = ["front"]\n'
    )
    yield config


REFUSES_OURS = """case "$*" in *-t*) if grep -rq doubtful/current "$2/sites"; then
echo "nginx: [emerg] it does not like this" >&2; exit 1; fi ;; esac"""
IGNORES_RELOAD = 'case "$*" in *reload*) exit 0 ;; esac'
FAILS_RELOAD = """case "$*" in *reload*) echo 'nginx: [error] invalid PID number ""' >&2; exit 1 ;; esac"""


@pytest.mark.parametrize(
    ("script", "told"),
    [
        (REFUSES_OURS, ["refuses the new configuration", "it does not like this"]),
        (IGNORES_RELOAD, ["still serves another certificate", "after the reload"]),
        (FAILS_RELOAD, ["could not be reloaded", "invalid PID number"]),
    ],
    ids=["refuses our configuration", "reload without effect", "reload fails"],
)
def test_an_install_that_fails_puts_every_byte_back(world: World, script: str, told: list[str]) -> None:
    """The first time an edition is ordered; each later try installs that one and asks the CA nothing."""
    world.site("doubtful", ["doubtful.saltmarsh.test"])
    with nginx_replaced(world, script) as config:
        site = world.nginx.folder / "sites" / "doubtful.conf"
        before, listing = site.read_bytes(), site.stat().st_mode
        done = world.run("--config", str(config), "stamp", "doubtful")
        assert_told(done, 1, *told, "all files are restored", "needs no new order")
        assert (site.read_bytes(), site.stat().st_mode) == (before, listing)
        assert not (world.home / "shelf" / "doubtful" / "current").exists()
        assert world.left_behind() == []
        with nothing_changes(world):
            assert world.run("--config", str(config), "stamp", "doubtful").status == 1
        status = world.run("--config", str(config), "status").out
        assert "not installed" in status
        assert "inkstamp stamp doubtful" in status
        assert "rolled back" in world.run("--config", str(config), "history", "doubtful").out
    context = subprocess.run(world.nginx.command("-t"), capture_output=True, check=False)
    assert context.returncode == 0


def test_a_ca_that_cannot_be_reached_or_is_not_trusted(world: World) -> None:
    def add(name: str, directory: str, *more: str) -> Ran:
        return world.run("authority", "add", name, "--directory", directory, "--agree-terms", *more)

    stranger, _ = make_tls_pair(world.folder, "stranger.test")
    with nothing_changes(world):
        assert_told(add("down", "https://localhost:1/dir"), 1, "cannot reach the CA at localhost:1", "refused")
        assert_told(add("lost", "https://no-such-host.test/dir"), 1, "its name cannot be looked up")
        assert_told(add("odd", world.directory), 1, "is not trusted", "--trust FILE")
        assert_told(add("odd", world.directory, "--trust", str(stranger)), 1, "is not trusted")
        assert_told(add("odd", world.directory, "--trust", "/nowhere.pem"), 2, "cannot load the roots")
        assert_told(add("plain", "http://localhost/dir"), 2, "is not https")
        trust = ("--trust", str(world.trust))
        assert_told(add("odd", world.directory.replace("/dir", "/nothing"), *trust), 1, "404")
        unwilling = world.run("authority", "add", "odd", "--directory", world.directory, *trust)
        assert_told(unwilling, 2, "terms of service of “odd” are not agreed to", "--agree-terms")


def test_wrong_use_is_told_before_anything_is_done(world: World) -> None:
    with nothing_changes(world):
        assert_told(world.run("stamp", "not a name"), 2, "is not a domain name")
        assert_told(world.run("stamp", "*.saltmarsh.test"), 2, "cannot validate the wildcard")
        assert_told(
            world.run("stamp", "x.saltmarsh.test", "--as", "x", "--authority", "quay"),
            2,
            "no authority “quay”",
            "quayside",
        )
        assert_told(world.run("stamp", "x.saltmarsh.test", "--as", "x", "--via", "back"), 2, "no server “back”")
        assert_told(world.run("stamp", "steady", "--key", "rsa-2048"), 2, "configured already")
        assert_told(world.run("stamp", "steady.saltmarsh.test", "new.saltmarsh.test"), 2, "add new.saltmarsh.test")
        assert_told(world.run("renew", "nothing"), 2, "there is no certificate “nothing”", "steady")
        assert_told(world.run("authority", "add", "absent"), 2, "there is no authority “absent” yet")
        assert_told(world.run("check", "nothing"), 2, "neither a configured certificate nor a domain name")
        assert_told(world.run("stmap", "x"), 2, "did you mean `inkstamp stamp`?")
        assert world.run("stamp").status == 2
        assert world.run("renew", "--at-once", "0").status == 2


def test_a_configuration_with_a_mistake_or_none_at_all(world: World) -> None:
    bad = world.folder / "bad.toml"
    bad.write_text(world.config.read_text().replace("directory =", "directry ="))
    line = next(n for n, text in enumerate(bad.read_text().splitlines(), 1) if "directry" in text)
    for command in (["status"], ["stamp", "steady"], ["survey"]):
        done = world.run("--config", str(bad), *command)
        assert_told(done, 2, "unknown key “directry”", f"line {line}", "did you mean “directory”?")
    assert "authority.quayside: unknown key “directry”" in world.run("--config", str(bad), "renew", "--preview").err
    nowhere = {"INKSTAMP_HOME": str(world.folder / "untouched")}
    for command in (["status"], ["renew"], ["stamp", "a.test"]):
        done = world.run("--config", "/nowhere/x.toml", *command, env=nowhere)
        assert_told(done, 2, "cannot read the configuration", "--config")
    assert world.run("--config", "/nowhere/x.toml", "history", env=nowhere).out == "nothing is recorded yet\n"
    assert not (world.folder / "untouched").exists()


def test_a_secret_that_others_can_read_is_refused(world: World) -> None:
    secret = world.home / "accounts" / "quayside.pem"
    secret.chmod(0o640)
    try:
        done = world.run("stamp", "steady", "--reissue")
        assert_told(done, 2, "holds a secret and its mode is 0640", f"chmod 600 {secret}")
        secret.chmod(0o600)
        content = secret.read_bytes()
        secret.write_bytes(b"not a key")
        assert_told(world.run("stamp", "steady", "--reissue"), 2, "does not hold a private key")
        secret.write_bytes(content)
    finally:
        secret.chmod(0o600)
    assert world.run("stamp", "steady").status == 0


def test_a_second_run_on_the_same_certificate_is_told_to_wait(world: World) -> None:
    import fcntl

    with (world.home / "locks" / "certificate-steady").open("r+") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        assert_told(world.run("stamp", "steady", "--reissue"), 1, "another run is at work", "wait for it")


def test_a_name_of_the_virtual_host_that_would_lose_its_certificate_is_told(world: World) -> None:
    names = ["one.saltmarsh.test", "two.saltmarsh.test"]
    world.site("pair", names)
    assert world.run("stamp", *names, "--as", "pair").status == 0
    with nothing_changes(world):
        done = world.run("stamp", "one.saltmarsh.test", "--as", "single", "--install", "front")
        assert_told(done, 1, "also serves two.saltmarsh.test", "add two.saltmarsh.test")
