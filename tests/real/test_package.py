"""The Debian package and the wheel, and users without root: with dpkg, sudo, cron and man themselves."""

import hashlib
import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from own_machine import OwnMachine, own_machine, rebuilt
from world import World

from inkstamp import __version__
from inkstamp.cli.main import COMMANDS

ROOT = Path(__file__).resolve().parent.parent.parent
_SOURCES = ("pyproject.toml", "hatch_build.py", "src", "tools/man_pages.py", "README.md", "LICENSE", "CHANGELOG.md",
            "SECURITY.md", "docs", "examples")  # fmt: skip
LIBRARIES = "opt/inkstamp/lib/python*/site-packages"
GONE = "opt/inkstamp/lib/python3.11/site-packages/inkstamp/gone.py"
"""What an older release had; of the libraries it had few."""
UNITS = [f"/usr/lib/systemd/system/inkstamp-renew.{each}" for each in ("service", "timer")]
pytestmark = pytest.mark.skipif(os.geteuid() != 0, reason="needs root: it installs packages")


def _build(tree: Path, out: Path, *more: str, env: dict[str, str] | None = None) -> None:
    build = [sys.executable, "-m", "build", "-q", "--no-isolation", *more, "--outdir", str(out), str(tree)]
    ran = subprocess.run(build, capture_output=True, text=True, check=False, env={**os.environ, **(env or {})})
    assert ran.returncode == 0, ran.stderr


@pytest.fixture(scope="module")
def package(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("deb")
    _build(ROOT, folder, "--wheel")
    (wheel,) = folder.glob("*.whl")
    ran = subprocess.run(
        [str(ROOT / "tools" / "build-deb"), str(folder)], capture_output=True, text=True, check=False,
        env={**os.environ, "WHEEL": str(wheel), "DPKG_DEB_COMPRESSOR_TYPE": "none"},
    )  # fmt: skip
    assert ran.returncode == 0, ran.stderr
    return Path(ran.stdout.strip().splitlines()[-1])


@pytest.fixture(scope="module")
def machine(package: Path, tmp_path_factory: pytest.TempPathFactory) -> Iterator[OwnMachine]:
    """A machine that was given an older release, a configuration, and then this one."""
    folder = tmp_path_factory.mktemp("machine")
    older = rebuilt(package, folder, "0.0.9", more=[(GONE, "")], less=[f"{LIBRARIES}/[!i]*/"])
    with own_machine(folder) as made:
        made.must("dpkg", "-i", str(older))
        made.must("test", "-e", f"/{GONE}")
        made.must("sh", "-c", "echo '[renewal]' > /etc/inkstamp/inkstamp.toml; chmod 600 /etc/inkstamp/inkstamp.toml")
        made.must("dpkg", "-i", str(package))
        yield made


def test_the_package_is_installed_and_upgraded_with_all_that_belongs_to_it(machine: OwnMachine) -> None:
    assert machine.run("test", "-e", f"/{GONE}").status == 1
    assert machine.must("cat", "/etc/inkstamp/inkstamp.toml") == "[renewal]\n"
    assert machine.must("inkstamp", "--version") == f"inkstamp {__version__}\n"
    assert machine.must("stat", "-c", "%a %U", "/etc/inkstamp").strip() == "700 root"
    assert "inkstamp" in machine.must("getent", "passwd", "inkstamp")
    assert "0 checked, 0 renewed" in machine.must("inkstamp", "renew")
    shown = machine.must("man", "-w", *(f"inkstamp-{each}" for each in COMMANDS), "inkstamp")
    assert len(shown.splitlines()) == len(COMMANDS) + 1
    machine.must("systemd-analyze", "verify", "--man=no", *UNITS)
    offered = machine.must("bash", "-c", ". /usr/share/bash-completion/completions/inkstamp; complete -p inkstamp")
    assert "inkstamp" in offered


def test_a_user_without_root_renews_and_may_do_no_more_as_root_than_reload(machine: OwnMachine, world: World) -> None:
    world.site("rowing")
    machine.must("useradd", "renewer")
    for each in (world.folder, *world.folder.parents):
        if each.name.startswith("pytest-of-"):
            machine.must("chmod", "-R", "go+rX", str(each))
    machine.must("chown", "-R", "renewer", str(world.folder))
    env = {"INKSTAMP_CONFIG": str(world.config)}
    names = ("rowing.saltmarsh.test", "www.rowing.saltmarsh.test")

    refused = machine.run("inkstamp", "stamp", *names, user="renewer", env=env)
    assert refused.status == 1
    assert "cannot be reloaded by this user" in refused.flat
    assert "run it as root, or set sudo = true" in refused.flat

    machine.must("inkstamp", "server", "change", "front", "sudo=true", user="renewer", env=env)
    told = machine.run("inkstamp", "stamp", *names, user="renewer", env=env)
    assert (told.status, "sudo does not run a command of the server for this user" in told.flat) == (1, True)
    printed = machine.must("inkstamp", "schedule", "print", "--cron", user="renewer", env=env)
    rules = printed.split("# /etc/sudoers.d/inkstamp, for root to write\n")[1]
    machine.must("sh", "-c", "umask 337; cat > /etc/sudoers.d/inkstamp", data=rules)
    machine.must("visudo", "-cf", "/etc/sudoers.d/inkstamp")
    done = machine.run("inkstamp", "stamp", *names, user="renewer", env=env)
    assert done.status == 0, done.flat
    assert world.served(names[0]) == world.edition(names[0], 1)
    assert machine.run("sudo", "-n", "cat", "/etc/shadow", user="renewer").status == 1

    put = machine.run("inkstamp", "schedule", "put", "--cron", user="renewer", env=env)
    assert (put.status, "neither systemd nor a cron daemon runs here" in put.flat) == (1, True)
    entry = machine.must("crontab", "-l", user="renewer")
    assert f"--home {world.home} renew" in entry
    assert machine.must("sh", "-c", "crontab -l | wc -l", user="renewer").strip() == "4"
    machine.must("sh", "-c", "(echo '5 5 * * * true'; crontab -l) | crontab -", user="renewer")
    machine.run("inkstamp", "schedule", "put", "--cron", user="renewer", env=env)  # which changes nothing
    assert machine.must("crontab", "-l", user="renewer") == f"5 5 * * * true\n{entry}"
    machine.must("inkstamp", "schedule", "remove", user="renewer", env=env)
    assert machine.must("crontab", "-l", user="renewer") == "5 5 * * * true\n"

    home = str(world.home)
    machine.must("mount", "--bind", home, home)
    machine.must("mount", "-o", "remount,bind,ro", home)
    for command in (("status",), ("status", "--healthy"), ("why", names[0]), ("history",), ("calendar",)):
        looked = machine.run("inkstamp", *command, user="renewer", env=env)
        assert looked.status == 0, looked.flat
    assert "ok" in machine.must("inkstamp", "check", names[0], user="renewer", env=env)
    assert machine.run("inkstamp", "stamp", names[0], "--reissue", user="renewer", env=env).status == 1


def test_a_package_is_purged_and_no_key_goes_with_it(machine: OwnMachine) -> None:
    machine.must("sh", "-c", "mkdir -p /var/lib/inkstamp/shelf; touch /var/lib/inkstamp/shelf/key.pem")
    told = machine.must("dpkg", "--purge", "inkstamp")
    assert "/var/lib/inkstamp is left, with keys and certificates" in told
    assert machine.run("ls", "/opt/inkstamp", "/usr/bin/inkstamp", UNITS[0]).out == ""
    machine.must("test", "-e", "/etc/inkstamp/inkstamp.toml")
    machine.must("test", "-e", "/var/lib/inkstamp/shelf/key.pem")


def test_the_same_sources_make_the_same_wheel_and_sdist(tmp_path: Path) -> None:
    digests = []
    for number in ("1", "2"):
        tree, out = tmp_path / f"tree{number}", tmp_path / f"out{number}"
        tree.mkdir()
        for each in _SOURCES:
            (tree / each).parent.mkdir(exist_ok=True)
            if (ROOT / each).is_dir():
                shutil.copytree(ROOT / each, tree / each)
            else:
                shutil.copyfile(ROOT / each, tree / each)
        for file in tree.rglob("*.py"):
            os.utime(file, (1_700_000_000 + int(number) * 3600,) * 2)
        _build(tree, out, env={"TZ": f"Etc/GMT+{number}"})
        digests.append({file.name: hashlib.sha256(file.read_bytes()).hexdigest() for file in out.iterdir()})
    assert digests[0] == digests[1]
    assert len(digests[0]) == 2
